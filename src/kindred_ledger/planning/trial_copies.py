"""Test copies: what was placed by hand, through this program, to try something out.

A copy hides what is installed as long as it is there, and is easily forgotten. It is a change of the history
with an operation of its own, so who placed it and when is known, and undoing it removes no more than that.
"""

from __future__ import annotations

import os
from collections.abc import Sequence

from ..cards import PROGRAM, Install
from ..changes import Action, Changeset, fitted
from ..errors import UsageError
from ..finding import Finding
from ..ledger import Ledger, Record, not_undone
from ..places import FILE, AnyPlace, FilePlace, FolderPlace, Place, Tree, as_place, look, roots_of
from ..progress import Progress

__all__ = ["OPERATION", "copies_under_test", "place_test_copy"]

OPERATION = "test copy"


def place_test_copy(
    install: Install,
    source: AnyPlace,
    at: str,
    *,
    ledger: Ledger,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that places a copy for a test: a file, or a folder with all in it.

    `at` is the folder of the install it goes into, such as `program/mods`. What is there stays: a file of the
    same name is a conflict. To end the test, undo the change.

    Raises:
        UsageError: there is no such part of the install.

    >>> change = kl.place_test_copy(install, "server/tables.xml", "program/data", ledger=ledger)
    >>> [action.path for action in change.actions]
    ['program/data/tables.xml']
    """
    folder = at.strip("/")
    part = folder.partition("/")[0]
    if part not in roots_of(install.place):
        parts = ", ".join(roots_of(install.place))
        raise UsageError(f"{at!r} begins with no part of the install", remedy=f"Parts: {parts}.")
    opened, name = _opened(source)
    now = ledger.scan(install.place, progress=progress)
    tree = ledger.scan(opened, progress=progress)
    top = f"{folder}/{name}" if name else folder
    placed = Tree({f"{top}/{path}": node for path, node in tree.items()})
    start = f"{top}/"
    actions, findings = [], []
    for path, node in placed.items():
        there = now.get(path)
        if there is None and path not in (folder, *_above(folder)):
            inner = path[len(start) :] if path.startswith(start) else ""
            source_of = opened if node.kind == FILE else None
            actions.append(Action(path, None, node, source_of, inner, "placed for a test"))
        elif there is not None and there.kind == FILE:
            told = "there is a file of this name, which a test copy would not hide but replace"
            remedy = "Place the copy elsewhere, or give it another name."
            findings.append(Finding.conflict("occupied", told, where=path, remedy=remedy))
    hidden = [
        f"{action.path} hides {over}"
        for action in actions
        if (over := install.card.updates.hidden_by(action.path)) and over in now
    ]
    if hidden:
        shown = ", ".join(hidden[:3]) + (" …" if len(hidden) > 3 else "")
        findings.append(Finding.note("file-hides", f"as long as the test lasts: {shown}"))
    return fitted(
        Changeset(
            place=install.place,
            operation=OPERATION,
            summary=f"place {name or opened.location} in {folder} for a test",
            before=now,
            actions=tuple(actions),
            tag=install.tag,
            findings=tuple(findings),
        )
    )


def _opened(source: AnyPlace) -> tuple[Place, str]:
    """Return what is to be placed, and the folder it makes; "" for a single file."""
    if isinstance(source, (str, os.PathLike)) and os.path.isfile(os.fspath(source)):
        return FilePlace(source), ""
    place = as_place(source)
    return place, os.path.basename(place.location) if isinstance(place, FolderPlace) else ""


def _above(folder: str) -> list[str]:
    parts = folder.split("/")
    return ["/".join(parts[:number]) for number in range(1, len(parts))]


def copies_under_test(install: Install, ledger: Ledger) -> tuple[Finding, ...]:
    """Return which copies for a test are still there: what, who placed it, when, and how to end the test.

    >>> kl.place_test_copy(install, "server/tables.xml", "program/data", ledger=ledger).apply(ledger)
    <Applied ...>
    >>> print(kl.copies_under_test(install, ledger)[0].what)
    a copy placed for a test, on ... by ...
    """
    roots = dict(roots_of(install.place))
    found = []
    for header in not_undone(ledger.records()):
        if header.operation != OPERATION or dict(header.roots).get(PROGRAM) != roots.get(PROGRAM):
            continue
        record = ledger.record(header.id)
        there = _still_there(install, record)
        if there:
            when, who = record.when[:10], record.machine or "this machine"
            told = f"a copy placed for a test, on {when} by {who}"
            hidden = [over for path in there if (over := install.card.updates.hidden_by(path))]
            told += f"; it hides {hidden[0]}" if hidden else ""
            remedy = f"To end the test: kindred undo {record.id}"
            found.append(Finding.warning("test-copy", told, where=there[0], remedy=remedy))
    return tuple(found)


def _still_there(install: Install, record: Record) -> Sequence[str]:
    placed = [path for path in record.after.files if path not in record.before]
    return list(look(install.place, placed).files)
