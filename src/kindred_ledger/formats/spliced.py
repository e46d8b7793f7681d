"""Documents edited by splices: the new text goes where the old one stood, the rest is not touched.

A codec says where each value, key and member begins and ends. Edits collect as splices over the
text that was read; nothing is read again until an edit needs the place of something that an
earlier one wrote. Then, and before the bytes are handed out, the spliced text is read anew and held
against the tree that was meant: what cannot be written so that it reads back is an error.
"""

from __future__ import annotations

from abc import abstractmethod
from bisect import bisect_left, bisect_right, insort_right
from collections.abc import Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ..errors import FormatError
from .document import Path, format_path, not_reordered, same_value
from .text import Text
from .tree import LIST, MAPPING, SCALAR, Node, TreeDocument

__all__ = ["Spanned", "Splice", "SplicedDocument", "spliced"]

UNTOUCHED: Any = object()


class Spanned(Node, eq=False):
    """A node with its places: byte offsets in UTF-8; `start` is -1 of what was made or moved.

    `start:end` is the value, `key_start:key_end` the key's text, and `begin:stop` all that goes
    when the member goes. `token` is the codec's own.
    """

    start: int = -1
    end: int = -1
    key_start: int = -1
    key_end: int = -1
    begin: int = -1
    stop: int = -1
    token: Any = None
    plain: Any = UNTOUCHED  # the value, of a node that was made
    text: str | None = None  # of a scalar that was made or moved
    some: dict[int, Any] | None = None  # of a long list: the members somebody looked at so far


class Splice(Struct, frozen=True):
    """Text that comes in the place of a span."""

    start: int
    end: int
    text: bytes
    in_place: bool = False  # one scalar for another


