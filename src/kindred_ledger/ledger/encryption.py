"""Encryption: how frames stand in the files of a ledger: plain, or encrypted under its key.

A encrypted frame is a skippable Zstandard frame that holds a nonce and the encrypted frame (ChaCha20 and
Poly1305, RFC 8439). What it is for is bound to it, so that none passes for another. The key of a ledger
is random, and kept in slots: each encrypted under a passphrase by scrypt (RFC 7914).
"""

from __future__ import annotations

import os
import struct
from typing import TYPE_CHECKING

from blake3 import blake3

from ..errors import LedgerDamaged, LedgerError, UsageError
from . import zstd

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

__all__ = ["COST", "PLAIN", "Encrypted", "Encryption", "is_whole_slot", "new_slot", "opened_slot"]

_HEAD = struct.Struct("<II")
_MAGIC = 0x184D2A5C  # another of the magic numbers of skippable frames (RFC 8878, 3.1.2)
_NONCE = 12
_KEY = b"ledger key"  # what the frame in a slot is for
COST = 1 << 17  # of scrypt, with the next: 128 MiB, and half a second
_BLOCK, _LANES = 8, 1
_MOST_COST = (
    1 << 22
)  # what a slot may ask for: a damaged or hostile one must not ask for all memory


class Encryption:
    """Frames as they are."""

    key = b""

    def wrapped(self, frame: bytes, purpose: bytes) -> bytes:
        """Return a Zstandard frame as it is stored."""
        return frame

    def content(
        self, stored: bytes, purpose: bytes, *, size: int = zstd.MOST
    ) -> tuple[bytes, bytes]:
        """Return what the first stored frame holds, at most `size` bytes, and what follows it.

        Raises:
            LedgerDamaged: it is not what was stored, or for another purpose, or under another key.
        """
        return zstd.decompress(stored, size=size)


PLAIN = Encryption()


class Encrypted(Encryption):
    """Frames under a key of 32 bytes."""

    def __init__(self, key: bytes) -> None:
        self.key = key
        self._cipher = _cipher(key)

    def wrapped(self, frame: bytes, purpose: bytes) -> bytes:
        nonce = os.urandom(_NONCE)
        hidden = nonce + self._cipher.encrypt(nonce, frame, purpose)
        return _HEAD.pack(_MAGIC, len(hidden)) + hidden

    def content(
        self, stored: bytes, purpose: bytes, *, size: int = zstd.MOST
    ) -> tuple[bytes, bytes]:
        from cryptography.exceptions import InvalidTag

        if len(stored) < _HEAD.size + _NONCE:
            raise LedgerDamaged("a encrypted frame is cut short")
        magic, length = _HEAD.unpack_from(stored)
        end = _HEAD.size + length
        if magic != _MAGIC or end > len(stored) or length < _NONCE:
            raise LedgerDamaged("this is no encrypted frame, or it is cut short")
        nonce = stored[_HEAD.size : _HEAD.size + _NONCE]
        try:
            frame = self._cipher.decrypt(nonce, stored[_HEAD.size + _NONCE : end], purpose)
        except InvalidTag:
            raise LedgerDamaged("a encrypted frame is damaged, or under another key") from None
        return zstd.decompress(frame, size=size)[0], stored[end:]


def new_slot(key: bytes, passphrase: str, *, cost: int = COST) -> bytes:
    """Return the text of a slot that gives a ledger's key to who knows a passphrase.

    `cost` is that of scrypt, a power of two; each try of a passphrase takes 1 KiB times that.

    Raises:
        UsageError: the passphrase is empty, or the cost none.
    """
    if not passphrase:
        raise UsageError("an empty passphrase protects nothing")
    if not _is_cost(cost, _BLOCK, _LANES):
        raise UsageError(f"a cost is a power of two, from 2 to {_MOST_COST:,}, and not {cost}")
    salt, nonce = os.urandom(16), os.urandom(_NONCE)
    under = _cipher(_derived(passphrase, salt, cost, _BLOCK, _LANES))
    hidden = nonce + under.encrypt(nonce, key, _KEY)
    text = (
        "# A key of a ledger. See docs/ledger-format.md.\n"
        f'scrypt = [{cost}, {_BLOCK}, {_LANES}]\nsalt = "{salt.hex()}"\nkey = "{hidden.hex()}"\n'
    )
    return (text + f'check = "{_check(text.encode())}"\n').encode()


def opened_slot(slot: bytes, passphrase: str, *, where: str) -> bytes | None:
    """Return the key in a slot; None if the passphrase does not open it.

    Raises:
        LedgerDamaged: the slot is not as it was written.
        LedgerError: it asks for more memory than a slot may.
    """
    from cryptography.exceptions import InvalidTag

    if not is_whole_slot(slot):
        raise LedgerDamaged("this key is damaged", where=where)
    import tomllib

    try:
        values = tomllib.loads(slot.decode())
        cost, block, lanes = values["scrypt"]
        salt, hidden = bytes.fromhex(values["salt"]), bytes.fromhex(values["key"])
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise LedgerDamaged("this key cannot be read", where=where) from error
    if not _is_cost(cost, block, lanes):
        raise LedgerError("this key asks for too much memory, or for nothing", where=where)
    under = _cipher(_derived(passphrase, salt, cost, block, lanes))
    try:
        return under.decrypt(hidden[:_NONCE], hidden[_NONCE:], _KEY)
    except (InvalidTag, ValueError):  # of another length than any key
        return None


def _is_cost(cost: object, block: object, lanes: object) -> bool:
    """Tell whether what a key asks of scrypt (RFC 7914) can be given."""
    if not (type(cost) is type(block) is type(lanes) is int):
        return False
    wanted = cost > 1 and cost & (cost - 1) == 0 and block > 0 and lanes > 0
    return wanted and cost * block * lanes <= _MOST_COST * _BLOCK


def is_whole_slot(slot: bytes) -> bool:
    """Tell whether every byte of a slot is as it was written."""
    text, _, check = slot.rpartition(b"check = ")
    return check == f'"{_check(text)}"\n'.encode()


def _derived(passphrase: str, salt: bytes, cost: int, block: int, lanes: int) -> bytes:
    import hashlib

    most = 132 * block * (cost + lanes)  # bytes: what it needs, and a little
    return hashlib.scrypt(
        passphrase.encode(), salt=salt, n=cost, r=block, p=lanes, maxmem=most, dklen=32
    )


def _check(text: bytes) -> str:
    return blake3(text).hexdigest()[:16]


def _cipher(key: bytes) -> ChaCha20Poly1305:
    try:
        from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305
    except ImportError as error:
        raise UsageError(
            "an encrypted ledger needs the package cryptography",
            remedy="Install it: pip install 'kindred-ledger[encryption]'",
        ) from error
    return ChaCha20Poly1305(key)
