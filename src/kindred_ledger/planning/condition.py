"""Condition: what is odd about an install as it stands, before anything is done with it."""

from __future__ import annotations

from ..cards import Install, axis_versions, out_of_step
from ..finding import Finding
from ..ledger import Ledger
from ..places import roots_of, running_in
from .trial_copies import copies_under_test

__all__ = ["condition_of"]


def condition_of(install: Install, ledger: Ledger | None = None) -> tuple[Finding, ...]:
    """Return what is odd: evidence that disagrees, a change that was cut off, programs that run from it.

    With a `ledger`, copies that were placed for a test, too.
    """
    from ..changes import unfinished_in  # what only compares needs nothing of it

    where = install.place.location
    found = []
    if not install.agreed:
        what = "the evidence disagrees about the version: a half-done update?"
        found.append(Finding.warning("version-disputed", what, where=where))
    if install.version is None:
        found.append(Finding.warning("version-unknown", "nothing tells the version", where=where))
    found += out_of_step(install.card, axis_versions(install))
    found += unfinished_in(install.place)
    found += (
        Finding.warning("in-use", f"in use by {program}", where=where)
        for program in running_in(roots_of(install.place).values())
    )
    if ledger is not None:
        found += copies_under_test(install, ledger)
    return tuple(found)
