"""Reading files that are small when they are what they should be: cards, layouts, settings, journals.

What has their name may be anything: a pipe that nobody writes to, a device without end.
"""

from __future__ import annotations

import errno
import os
import stat
from typing import BinaryIO

__all__ = ["open_regular", "read_small"]

_FLAGS = (
    os.O_RDONLY
    | getattr(os, "O_BINARY", 0)
    | getattr(os, "O_CLOEXEC", 0)
    | getattr(os, "O_NONBLOCK", 0)  # what is a pipe must not be waited for
)


def open_regular(path: str, *, buffering: int = -1) -> BinaryIO:
    """Open a file to read.

    Raises:
        OSError: as the system says; EINVAL, if it is no file but a pipe or device.
    """
    opener = lambda name, _: os.open(name, _FLAGS)  # noqa: E731
    file = open(path, "rb", buffering=buffering, opener=opener)  # noqa: SIM115  # closed by the caller
    if not stat.S_ISREG(os.fstat(file.fileno()).st_mode):
        file.close()
        raise OSError(errno.EINVAL, "it is no regular file", path)
    return file


def read_small(path: str, *, most: int) -> bytes:
    """Return what a file of up to `most` bytes holds.

    Raises:
        OSError: as `open_regular`; EFBIG, if it is larger.
    """
    with open_regular(path, buffering=0) as file:
        data = file.read(most + 1)
    if len(data) > most:
        raise OSError(errno.EFBIG, f"it is larger than {most / 1e6:,.0f} MB", path)
    return data
