"""Processes of this machine for a fleet: begun fresh, and gone with the one that gives them work.

What always holds: none is a copy of a process with threads, which could wait for ever for a lock that one of
them held; none outlives the process that it works for, also where that was killed.
"""

from __future__ import annotations

import os
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context, parent_process
from threading import Thread

__all__ = ["process_pool"]


def process_pool(workers: int) -> ProcessPoolExecutor:
    """Return an executor of so many processes; use it in a program under `if __name__ == "__main__":`.

    >>> from kindred_ledger.migrate import process_pool
    >>> with process_pool(2) as executor:
    ...     executor.submit(abs, -3).result()
    ...
    3
    """
    return ProcessPoolExecutor(
        workers, mp_context=get_context("spawn"), initializer=_end_with_parent
    )


def _end_with_parent() -> None:
    """In a worker: end when the process that gives it work was killed."""

    def watch() -> None:
        parent = parent_process()
        assert parent is not None
        parent.join()
        os._exit(1)

    Thread(target=watch, daemon=True).start()
