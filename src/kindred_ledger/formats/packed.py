"""Packed binary documents (MessagePack, CBOR): values in a row, each telling its own length.

What was not edited keeps its very bytes, number widths and length forms included; a container
whose members came or went gets a new head. Bytes are leaves whose text is hexadecimal.
"""

from __future__ import annotations

from abc import abstractmethod
from decimal import Decimal
from typing import Any

from msgspec import Struct

from ..errors import FormatError
from .document import Path, format_path
from .reading_back import check_tree, unreadable
from .tree import LIST, MAPPING, SCALAR, Node, TreeDocument

__all__ = ["Head", "PackedDocument", "truncated"]

_DEEPEST = 500


class Head(Struct, frozen=True, gc=False):
    """The head of a value: its kind, how many members it has, and where what follows begins.

    `count` -1 means that members go on to a stop code. `end` is where a scalar ends.
    """

    kind: str
    count: int
    end: int


class _Value(Node, eq=False):
    start: int = 0
    body: int = 0  # after the head
    end: int = 0
    count: int = 0
    raw: bytes | None = None  # of what was made
    key_raw: bytes = b""
    dirty: bool = False


class PackedDocument(TreeDocument[_Value]):
    """A packed file as a document."""

    _stop = -1  # the byte that ends a container of unknown length

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._ends = self._survey()
        self._root = self._value_at(0)
        self._root.origin = ()
        self._root.was_leaf = self._root.kind == SCALAR

    # ---- what a format says --------------------------------------------------------------

    @abstractmethod
    def _head(self, at: int) -> Head:
        """Read the head of the value at an offset.

        Raises:
            FormatError: there is none, or it goes past the end.
        """

    @abstractmethod
    def _unpack(self, raw: bytes) -> Any:
        """Return the value of a scalar."""

    @abstractmethod
    def _pack(self, value: Any, like: bytes | None) -> bytes:
        """Return the bytes of a scalar, as wide as those it replaces if it fits."""

    @abstractmethod
    def _container_head(self, kind: str, count: int, like: bytes) -> bytes:
        """Return the head of a container."""

    # ---- reading -------------------------------------------------------------------------

    def _survey(self) -> dict[int, int]:
        """Walk over all values once; return the end of each container by its start."""
        data, ends = self._data, {}
        at = 0
        open_: list[list[int]] = []  # start, values still to come (-1: until the stop code)
        while True:
            if open_ and open_[-1][1] == -1 and at < len(data) and data[at] == self._stop:
                at += 1
                open_[-1][1] = 0
            else:
                head = self._head(at)
                if open_ and open_[-1][1] > 0:
                    open_[-1][1] -= 1
                if head.kind == SCALAR:
                    at = head.end
                else:
                    count = head.count * (2 if head.kind == MAPPING else 1)
                    if count > len(data) - head.end:
                        raise FormatError(
                            f"{head.count:,} members are announced, which the file cannot hold",
                            where=f"byte {at}",
                            remedy="The file is damaged or was cut short.",
                        )
                    if len(open_) >= _DEEPEST:
                        raise FormatError(
                            f"nested deeper than {_DEEPEST} levels", where=f"byte {at}"
                        )
                    open_.append([at, -1 if head.count < 0 else count])
                    at = head.end
            while open_ and open_[-1][1] == 0:
                ends[open_.pop()[0]] = at
            if not open_:
                break
        if at != len(data):
            raise FormatError(
                f"{len(data) - at:,} bytes follow the value the file holds", where=f"byte {at}"
            )
        return ends

    def _value_at(self, at: int) -> _Value:
        head = self._head(at)
        if head.kind == SCALAR:
            return _Value(SCALAR, start=at, end=head.end)
        return _Value(head.kind, start=at, body=head.end, end=self._ends[at], count=head.count)

    def _expand(self, node: _Value) -> list[_Value]:
        members = []
        at = node.body
        while at < node.end and not (at == node.end - 1 and node.count < 0):
            key_start = at
            if node.kind == MAPPING:
                at = self._ends.get(at) or self._head(at).end
            member = self._value_at(at)
            if node.kind == MAPPING:
                member.key_raw = self._data[key_start:at]
                member.key = self._key(member.key_raw)
            members.append(member)
            at = member.end
        return members

    def _key(self, raw: bytes) -> str:
        key = self._unpack(raw)
        return key if isinstance(key, str) else repr(key)

    def _bytes(self, node: _Value) -> bytes:
        return self._data[node.start : node.end] if node.raw is None else node.raw

    def _text(self, node: _Value) -> str:
        value = self._value(node)
        return value if isinstance(value, str) else _as_text(value)

    def _value(self, node: _Value) -> Any:
        return _plain(self._unpack(self._bytes(node)))

    # ---- editing -------------------------------------------------------------------------

    def _made(self, value: Any, path: Path) -> _Value:
        try:
            return self._made_of(value)
        except (ValueError, TypeError, OverflowError, UnicodeError) as error:
            raise FormatError(
                f"{value!r} cannot be written here: {error}", where=format_path(path)
            ) from error

    def _made_of(self, value: Any) -> _Value:
        if not isinstance(value, (dict, list, tuple)):
            return _Value(SCALAR, raw=self._pack(value, None))
        kind = MAPPING if isinstance(value, dict) else LIST
        node = _Value(kind, members=[], dirty=True, raw=b"")
        pairs = value.items() if isinstance(value, dict) else ((None, each) for each in value)
        for key, inner in pairs:
            member = self._made_of(inner)
            member.parent, member.key = node, key
            member.key_raw = b"" if key is None else self._pack(key, None)
            self._members(node).append(member)
        return node

    def _replace(self, old: _Value, new: _Value) -> None:
        if old.kind == SCALAR == new.kind:
            new.raw = self._pack(self._unpack(self._bytes(new)), self._bytes(old))
        new.key_raw = old.key_raw
        if old.parent is None:
            self._root = new
            return
        self._members(old.parent)[self._position(old)] = new
        self._mark(old.parent)

    def _append(self, parent: _Value, node: _Value, path: Path) -> None:
        node.key_raw = b"" if node.key is None else self._pack(node.key, None)
        self._members(parent).append(node)
        self._mark(parent)

    def _detach(self, node: _Value) -> None:
        del self._members(node.parent)[self._position(node)]
        self._mark(node.parent)

    def _rename(self, node: _Value, key: str, path: Path) -> None:
        node.key, node.key_raw = key, self._pack(key, None)
        self._mark(node.parent)

    def _permute(self, node: _Value, members: list[_Value]) -> None:
        node.members = members
        self._mark(node)

    def _mark(self, node: _Value | None) -> None:
        if node is not None:
            node.table = None
        while node is not None and not node.dirty:
            node.dirty = True
            node = node.parent

    def encode(self) -> bytes:
        data = self.encode_unread()
        if self._root.dirty or self._root.raw is not None:
            try:
                again = type(self)(data)
            except FormatError as error:
                raise unreadable(error.what, error.where or "") from error
            check_tree(self, again)
        return data

    def encode_unread(self) -> bytes:
        """Return the bytes without reading them again, for those who do that themselves."""
        out: list[bytes] = []
        self._emit(self._root, out)
        return b"".join(out)

    def _same_whole(self, node: _Value, found: Any, other: _Value, path: Path) -> bool | None:
        if node.dirty and node.kind != SCALAR:
            return None
        return bool(self._bytes(node) == found._bytes(other))

    def _emit(self, node: _Value, out: list[bytes]) -> None:
        if not node.dirty or node.kind == SCALAR:
            out.append(self._bytes(node))
            return
        members = self._members(node)
        head = self._data[node.start : node.body] if node.raw is None else b""
        same = head and (node.count < 0 or node.count == len(members))
        out.append(head if same else self._container_head(node.kind, len(members), head))
        for member in members:
            out.append(member.key_raw)
            self._emit(member, out)
        if same and node.count < 0:
            out.append(bytes((self._stop,)))


def truncated(at: int) -> FormatError:
    """Return the error for a value that goes on past the end of the file."""
    return FormatError(
        "the value that begins here goes past the end of the file",
        where=f"byte {at}",
        remedy="The file is damaged or was cut short.",
    )


def _plain(value: Any) -> Any:
    """Return a value as documents hold it: floats as exact decimals."""
    if isinstance(value, float):
        return Decimal(repr(value)) if value == value else Decimal("nan")
    return value


def _as_text(value: Any) -> str:
    if isinstance(value, (bytes, bytearray)):
        return value.hex()
    if value is None or isinstance(value, bool):
        return {None: "null", True: "true", False: "false"}[value]
    return str(value)
