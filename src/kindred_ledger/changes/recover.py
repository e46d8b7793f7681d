"""Recovering: what was cut off is finished or unwound, whichever way, never left between."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Collection, Iterator
from contextlib import ExitStack

from msgspec import Struct

from ..errors import KindredError, PlaceBusy
from ..ledger import Ledger
from ..places import remove_tree
from .backend import Backend
from .backends import backend_of
from .engine import close, finish, unwind
from .journal import STAGING, Journal, unfinished

__all__ = ["Recovered", "recover"]


class Recovered(Struct, frozen=True):
    """What was done about one change that was cut off.

    `outcome` is "finished" (the place is as intended), "taken back" (as before) or "running".

    >>> [(each.id, each.outcome) for each in kl.recover(ledger)]
    []
    """

    id: str
    places: tuple[str, ...]
    outcome: str
    reason: str = ""


def recover(
    ledger: Ledger, *, back: bool = False, roots: Collection[str] | None = None
) -> list[Recovered]:
    """Finish every unfinished change that can be, or take all back if `back`.

    A change that was cut off before all it needs was durable had touched nothing and is dropped. With `roots`
    only changes of these folders are looked at, so that others may be at work on other places.

    Raises:
        PlaceError: the system refuses; doing it again is safe.

    >>> kl.recover(ledger)
    []
    """
    return [done for name in unfinished(ledger) for done in _recover_one(ledger, name, back, roots)]


def _recover_one(
    ledger: Ledger, name: str, back: bool, roots: Collection[str] | None
) -> Iterator[Recovered]:
    journal = Journal.read(ledger, name)
    if roots is not None and (journal is None or not {*journal.roots.values()} & {*roots}):
        return
    if journal is None:  # cut off before the journal: nothing was even staged
        remove_tree(os.path.join(ledger.folder("work"), name))
        return
    places = tuple(journal.roots.values())
    backend = backend_of(journal.place(ledger), ledger, journal.id)
    with ExitStack() as locks:
        try:
            locks.enter_context(backend.hold())
        except PlaceBusy:
            yield Recovered(journal.id, places, "running", "it is still at work")
            return
        yield _carry_out(journal, backend, ledger, back)


def _carry_out(journal: Journal, backend: Backend, ledger: Ledger, back: bool) -> Recovered:
    places = tuple(journal.roots.values())
    if ledger.has_record(journal.id):
        close(journal, backend, ledger)
        return Recovered(journal.id, places, "finished", "only the clearing up was left")
    if journal.state == STAGING:
        close(journal, backend, ledger)
        return Recovered(journal.id, places, "taken back", "nothing had been changed yet")
    reason = "you asked for it"
    if not back:
        try:
            finish(journal, backend, ledger)
            return Recovered(journal.id, places, "finished", "everything needed was there")
        except KindredError as error:
            reason = f"it could not be finished: {error.what}"
    with contextlib.suppress(FileNotFoundError):
        os.remove(journal.record_path)
    unwind(journal, backend, ledger)
    return Recovered(journal.id, places, "taken back", reason)
