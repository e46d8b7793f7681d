"""A change inside an archive is a change of the one file it is."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Iterable, Iterator

from msgspec.structs import replace

from ..errors import UsageError
from ..ledger import Ledger
from ..places import (
    DIR,
    FILE,
    FilePlace,
    FolderPlace,
    ZipPlace,
    refusals,
    rewrite_zip,
    scan,
)
from .actions import Action
from .books import balance
from .plan import Plan

__all__ = ["as_file_changeset"]


@contextlib.contextmanager
def as_file_changeset(changeset: Plan, ledger: Ledger) -> Iterator[Plan]:
    """Rewrite the archive into the ledger's work folder; yield the change that puts it in place.

    The archive is kept whole, so that undoing the change gives back the very same bytes.

    Raises:
        UsageError: a link would come into the archive.
    """
    place = changeset.place
    assert isinstance(place, ZipPlace)
    file = FilePlace(place.path)
    with tempfile.TemporaryDirectory(
        prefix="archive-", dir=ledger.folder("work"), ignore_cleanup_errors=True
    ) as folder:  # what stands does not fail because of what could not be tidied up
        rewritten = os.path.join(folder, file.name)
        with refusals(rewritten), open(rewritten, "wb") as out:
            put = {a.path: a.after for a in changeset.actions if a.after is not None}
            if any(node.kind not in (FILE, DIR) for node in put.values()):
                raise UsageError("a zip archive holds no links", where=place.location)
            rewrite_zip(
                place.path,
                out,
                remove=[a.path for a in changeset.actions if a.after is None],
                put=put,
                content=_Contents(changeset).blocks,
            )
        statements, findings = balance(changeset, scan(ZipPlace(rewritten)))
        scratch = FolderPlace(folder)
        before, made = scan(file), scan(scratch)[file.name]
        after = made._replace(mtime_ns=0, mode=before[file.name].mode)
        action = Action(
            file.name, before[file.name], after, scratch, file.name, "the archive is rewritten"
        )
        yield replace(
            changeset,
            place=file,
            before=before,
            actions=(action,),
            offered=None,
            statements=statements,
            findings=(*changeset.findings, *findings),
        )


class _Contents:
    """The new members' contents, by their path in the archive."""

    def __init__(self, changeset: Plan) -> None:
        self._actions = {action.path: action for action in changeset.actions}

    def blocks(self, path: str) -> Iterable[bytes]:
        action = self._actions[path]
        if action.source is not None:
            for _, blocks in action.source.read([action.source_path]):
                yield from blocks
