"""Keys: the slots that give an encrypted ledger's key to who knows its passphrase, where they are kept."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable

from ..errors import LedgerDamaged, LedgerError, PlaceError, Vanished, WrongPassphrase
from ..places.remotes import Remote
from . import settings
from .encryption import PLAIN, Encrypted, Encryption, is_whole_slot, new_slot, opened_slot

__all__ = ["change_passphrase", "create_encrypted", "damaged_keys", "mend_keys", "unlocked"]

_KEYS = "keys"
_LARGEST = 64 << 10  # bytes of a slot, and far more than it takes


def create_encrypted(remote: Remote, passphrase: str, *, cost: int) -> None:
    """Make an encrypted ledger on a remote where there is none.

    Raises:
        LedgerError: there is one.
    """
    # A ledger may have lost its settings: the keys that are deleted below must not be those of one.
    if remote.stat(settings.SETTINGS) is not None or remote.list("packs") or remote.list("entries"):
        raise LedgerError(
            "there is a ledger here already",
            where=remote.location,
            remedy="Make one elsewhere, then: kindred ledger mirror",
        )
    remote.make_folder("")
    remote.make_folder(_KEYS)
    for left in remote.list(_KEYS):  # by a making that was cut off
        remote.delete(f"{_KEYS}/{left.name}")
    _add_slot(remote, new_slot(os.urandom(32), passphrase, cost=cost))
    remote.create(settings.SETTINGS, settings.new())


def change_passphrase(remote: Remote, key: bytes, passphrase: str, *, cost: int) -> None:
    """Have a passphrase, and no other, open an encrypted ledger; no pack is written again.

    Cut off half way, the old and the new one open it; doing it again ends that.
    """
    old = _names(remote)
    _add_slot(remote, new_slot(key, passphrase, cost=cost))
    for name in old:
        remote.delete(f"{_KEYS}/{name}")


def _add_slot(remote: Remote, slot: bytes) -> None:
    """Write a slot, twice: without it nothing of the ledger can be read."""
    for _ in range(2):
        path = f"{_KEYS}/{os.urandom(4).hex()}.toml"
        remote.create(path, slot)
        if b"".join(remote.read(path)) != slot:
            raise PlaceError("the upload could not be verified", where=f"{remote.location}/{path}")


def unlocked(remote: Remote, passphrase: Callable[[], str] | None) -> Encryption:
    """Return how the frames of a ledger stand, with its key if it is encrypted.

    Raises:
        WrongPassphrase: it does not open the ledger, or there is none.
        LedgerDamaged: the keys are damaged.
    """
    slots = _names(remote)
    if not slots:
        return PLAIN
    if passphrase is None:
        raise WrongPassphrase(
            "this ledger is encrypted, and there is no terminal to ask for its passphrase on",
            where=remote.location,
            remedy="Give it in KINDRED_PASSPHRASE, or run this in a terminal.",
        )
    said = passphrase()
    damaged: LedgerDamaged | None = None
    tried = set()  # each slot is there twice
    for name in slots:
        where = f"{remote.location}/{_KEYS}/{name}"
        try:
            slot = _slot(remote, name)
            if slot in tried:
                continue
            tried.add(slot)
            key = opened_slot(slot, said, where=where)
        except Vanished:  # the passphrase is being changed
            continue
        except LedgerDamaged as error:
            damaged = error
            continue
        if key is not None:
            return Encrypted(key)
    if damaged is not None:
        raise damaged
    raise WrongPassphrase(
        "this passphrase does not open the ledger",
        where=remote.location,
        remedy="Check it, the case of its letters too. Nothing was changed.",
    )


def damaged_keys(remote: Remote) -> dict[str, str]:
    """Return what is wrong with the slots, by their names: each should be there twice, as it was written."""
    slots = {name: _slot(remote, name) for name in _names(remote)}
    copies = Counter(slots.values())
    found = {}
    for name, slot in slots.items():
        if not is_whole_slot(slot):
            found[name] = "this key is damaged"
        elif copies[slot] < 2 and len(slots) % 2:
            found[name] = "the second copy of this key is missing"
    return found


def mend_keys(remote: Remote) -> None:
    """Replace damaged slots, and copies that are missing, by copies of one that is whole, if there is any."""
    for name in damaged_keys(remote):
        slot = _slot(remote, name)
        if is_whole_slot(slot):
            remote.create(f"{_KEYS}/{os.urandom(4).hex()}.toml", slot)
            continue
        slots = [_slot(remote, other) for other in _names(remote)]
        whole = [slot for slot in slots if is_whole_slot(slot)]
        if whole:
            remote.create(f"{_KEYS}/{os.urandom(4).hex()}.toml", whole[0])
            remote.delete(f"{_KEYS}/{name}")


def _names(remote: Remote) -> list[str]:
    return [slot.name for slot in remote.list(_KEYS) if slot.name.endswith(".toml")]


def _slot(remote: Remote, name: str) -> bytes:
    return b"".join(remote.read(f"{_KEYS}/{name}", length=_LARGEST))
