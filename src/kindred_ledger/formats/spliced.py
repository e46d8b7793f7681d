"""Documents edited by splices: the new text goes where the old one stood, the rest is not touched.

A codec says where each value, key and member begins and ends. Edits collect as splices over the
text that was read; nothing is read again until an edit needs the place of something that an
earlier one wrote. Then, and before the bytes are handed out, the spliced text is read anew and held
against the tree that was meant, value by value: what cannot be written so that it reads back is an
error. An edit that fails half way is taken back.
"""

from __future__ import annotations

from abc import abstractmethod
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ..errors import FormatError
from .document import Path, document_paths, format_path, not_reordered, same_value
from .reading_back import differs, unreadable
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


@document_paths
class SplicedDocument(TreeDocument[Spanned]):
    """A text file edited by splices; see the module."""

    _state: tuple[str, ...] = ("_data", "_root", "_splices")  # what reading the text anew replaces

    def __init__(self, data: bytes) -> None:
        text = self._decoded(data)
        utf8 = text.encoding == "utf-8"
        self._data = data[len(text.mark) :] if utf8 else text.text.encode("utf-8")
        self._newline = text.newline
        self._encoding = Text("", text.encoding, text.mark, text.is_declared)
        self._splices: list[Splice] = []
        self._undo: list[Callable[[], Any]] = []  # what takes the edit back that is under way
        self._editing = False
        self._read_again = False
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

    def _has_room(self, parent: Spanned) -> bool:
        """Tell whether the places are known that `_put` needs; in a list, those of all members."""
        listed = self._members(parent) if parent.kind == LIST else ()
        return parent.start >= 0 and all(member.start >= 0 for member in listed)

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
        self._reread()
        if self._encoding.encoding == "utf-8":
            data = self._encoding.mark + self._data
        else:
            data = self._encoding.encode(self._data.decode())
        if self._read_again:
            text = self._decoded(data)
            if (text.mark, text.text.encode()) != (self._encoding.mark, self._data):
                raise unreadable("it would be taken for text in another encoding", "the file")
        return data

    def set(self, path: Path, value: Any, *, note: str = "") -> None:
        with self._whole():
            super().set(path, value, note=note)

    def remove(self, path: Path) -> None:
        with self._whole():
            super().remove(path)

    def move(self, path: Path, to: Path) -> None:
        with self._whole():
            super().move(path, to)

    def reorder(self, path: Path, order: Sequence[int]) -> None:
        with self._whole():
            self._reread()  # what changes places is taken from the text as it is
            super().reorder(path, order)
            self._reread()

    @contextmanager
    def _whole(self) -> Iterator[None]:
        """Take an edit back if it fails half way."""
        if self._editing:
            yield
            return
        state = [(name, getattr(self, name)) for name in self._state]
        self._editing = True
        try:
            yield
        except Exception:
            for undo in reversed(self._undo):
                undo()
            for name, value in state:
                setattr(self, name, value)
            raise
        finally:
            self._editing = False
            self._undo.clear()

    def _put_member(self, parent: Spanned, at: int, node: Spanned) -> None:
        """Put a node among the members of a container."""
        members = self._members(parent)
        members.insert(at, node)
        parent.table = None
        self._undo.append(lambda: _removed(parent, at))

    def _take_member(self, node: Spanned) -> None:
        """Take a node from among the members of its container."""
        parent = node.parent
        self._members(parent)  # all of them, of a list of which only some were looked at
        at = self._position(node)
        del parent.members[at]
        parent.table = None
        self._undo.append(lambda: _inserted(parent, at, node))

    def _alter(self, node: Spanned, **values: Any) -> None:
        """Change what is known of a node."""
        before = {name: getattr(node, name) for name in values}
        self._undo.append(lambda: _assign(node, before))
        _assign(node, values)

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
            some, at = old.parent.some, old.at
            some[at] = new
            self._undo.append(lambda: some.__setitem__(at, old))
        else:
            members, at = old.parent.members, self._position(old)
            members[at] = new
            old.parent.table = None
            self._undo.append(lambda: _exchanged(old, at))

    def _add(self, parent: Spanned, node: Spanned, path: Path) -> None:
        key = path[-1] if isinstance(path[-1], str) else None
        self._alter(node, parent=parent, key=key)
        self._append(parent, node, path)

    def _append(self, parent: Spanned, node: Spanned, path: Path) -> None:
        if not self._has_room(parent):
            there = self._path(parent)
            self._reread()
            parent = self._node(there)
        self._alter(node, parent=parent)
        self._splice(self._put(parent, node, path))
        for _, inner in self._walk(node, ()):
            text = self._text(inner) if inner.kind == SCALAR else None
            self._alter(inner, text=text, **dict.fromkeys(_SPAN, -1))
        self._put_member(parent, len(self._members(parent)), node)

    def _detach(self, node: Spanned) -> None:
        if not self._can_go(node):
            path = self._path(node)
            self._reread()
            node = self._node(path)
        self._splice(self._without(node))
        self._take_member(node)

    def _rename(self, node: Spanned, key: str, path: Path) -> None:
        node = self._placed(node)
        self._splice(self._renamed(node, key, path))
        node.parent.table = None
        self._alter(node, key=key)

    def _relocate(self, path: Path, to: Path) -> None:
        holder = self._holder(to)
        node = self._node(path)
        begin, stop = self._extent(node) if node.start >= 0 else (0, 0)
        moved = any(begin <= splice.start <= stop for splice in self._splices)
        if node.start < 0 or moved or not (self._has_room(holder) and self._can_go(node)):
            self._reread()  # what moves is taken from the text as it is
            holder, node = self._node(to[:-1]), self._node(path)
        self._detach(node)
        self._add(holder, node, to)

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
        self._alter(node, members=list(members), some=None)

    def _placed(self, node: Spanned) -> Spanned:
        """Return a node, or the one that stands for it once the text is read again."""
        if node.start >= 0:
            return node
        path = self._path(node)
        self._reread()
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
                before = kept[first:last]
                after = [
                    old
                    for old in before
                    if old.end > new.end
                    or (old.start == old.end and old.start in (new.start, new.end))
                ]
                if len(after) < len(before):
                    kept[first:last] = after
                    stop = first + len(after)
                    self._undo.append(_restoring(kept, first, stop, before))
            at = bisect_right(kept, _order(new), key=_order)
            kept.insert(at, new)
            self._undo.append(_restoring(kept, at, at + 1, []))

    def _reread(self) -> None:
        """Write the splices, read the text again and hold it against the tree that was meant."""
        if not self._splices:
            return
        state = {name: getattr(self, name) for name in self._state}
        meant = self._root
        try:
            self._data = spliced(self._data, self._splices)
            self._root = self._scan()
            self._carry_over(meant, state)
        except FormatError as error:
            _assign(self, state)
            told = error.what.rpartition("reads back: ")[2]
            raise unreadable(told, error.where or "") from error
        self._splices = []
        self._read_again = True

    def _carry_over(self, meant: Spanned, state: dict[str, Any]) -> None:
        """Check the tree that was read against the one that was meant, and take its origins.

        `state` is what was read before: the text that untouched nodes lie in.
        """
        stack: list[tuple[Path, Spanned, Spanned]] = [((), meant, self._root)]
        while stack:
            path, old, new = stack.pop()
            new.origin, new.was_leaf, new.note = old.origin, old.was_leaf, old.note
            if SCALAR in (old.kind, new.kind):
                if old.kind == new.kind:
                    try:
                        same = self._reads_as(old, new, state)
                    except FormatError as error:
                        raise error.inside(format_path(path)) from None
                else:
                    same = self._same_in_other_form(old, new, state)
                if not same:
                    raise differs(path)
            elif old.members is not None:
                olds, news = old.members, self._members(new)
                if [m.key for m in olds] != [m.key for m in news]:
                    by_key = {m.key: m for m in news}  # what came may stand elsewhere in the text
                    if len(olds) != len(news) or {m.key for m in olds} != by_key.keys():
                        raise differs(path)
                    news = [by_key[m.key] for m in olds]
                for at, (one, other) in enumerate(zip(olds, news, strict=True)):
                    stack.append(((*path, at if one.key is None else one.key), one, other))
                new.was_leaf = old.was_leaf and not news
            else:
                if not self._same_unseen(old, new, state):
                    raise differs(path)
                for at, one in (old.some or {}).items():
                    stack.append(((*path, at), one, self._fitting(new, at)[0][1]))

    def _same_in_other_form(self, old: Spanned, new: Spanned, state: dict[str, Any]) -> bool:
        """Tell whether a container and a single value are the same, where a format has one for the other."""
        return False

    def _reads_as(self, old: Spanned, new: Spanned, state: dict[str, Any]) -> bool:
        """Tell whether a scalar was read with the value that was meant."""
        if old.plain is not UNTOUCHED:
            return same_value(self._written(old.plain), self._value(new))
        text = old.text
        if text is None:
            text = state["_data"][old.start : old.end].decode()
        return text == self._text(new)

    def _same_unseen(self, old: Spanned, new: Spanned, state: dict[str, Any]) -> bool:
        """Tell whether a container is the same whose members nobody looked at, but for `some`."""
        raise NotImplementedError


_SPAN = ("start", "end", "key_start", "key_end", "begin", "stop")
_PLACES = (*_SPAN, "token")


def spliced(data: bytes, splices: list[Splice]) -> bytes:
    """Return a text with its splices written; they are in order.

    Raises:
        FormatError: two changes touch the same text.
    """
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


def _removed(parent: Spanned, at: int) -> None:
    del parent.members[at]  # type: ignore[union-attr]
    parent.table = None


def _inserted(parent: Spanned, at: int, node: Spanned) -> None:
    parent.members.insert(at, node)  # type: ignore[union-attr]
    parent.table = None


def _exchanged(node: Spanned, at: int) -> None:
    node.parent.members[at] = node
    node.parent.table = None


def _restoring(
    kept: list[Splice], first: int, last: int, before: list[Splice]
) -> Callable[[], None]:
    def restore() -> None:
        kept[first:last] = before

    return restore


def _assign(target: Any, values: dict[str, Any]) -> None:
    for name, value in values.items():
        setattr(target, name, value)
