"""Markers: small files that tell a title, or who looks into its folder, something: that a move is under way.

What always holds: a file that was not written as a marker is never taken away, nor overwritten.
"""

from __future__ import annotations

from blake3 import blake3

from ..cards import Install
from ..changes import Changeset, fitted
from ..errors import UsageError
from ..finding import Finding
from ..ledger import Ledger, not_undone
from ..places import FILE, Node, check_portable, roots_of
from ..planning.rearranged import Rearranged
from ..progress import Progress

__all__ = ["remove_marker", "write_marker"]

_WRITE, _REMOVE = "write marker", "remove marker"


def write_marker(
    install: Install,
    path: str,
    text: str,
    *,
    ledger: Ledger,
    progress: Progress | None = None,
) -> Changeset:
    r"""Compute the change that writes a small text file into an install; its folders are made, too.

    A file that stands there with other content is a conflict, unless it is a marker of this program.

    Raises:
        UsageError: the path is none inside the install, or its location is not there.

    >>> change = kl.write_marker(install, "program/moving.txt", "To 2.0 since tonight.\n", ledger=ledger)
    >>> [(action.path, str(action.outcome)) for action in change.actions]
    [('program/moving.txt', 'added')]
    """
    path, now = _place_of(install, path), ledger.scan(install.place, progress=progress)
    made = Rearranged(install.place, now)
    data = text.encode()
    there = now.get(path)
    findings = []
    if there is None or there.digest != blake3(data).digest():
        made.put(path, data, "the marker")
        if there is not None and not _is_marker(install, path, there, ledger):
            findings.append(_theirs(path, "a file of this name is there, which is no marker"))
    return _changed(install, made, _WRITE, f"write {path}", findings)


def remove_marker(
    install: Install, path: str, *, ledger: Ledger, progress: Progress | None = None
) -> Changeset:
    """Compute the change that removes a marker; one that was changed since is a conflict.

    Raises:
        UsageError: the path is none inside the install.

    >>> marked = kl.write_marker(install, "program/moving.txt", "To 2.0.", ledger=ledger).apply(ledger)
    >>> [action.path for action in kl.remove_marker(install, "program/moving.txt", ledger=ledger).actions]
    ['program/moving.txt']
    """
    path, now = _place_of(install, path), ledger.scan(install.place, progress=progress)
    made = Rearranged(install.place, now)
    there = now.get(path)
    findings = []
    if there is not None:
        made.remove(path, "the marker goes")
        if not _is_marker(install, path, there, ledger):
            findings.append(_theirs(path, "this is not as a marker was written"))
    return _changed(install, made, _REMOVE, f"remove {path}", findings)


def _changed(
    install: Install, made: Rearranged, operation: str, summary: str, findings: list[Finding]
) -> Changeset:
    return fitted(
        Changeset(
            place=install.place,
            operation=operation,
            summary=summary,
            before=made.before,
            actions=made.actions(),
            tag=install.tag,
            version_after=install.tag.version,
            findings=tuple(findings),
        )
    )


def _place_of(install: Install, path: str) -> str:
    """Return a path as it is in the tree of an install.

    Raises:
        UsageError: it leads out of it, or to a location that is not there.
    """
    found = path.strip("/")
    check_portable(found, where=install.place.location)
    if found.partition("/")[0] not in roots_of(install.place) or "/" not in found:
        raise UsageError(
            f"{path} is no path inside the install",
            where=install.place.location,
            remedy="Begin it with a location of the card, such as program/ or user/.",
        )
    return found


def _theirs(path: str, what: str) -> Finding:
    return Finding.conflict("occupied", what, where=path, remedy="Move it away first.")


def _is_marker(install: Install, path: str, there: Node, ledger: Ledger) -> bool:
    """Tell whether a file is as it was last written as a marker."""
    here = roots_of(install.place)
    for record in reversed(not_undone(ledger.records())):
        if record.operation == _WRITE and dict(record.roots) == here:
            node = ledger.record(record.id).after.get(path)
            if node is not None and node.kind == FILE and node.digest == there.digest:
                return True
    return False
