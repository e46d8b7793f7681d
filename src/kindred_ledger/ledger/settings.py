"""Settings: the one small file that says which format a ledger has and which ledger it is."""

from __future__ import annotations

import errno
import os
import re
import tomllib
from typing import NamedTuple

from blake3 import blake3

from ..errors import LedgerDamaged, LedgerError
from ..places import write_atomic
from ..small_files import read_small

__all__ = ["FORMAT", "SETTINGS", "Settings", "create", "new", "parsed", "read"]

LARGEST = 64 << 10  # bytes

FORMAT = 1
SETTINGS = "ledger.toml"


class Settings(NamedTuple):
    """What the file says; `intact` tells that every byte of it is as it was written."""

    format: int
    id: str
    intact: bool


def create(root: str, *, id: str = "") -> None:
    """Write the settings of a ledger; an `id` that cannot be one is replaced by a new one."""
    write_atomic(os.path.join(root, SETTINGS), new(id=id))


def new(*, id: str = "") -> bytes:
    """Return what `create` writes."""
    known = re.fullmatch("[0-9a-f]{16}", id)
    return _text(FORMAT, id if known else os.urandom(8).hex()).encode()


def read(root: str) -> Settings:
    """Read the settings of the ledger in `root`.

    A file that is damaged does not cost the ledger: it is taken to be of the format this program
    writes, since one of another format would say so in a file that is whole.

    Raises:
        FileNotFoundError: there is none.
        LedgerError: the ledger is of another format.
    """
    path = os.path.join(root, SETTINGS)
    try:
        return parsed(read_small(path, most=LARGEST, follow=False), where=root)
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.EFBIG):
            raise
        raise LedgerDamaged(
            f"the settings cannot be read: {error.strerror}",
            where=path,
            remedy="Remove that, then run: kindred ledger heal",
        ) from error


def parsed(data: bytes, *, where: str) -> Settings:
    """Read what the file holds; see `read`.

    Raises:
        LedgerError: the ledger is of another format.
    """
    try:
        values = tomllib.loads(data.decode())
    except ValueError:  # not UTF-8, or no TOML
        values = {}
    found, id = values.get("format", FORMAT), str(values.get("id", ""))
    if found != FORMAT and values.get("check") != _check(FORMAT, id):
        raise LedgerError(
            f"this ledger is of format {found}; this program reads format {FORMAT}",
            where=where,
            remedy="Update this program, then run the command again.",
        )
    return Settings(FORMAT, id, intact=data == _text(FORMAT, id).encode())


def _text(format: int, id: str) -> str:
    return (
        "# A ledger. See docs/ledger-format.md.\n"
        f'format = {format}\nid = "{id}"\ncheck = "{_check(format, id)}"\n'
    )


def _check(format: int, id: str) -> str:
    return blake3(f"{format} {id}".encode()).hexdigest()[:16]
