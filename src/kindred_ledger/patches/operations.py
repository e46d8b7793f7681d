"""The operation that applies a patch set, or a plain delta."""

from __future__ import annotations

import os

from ..changes import Changeset
from ..errors import UsageError
from ..formats.vcdiff import MAGIC
from ..places import FilePlace, FolderPlace, Place, open_place
from ..planning.context import Context
from ..planning.operation import Operation
from .applying import apply_delta, apply_patch
from .patch_set import PatchSet, is_patch_set

__all__ = ["ApplyPatch", "opened_for", "patched_place"]


class ApplyPatch(Operation, frozen=True, tag="patch"):
    """Apply a patch set, or a plain VCDIFF file, to a file or folder; see `apply_patch`.

    `result` names one of the results of the set; `out` is a name for it beside the file.
    """

    patches: str
    what: str
    result: str = ""
    out: str = ""

    def compute(self, context: Context) -> Changeset:
        if _is_delta(self.patches):
            if not os.path.isfile(self.what):
                raise UsageError("there is no such file", where=self.what, remedy="Check the path.")
            file, name = _file(self.what, self.out)
            return apply_delta(
                self.patches,
                file,
                name,
                ledger=context.ledger,
                to=self.out,
                progress=context.progress,
            )
        found = opened_for(self.patches, self.what)
        place, name = patched_place(found, self.what, self.out)
        if not isinstance(place, FolderPlace):
            raise UsageError(
                "a patch is applied to a file or a folder",
                where=self.what,
                remedy="Unpack it first.",
            )
        return apply_patch(
            found,
            place,
            ledger=context.ledger,
            output=self.result,
            name=name,
            to=self.out,
            scratch=context.scratch("patched"),
            progress=context.progress,
        )


def opened_for(patches: str, what: str) -> PatchSet:
    """Open a patch set that is meant for a file or folder.

    Raises:
        UsageError: one of them is not there, or no patch set.
    """
    if not os.path.exists(what):
        raise UsageError("there is no such file or folder", where=what, remedy="Check the path.")
    if not is_patch_set(patches):
        if os.path.isfile(what) and (is_patch_set(what) or _is_delta(what)):
            raise UsageError(
                "the patch and what it is for were given the wrong way round",
                where=patches,
                remedy=f"The patch comes first: {what} {patches}",
            )
        raise UsageError(
            "this is no patch set, nor a .vcdiff file",
            where=patches,
            remedy="Check the path; to see what it is: kindred file identify FILE.",
        )
    return PatchSet.open(patches)


def patched_place(patches: PatchSet, what: str, to: str = "") -> tuple[Place, str]:
    """Return the place that is meant, and the file in it: its folder if it gets a neighbour.

    Raises:
        UsageError: the set is for a file, and that is none.
    """
    if patches.is_single:
        if not os.path.isfile(what):
            raise UsageError(
                "the patch set is for a single file", where=what, remedy="Name the file itself."
            )
        return _file(what, to)
    return open_place(what), ""


def _file(what: str, to: str) -> tuple[FolderPlace, str]:
    folder, name = os.path.split(os.path.abspath(what))
    return FolderPlace(folder) if to else FilePlace(what), name


def _is_delta(path: str) -> bool:
    if not os.path.isfile(path):
        return False
    with open(path, "rb") as file:
        return file.read(len(MAGIC)) == MAGIC
