"""Storage: where the write-once files of a ledger are, and how each gets its name.

What always holds, here and far away: a file has its name only when all of it is durable; nobody writes
one that is there. `RemoteStorage` is in `far`.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Iterator
from functools import cached_property

from ..errors import LedgerDamaged, LedgerError, PlaceBusy, UsageError
from ..places import hold, make_folders, new_file, refusals, sync_dir, write_once
from ..small_files import read_small
from . import settings
from .encryption import PLAIN, Encryption

__all__ = ["NEEDED", "Storage", "missing", "refuse_links"]


_TRIED = 64 << 10  # bytes: a full disk may still take an empty file
NEEDED = ("packs", "entries", "history")  # folders that are there from the begin
_FOLDERS = (*NEEDED, "marks", "work", "keys", "tails", "retiring", "damaged", "newest")


def missing(path: str) -> LedgerDamaged:
    """Return the error for a folder of the ledger that is missing."""
    return LedgerDamaged(
        f"the ledger's folder {os.path.basename(path)} is missing",
        where=path,
        remedy="Bring back what was in it from a mirror: kindred ledger heal --mirror LEDGER\n"
        "Without a mirror, `kindred ledger heal` makes an empty one.",
    )


def refuse_links(root: str) -> None:
    """Look whether a folder of the ledger in `root` is a link.

    Raises:
        LedgerDamaged: one is; what it leads to may be anybody's.
    """
    for name in _FOLDERS:
        path = os.path.join(root, name)
        if os.path.islink(path):
            raise LedgerDamaged(
                f"the ledger's folder {name} is a link, which nothing is read from or written through",
                where=path,
                remedy="Look at where it leads. To go on: remove the link, put the folder itself in its"
                " place, or bring back what was in it with: kindred ledger heal --mirror LEDGER",
            )


class Storage:
    """The files of a ledger in a folder of this machine, or one that looks like it.

    `forgives` takes a missing folder for an empty one, for those who look what is damaged.
    """

    forgives = False

    def __init__(self, root: str, *, encryption: Encryption = PLAIN) -> None:
        self.root = root
        self.encryption = encryption

    @cached_property
    def ledger_id(self) -> str:
        """The id of the ledger; "" if its settings are lost."""
        try:
            return settings.read(self.root).id
        except (OSError, LedgerError):
            return ""

    @property
    def writer(self) -> str:
        """What tells this machine from others that write to the ledger."""
        return "here"

    @property
    def location(self) -> str:
        """Where the ledger is, as people name it."""
        return self.root

    def is_writable(self) -> bool:
        """Tell whether something can be written here on this machine: try it."""
        path = os.path.join(self.root, "work", f"try.{os.urandom(8).hex()}.part")
        try:
            with new_file(path) as file:
                file.write(bytes(_TRIED))
        except OSError:
            return False
        finally:
            with contextlib.suppress(OSError):
                os.remove(path)
        return True

    def refresh(self) -> None:
        """Make what others wrote meanwhile be seen."""

    def names(self, folder: str) -> list[str]:
        """Return the names of all files in a folder of the ledger.

        Raises:
            LedgerDamaged: a folder that must be there is missing.
        """
        path = os.path.join(self.root, folder)
        with refusals(self.root):
            try:
                return sorted(os.listdir(path))
            except FileNotFoundError:
                if folder in NEEDED and not self.forgives and os.path.isdir(self.root):
                    raise missing(path) from None
                return []

    def path(self, folder: str, name: str) -> str:
        """Return where a file can be read on this machine.

        Raises:
            LedgerDamaged: it is on a remote, and not there.
        """
        return os.path.join(self.root, folder, name)

    def tail(self, name: str) -> str:
        """Return where the end of a pack, with its index, can be read on this machine.

        Raises:
            FileNotFoundError: it is not there.
            LedgerDamaged: it is cut short.
        """
        return self.path("packs", name)

    def is_near(self, folder: str, name: str) -> bool:
        """Tell whether a file can be read on this machine without fetching it."""
        return os.path.isfile(os.path.join(self.root, folder, name))

    @contextlib.contextmanager
    def as_kept(self, folder: str, name: str) -> Iterator[str]:
        """Give where a file can be read as it is now where it is kept, not as it was fetched once.

        Raises:
            FileNotFoundError: it is not there.
        """
        yield self.path(folder, name)

    def stat(self, folder: str, name: str) -> tuple[int, float]:
        """Return size and time of a file.

        Raises:
            FileNotFoundError: it is not there.
        """
        found = os.lstat(os.path.join(self.root, folder, name))
        return found.st_size, found.st_mtime

    def exists(self, folder: str, name: str) -> bool:
        """Tell whether a file is there."""
        return os.path.lexists(os.path.join(self.root, folder, name))

    def place(self, folder: str, name: str, part: str) -> None:
        """Give a durable file of this machine its name, over what has it; that takes it away.

        Raises:
            LedgerDamaged: the folder it goes to is missing.
        """
        if not os.path.isdir(os.path.join(self.root, folder)):
            raise missing(os.path.join(self.root, folder))
        os.replace(part, os.path.join(self.root, folder, name))
        sync_dir(os.path.join(self.root, folder))

    def claim(self, folder: str, name: str, data: bytes) -> None:
        """Write a small file that nobody may have written before.

        Raises:
            FileExistsError: there is one.
        """
        path = os.path.join(self.root, folder)
        make_folders(path, private=True)
        write_once(os.path.join(path, name), data)

    def reserve(self, folder: str, name: str) -> bool:
        """Keep a name from other machines until `release`; tell whether it was nobody's.

        Those of this machine keep names from each other by folders in `work`.
        """
        return not self.exists(folder, name)

    def release(self, folder: str, name: str) -> None:
        """Let others have a name that was reserved."""

    def remove(self, folder: str, names: Iterable[str]) -> None:
        """Remove files for good; those that are gone are fine."""
        path = os.path.join(self.root, folder)
        if not os.path.isdir(path):
            return
        for name in names:
            with contextlib.suppress(FileNotFoundError):
                os.remove(os.path.join(path, name))
        sync_dir(path)

    def settings(self) -> bytes:
        """Return what the file of settings holds.

        Raises:
            FileNotFoundError: there is none.
        """
        return read_small(
            os.path.join(self.root, settings.SETTINGS), most=settings.LARGEST, follow=False
        )

    def mend_settings(self, *, id: str = "") -> None:
        """Write the settings again, the id as it still stands there, else the one that is given."""
        with contextlib.suppress(FileNotFoundError):
            id = settings.read(self.root).id or id
        settings.create(self.root, id=id)

    def damaged_keys(self) -> dict[str, str]:
        """Return what is wrong with the keys of an encrypted ledger, by their names."""
        return {}

    def change_passphrase(self, passphrase: str, *, cost: int) -> None:
        """Have a passphrase, and no other, open an encrypted ledger.

        Raises:
            UsageError: it is not encrypted.
        """
        raise UsageError("this ledger is not encrypted", where=self.location)

    def mend_keys(self) -> None:
        """Replace keys that are damaged or missing by copies of one that is whole, if there is any."""

    # Writers on other machines; on one disk their locks tell.

    def announce(self, session: str) -> None:
        """Let other machines know that a session has begun."""

    def withdraw(self, session: str) -> None:
        """Let other machines know that it has ended."""

    def announced(self) -> list[str]:
        """Return the sessions of other machines that have not ended."""
        return []

    @contextlib.contextmanager
    def deleting(self, *, patience_seconds: float = 0.0) -> Iterator[None]:
        """Be the only one who deletes, for the block; others are waited for so long.

        Raises:
            PlaceBusy: somebody else deletes.
        """
        lock = os.path.join(self.root, "work", "retiring.lock")
        busy = self._busy().what
        with refusals(self.root), hold(lock, busy=busy, patience_seconds=patience_seconds):
            yield

    def _busy(self, more: str = "") -> PlaceBusy:
        return PlaceBusy(
            "another retire is at work on this ledger",
            where=self.location,
            remedy=f"Wait until it is done, then run this again. {more}".strip(),
        )