class SplicedDocument(TreeDocument[Spanned]):
    """A text file edited by splices; see the module."""

    _safe = False  # whether a scalar that was put in a scalar's place need not be read again

    def __init__(self, data: bytes) -> None:
        text = self._decoded(data)
        utf8 = text.encoding == "utf-8"
        self._data = data[len(text.mark) :] if utf8 else text.text.encode("utf-8")
        self._newline = text.newline
        self._encoding = Text("", text.encoding, text.mark)
        self._splices: list[Splice] = []
        self._root = self._scan()
        self._root.origin = ()
        stack = [self._root]
        while stack:  # members a codec made at once; others get theirs when they are looked at
            node = stack.pop()
            node.was_leaf = node.kind == SCALAR or node.members == []
            for at, member in enumerate(node.members or ()):
                member.origin = (*(node.origin or ()), at if member.key is None else member.key)
                stack.append(member)

    # ---- what a codec says ---------------------------------------------------------------

    def _decoded(self, data: bytes) -> Text:
        return Text.decode(data)

    @abstractmethod
    def _scan(self) -> Spanned:
        """Read `self._data`; return the root.

        Raises:
            FormatError: it is not of this format.
        """

    @abstractmethod
    def _scalar_text(self, value: Any, path: Path, instead: Spanned | None) -> str:
        """Return a scalar as it is written, in the style of the one it replaces.

        Raises:
            FormatError: the format has no such value.
        """

    @abstractmethod
    def _write(self, node: Spanned, instead: Spanned, path: Path) -> list[Splice]:
        """Return the splices that put a made node in the place of another one."""

    @abstractmethod
    def _put(self, parent: Spanned, node: Spanned, path: Path) -> list[Splice]:
        """Return the splices that put a node behind the members of a container.

        `node` was made (`plain`), or is moved there from its place in the text (`start:end`).
        """

    def _without(self, node: Spanned) -> list[Splice]:
        """Return the splices that take a member out."""
        return [Splice(*self._extent(node), b"")]

    def _can_go(self, node: Spanned) -> bool:
        """Tell whether the places are known that `_without` needs."""
        return node.start >= 0

    def _extent(self, node: Spanned) -> tuple[int, int]:
        """Return the span that goes when a member goes."""
        return node.begin, node.stop

    @abstractmethod
    def _renamed(self, node: Spanned, key: str, path: Path) -> list[Splice]:
        """Return the splices that give a member another key."""

    def _written(self, value: Any) -> Any:
        """Return a value as it will be read back."""
        return value

    # ---- the engine ----------------------------------------------------------------------

    def encode(self) -> bytes:
        if not (self._safe and all(splice.in_place for splice in self._splices)):
            self._settle()
        data = spliced(self._data, self._splices)
        if self._encoding.encoding == "utf-8":
            return self._encoding.mark + data
        return self._encoding.encode(data.decode())

    def _text(self, node: Spanned) -> str:
        return self._data[node.start : node.end].decode() if node.text is None else node.text

    def _made(self, value: Any, path: Path) -> Spanned:
        if not isinstance(value, (dict, list, tuple)):
            return Spanned(SCALAR, plain=value, text=self._scalar_text(value, path, None))
        node = Spanned(MAPPING if isinstance(value, dict) else LIST, plain=value, members=[])
        pairs = value.items() if isinstance(value, dict) else ((None, each) for each in value)
        for key, inner in pairs:
            member = self._made(inner, path)
            member.parent, member.key = node, key
            self._members(node).append(member)
        return node

    def _replace(self, old: Spanned, new: Spanned) -> None:
        old = self._placed(old)
        new.parent, new.key, new.at = old.parent, old.key, old.at
        path = self._path(old)
        if new.kind == SCALAR:
            new.text = self._scalar_text(new.plain, path, old)
        splices = self._write(new, old, path)
        in_place = [(s.start, s.end) for s in splices] == [(old.start, old.end)]
        if in_place and new.kind == SCALAR == old.kind and old.end > old.start:
            splices = [replace(splices[0], in_place=True)]
            for name in _PLACES:  # so that it can be set again
                setattr(new, name, getattr(old, name))
        self._splice(splices)
        if old.parent is None:
            self._root = new
        elif old.parent.members is None:
            old.parent.some[old.at] = new
        else:
            old.parent.members[self._position(old)] = new
            old.parent.table = None

    def _append(self, parent: Spanned, node: Spanned, path: Path) -> None:
        parent = self._placed(parent)
        node.parent = parent
        self._splice(self._put(parent, node, path))
        for _, inner in self._walk(node, ()):
            if inner.kind == SCALAR:
                inner.text = self._text(inner)
            inner.start = -1
        self._members(parent).append(node)
        parent.table = None

    def _detach(self, node: Spanned) -> None:
        if not self._can_go(node):
            path = self._path(node)
            self._settle()
            node = self._node(path)
        self._splice(self._without(node))
        del node.parent.members[self._position(node)]
        node.parent.table = None

    def _rename(self, node: Spanned, key: str, path: Path) -> None:
        node = self._placed(node)
        self._splice(self._renamed(node, key, path))
        node.key = key
        node.parent.table = None

    def reorder(self, path: Path, order: Sequence[int]) -> None:
        self._settle()  # what changes places is taken from the text as it is
        node = self._node(self._full(path))
        data, root, members = self._data, self._root, list(self._members(node))
        super().reorder(path, order)
        wanted = self._plain(node)
        try:
            self._settle()
            if self.get(path) != wanted:
                raise _differs(path)
        except FormatError:
            self._data, self._root, self._splices, node.members = data, root, [], members
            raise

    def _permute(self, node: Spanned, members: list[Spanned]) -> None:
        """The values of a list change places; what stands around them stays."""
        before = self._members(node)
        if node.kind != LIST or any(member.start < 0 for member in before):
            raise not_reordered(self._path(node))
        self._splice(
            [
                Splice(here.start, here.end, self._data[there.start : there.end])
                for here, there in zip(before, members, strict=True)
                if here is not there
            ]
        )
        node.members, node.some = list(members), None

    def move(self, path: Path, to: Path) -> None:
        node = self._node(path)
        begin, stop = self._extent(node) if node.start >= 0 else (0, 0)
        if node.start < 0 or any(begin <= s.start <= stop for s in self._splices):
            self._settle()  # what moves is taken from the text as it is
        super().move(path, to)

    def _placed(self, node: Spanned) -> Spanned:
        """Return a node, or the one that stands for it once the text is read again."""
        if node.start >= 0:
            return node
        path = self._path(node)
        self._settle()
        return self._node(path)

    def _path(self, node: Spanned) -> Path:
        parts: list[str | int] = []
        while node.parent is not None:
            parts.append(self._position(node) if node.key is None else node.key)
            node = node.parent
        return tuple(reversed(parts))

    def _splice(self, splices: list[Splice]) -> None:
        """Add splices; what lies inside a span that goes now, goes with it."""
        kept = self._splices
        for new in splices:
            if new.end > new.start:
                first = bisect_left(kept, new.start, key=_start)
                last = bisect_right(kept, new.end, key=_start)
                kept[first:last] = [
                    old
                    for old in kept[first:last]
                    if old.end > new.end
                    or (old.start == old.end and old.start in (new.start, new.end))
                ]
            insort_right(kept, new, key=_order)

    def _settle(self) -> None:
        """Write the splices, read the text again and hold it against the tree that was meant."""
        if not self._splices:
            return
        before, meant = self._data, self._root
        self._data = spliced(before, self._splices)
        try:
            self._root = self._scan()
            self._carry_over(meant)
        except FormatError as error:
            self._data, self._root = before, meant
            raise FormatError(
                f"the change cannot be written so that it reads back: {error.what}",
                where=error.where,
                remedy="Change it by hand.",
            ) from error
        self._splices = []

    def _carry_over(self, meant: Spanned) -> None:
        """Check the tree that was read against the one that was meant, and take its origins."""
        stack: list[tuple[Path, Spanned, Spanned]] = [((), meant, self._root)]
        while stack:
            path, old, new = stack.pop()
            new.origin, new.was_leaf, new.note = old.origin, old.was_leaf, old.note
            if SCALAR in (old.kind, new.kind):
                empty = not (old.members or new.members) and self._text(new).strip() in _EMPTY
                if old.kind != new.kind and not empty:
                    raise _differs(path)
                told = old.kind == SCALAR == new.kind and old.plain is not UNTOUCHED
                if told and not same_value(self._written(old.plain), self._value(new)):
                    raise _differs(path)
            elif old.members is not None:
                olds, news = old.members, self._members(new)
                if [m.key for m in olds] != [m.key for m in news]:
                    by_key = {m.key: m for m in news}  # what came may stand elsewhere in the text
                    if len(olds) != len(news) or {m.key for m in olds} != by_key.keys():
                        raise _differs(path)
                    news = [by_key[m.key] for m in olds]
                for at, (one, other) in enumerate(zip(olds, news, strict=True)):
                    stack.append(((*path, at if one.key is None else one.key), one, other))
                new.was_leaf = old.was_leaf and not news
            else:
                for at, one in (old.some or {}).items():
                    stack.append(((*path, at), one, self._fitting(new, at)[0][1]))


_PLACES = ("start", "end", "key_start", "key_end", "begin", "stop", "token")
_EMPTY = ("", "{}", "[]", "~", "null")


def spliced(data: bytes, splices: list[Splice]) -> bytes:
    """Return a text with its splices written; they are in order."""
    out: list[bytes | memoryview] = []
    at = 0
    view = memoryview(data)
    for splice in splices:
        if splice.start < at:
            raise FormatError("two changes touch the same text", where=f"byte {splice.start}")
        out += (view[at : splice.start], splice.text)
        at = splice.end
    return b"".join((*out, view[at:]))


def _start(splice: Splice) -> int:
    return splice.start


def _order(splice: Splice) -> tuple[int, int]:
    return splice.start, splice.end


def _differs(path: Path) -> FormatError:
    return FormatError("it reads back as something else", where=format_path(path))
