"""Work that the collector of cycles would only slow down: it walks all that was made, again and again."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager

__all__ = ["undisturbed"]


@contextmanager
def undisturbed() -> Iterator[None]:
    """Keep the collector away while much is made that has no cycles: nodes, records, lines of books.

    It took 40% of the time for a save of 200 KB.
    """
    if not gc.isenabled():
        yield
        return
    gc.disable()
    try:
        yield
    finally:
        gc.enable()
