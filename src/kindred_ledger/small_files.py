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


def open_regular(path: str, *, buffering: int = -1, follow: bool = True) -> BinaryIO:
    """Open a file to read; one that a link leads to only if `follow`.

    Raises:
        OSError: as the system says; EINVAL, if it is no file but a pipe or device, or a link.
    """
    flags = _FLAGS if follow else _FLAGS | getattr(os, "O_NOFOLLOW", 0)
    opener = lambda name, _: os.open(name, flags)  # noqa: E731
    try:
        file = open(path, "rb", buffering=buffering, opener=opener)  # noqa: SIM115  # closed by the caller
    except OSError as error:
        if follow or error.errno != errno.ELOOP:
            raise
        raise OSError(errno.EINVAL, "it is a link", path) from error
    if not stat.S_ISREG(os.fstat(file.fileno()).st_mode):
        file.close()
        raise OSError(errno.EINVAL, "it is no regular file", path)
    return file


def read_small(path: str, *, most: int, follow: bool = True) -> bytes:
    """Return what a file of up to `most` bytes holds; `follow` as for `open_regular`.

    Raises:
        OSError: as `open_regular`; EFBIG, if it is larger.
    """
    with open_regular(path, buffering=0, follow=follow) as file:
        data = file.read(most + 1)
    if len(data) > most:
        raise OSError(errno.EFBIG, f"it is larger than {most / 1e6:,.0f} MB", path)
    return data
