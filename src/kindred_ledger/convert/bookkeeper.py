"""The bookkeeper: accounts for every leaf of a document through its conversion.

Steps tell why; what happened is read off the documents: each leaf of the source is looked for by
its origin among the leaves of the result. A leaf that is gone without a reason gets no line, and
the books do not balance.
"""

from __future__ import annotations

from ..formats import Document, Leaf, Path, format_path
from ..statement import Line, Outcome, Statement

__all__ = ["Bookkeeper"]


class Bookkeeper:
    """Collects reasons while steps run, then draws up the statement."""

    def __init__(self) -> None:
        self._reasons: dict[Path, list[str]] = {}
        self._dropped: dict[Path, str] = {}
        self.losses: list[tuple[str, str]] = []

    def explain(self, document: Document, path: Path, reason: str) -> None:
        """Note why the leaves at or below a path change."""
        for leaf in list(document.leaves(path)):
            if leaf.origin is not None:
                self._reasons.setdefault(leaf.origin, []).append(reason)

    def drop(self, document: Document, path: Path, reason: str, *, loss: bool) -> None:
        """Note why the leaves at or below a path are left out."""
        for leaf in list(document.leaves(path)):
            if leaf.origin is not None:
                self._dropped[leaf.origin] = reason
                if loss:
                    self.losses.append((format_path(leaf.origin), f"{leaf.text}: {reason}"))

    def statement(self, subject: str, source: Document, result: Document) -> Statement:
        """Return the lines for every leaf of `source` (as read) and `result` (as edited)."""
        known = {leaf.path for leaf in source.leaves()}
        arrived: dict[Path, list[Leaf]] = {}
        lines: list[Line] = []
        for leaf in result.leaves():
            if leaf.origin not in known:  # new, or a container that lost all it held
                reason = leaf.note or "left empty"
                lines.append(Line(Outcome.ADDED, leaf.name, reason))
            else:
                arrived.setdefault(leaf.origin or (), []).append(leaf)
        here = {leaf.path[:depth] for leaf in result.leaves() for depth in range(len(leaf.path))}
        for leaf in source.leaves():
            found = arrived.get(leaf.path)
            if found:
                lines.append(self._arrived(leaf, found.pop(0)))
            elif leaf.path in self._dropped:
                lines.append(Line(Outcome.DROPPED, leaf.name, self._dropped[leaf.path]))
            elif leaf.value in ({}, []) and leaf.path in here:
                lines.append(Line(Outcome.DROPPED, leaf.name, "it is no longer empty"))
        return Statement(subject, "fields", tuple(lines))

    def _arrived(self, before: Leaf, after: Leaf) -> Line:
        reason = "; ".join(dict.fromkeys(self._reasons.get(before.path, ())))
        if before.path == after.path and before.text == after.text:
            return Line(Outcome.KEPT, before.name)
        became = after.name if after.name != before.name else ""
        return Line(Outcome.CHANGED, before.name, reason, became)
