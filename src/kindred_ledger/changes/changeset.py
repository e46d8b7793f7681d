"""Changeset: what shall change in a place, and why, path by path.

A changeset is a value: operations compute it and write nothing; applying it is the only way a
file of the user's is ever changed.
"""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from ..ledger import Ledger
from ..progress import Progress
from .consent import check_consent, check_running
from .engine import Applied, apply_changeset
from .plan import Plan
from .unkept import NOT_RECORDED, ledger_for

__all__ = ["Changeset"]


class Changeset(Plan, frozen=True, dict=True):
    """A computed change of one place; its fields are those of `Plan`.

    >>> change = kl.update(install, "downloads/mossferry-2.0.zip", ledger=ledger)
    >>> change.preview().totals()["changed"], change.conflicts
    (67, ())
    >>> done = change.apply(ledger)
    >>> done.statements[0].counted_before, done.statements[0].counted_after
    (206, 214)
    """

    def apply(
        self,
        ledger: Ledger,
        *,
        allow_loss: bool | Sequence[str] = False,
        while_running: bool = False,
        group: str = "",
        progress: Progress | None = None,
    ) -> Applied:
        """Make the change: keep what it touches, then all of it or nothing.

        Where nothing is there yet, nothing has to be kept: then a ledger that cannot be written to will
        do, and the change is in no history.

        `allow_loss` consents to every loss, or to those of some codes, `CODE` or `CODE:PATTERN` of paths.
        Changes of one `group`, a name of the caller's, can be taken back together: see `undo_group`.

        Raises:
            UsageError: `allow_loss` names a loss that this change does not have.
            DecisionNeeded, LossNotAllowed: consent is missing, or a program runs from the place and
                `while_running` is False; nothing was written.
            UnsafeName: the place cannot hold what would arrive; nothing was written.
            PlaceBusy, PlaceChanged, PlaceError: the place is as it was before.
            BooksUnbalanced: the result is not what was planned; the place is as it was before.
        """
        check_consent(self, allow_loss=allow_loss)
        if not while_running:
            check_running(self)
        with ledger_for(self, ledger) as writable:
            done = apply_changeset(self, writable, group=group, progress=progress or Progress())
        if writable is ledger:
            return done
        return replace(done, findings=(*done.findings, NOT_RECORDED))
