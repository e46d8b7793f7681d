"""Changes of which nothing has to be kept: into an empty folder, beside a ledger that cannot be written to.

What is stored can be brought back from a disk that can only be read, or that is full. The change goes
through the same engine, with a ledger of its own that is gone afterwards: it is in no history.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager

from ..finding import Finding
from ..ledger import Ledger
from .plan import Plan

__all__ = ["NOT_RECORDED", "ledger_for", "scratch_ledger"]

NOT_RECORDED = Finding.warning(
    "not-recorded", "the ledger cannot be written to, so this change is not in its history"
)


@contextmanager
def scratch_ledger(folder: str | None = None) -> Iterator[Ledger]:
    """Give a ledger in a folder of its own, which goes after the block; None: among the system's."""
    with tempfile.TemporaryDirectory(
        prefix="ledger-", dir=folder, ignore_cleanup_errors=True
    ) as holder:
        scratch = Ledger.open(os.path.join(holder, "ledger"))
        try:
            yield scratch
        finally:
            scratch.index.close()


@contextmanager
def ledger_for(change: Plan, ledger: Ledger) -> Iterator[Ledger]:
    """Give the ledger that a change is made with: `ledger`, or a scratch one where that will do."""
    if change.before or change.keep_whole or ledger.storage.is_writable():
        yield ledger
        return
    with scratch_ledger() as scratch:
        yield scratch
