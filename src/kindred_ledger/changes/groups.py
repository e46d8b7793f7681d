"""Groups: changes that were made together, taken back together: all of them, or none."""

from __future__ import annotations

from collections.abc import Sequence

from ..errors import KindredError, PlaceError, UsageError
from ..ledger import Ledger, Record, not_undone
from ..progress import Progress
from .engine import Applied
from .undo import undo

__all__ = ["take_back", "undo_group"]


def undo_group(
    group: str,
    *,
    ledger: Ledger,
    allow_loss: bool | Sequence[str] = False,
    while_running: bool = False,
    progress: Progress | None = None,
) -> list[Applied]:
    """Take back the changes of a group that still stand, the newest first; return what was done.

    They may be of different places. What is done is a group of its own, `undo GROUP`, so that it can be
    taken back in the same way. If one of them cannot be taken back, those that were are made again.

    Raises:
        UsageError: no change of that group stands.
        KindredError: as `Changeset.apply`; every place is as it was before.
        PlaceError: one could not be made again; the message names it.

    >>> new = "downloads/mossferry-2.0.zip"
    >>> done = kl.update(install, new, ledger=ledger).apply(ledger, group="evening")
    >>> [each.record.operation for each in kl.undo_group("evening", ledger=ledger)]
    ['undo']
    """
    standing = [record for record in not_undone(ledger.records()) if record.group == group]
    if not standing:
        known = sorted({record.group for record in ledger.records() if record.group})
        raise UsageError(
            f"no change of the group {group!r} stands",
            remedy=f"There are: {', '.join(known)}." if known else "No change is of a group.",
        )
    return take_back(
        standing,
        ledger=ledger,
        group=f"undo {group}",
        allow_loss=allow_loss,
        while_running=while_running,
        progress=progress,
    )


def take_back(
    records: Sequence[Record],
    *,
    ledger: Ledger,
    group: str,
    allow_loss: bool | Sequence[str] = False,
    while_running: bool = False,
    progress: Progress | None = None,
) -> list[Applied]:
    """Take changes back that still stand, the newest first, as a group; return what was done.

    Raises:
        KindredError: as `undo_group`.
    """
    done: list[Applied] = []
    try:
        for record in reversed(records):
            change = undo(record.id, ledger=ledger, progress=progress)
            allowed = allow_loss if isinstance(allow_loss, bool) or change.losses else False
            done.append(
                change.apply(
                    ledger,
                    allow_loss=allowed,
                    while_running=while_running,
                    group=group,
                    progress=progress,
                )
            )
    except BaseException as error:
        _make_again(ledger, done, error)
        raise
    return done


def _make_again(ledger: Ledger, done: list[Applied], error: BaseException) -> None:
    """Make changes again that were taken back."""
    for applied in reversed(done):
        try:
            undo(applied, ledger=ledger).apply(ledger, while_running=True)
        except KindredError as second:
            raise PlaceError(
                f"the group could not be taken back ({error}), nor made again what was: {second}",
                where=second.where,
                remedy=f"Nothing is lost. Put right what refused, then run: kindred undo {applied.record.id}",
            ) from error
