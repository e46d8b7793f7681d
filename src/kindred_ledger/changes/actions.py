"""Action: what happens to one path."""

from __future__ import annotations

from msgspec import Struct

from ..places import Node, Place, Tree, same_content
from ..statement import Outcome

__all__ = ["Action", "actions_between"]


class Action(Struct, frozen=True):
    """One path: what stands there, what shall stand there, where its content comes from, and why.

    `before` None means nothing is there yet, `after` None that it shall go. `source` gives the
    content under `source_path`; None for folders, links, removals and changes of time or mode.

    >>> change = kl.update(install, "downloads/mossferry-2.0.zip", ledger=ledger)
    >>> action = change.actions[0]
    >>> action.path, action.before is None, action.reason
    ('program/build.json', False, 'replaced; the old release is not known')
    """

    path: str
    before: Node | None
    after: Node | None
    source: Place | None = None
    source_path: str = ""
    reason: str = ""

    @property
    def outcome(self) -> Outcome:
        """What a statement of the place says of this path."""
        if self.before is None:
            return Outcome.ADDED
        if self.after is None:
            return Outcome.REMOVED
        return Outcome.UNCHANGED if same_content(self.before, self.after) else Outcome.CHANGED


def actions_between(
    before: Tree, after: Tree, source: Place, *, reason: str, metadata: bool = True
) -> list[Action]:
    """Return the actions that turn one tree into the other, contents taken from `source`.

    `metadata` False leaves paths alone that differ in time or mode only.
    """
    return [
        Action(d.path, d.before, d.after, source, d.path, reason)
        for d in before.diff(after)
        if metadata or d.status != "touched"
    ]
