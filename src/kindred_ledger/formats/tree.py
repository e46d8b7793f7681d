"""Trees of values: what all codecs with nested values share.

A node is a mapping, a list or a scalar. The members of a container that was read are made when
somebody looks at them, so a large file costs what is looked at. What a codec adds is how its
members are found, how a value is written, and what a change means for the text around it.

What always holds: a leaf knows the path it was read under, wherever it went since; of a key that
stands twice, neither is edited, as readers differ in which they take.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Container, Iterator, Sequence
from typing import Any, Generic, TypeVar

from msgspec import Struct

from ..errors import FormatError, UsageError
from .document import (
    ANY,
    Leaf,
    Path,
    document_paths,
    format_path,
    not_reordered,
    occupied,
    paths_as_text,
)

__all__ = ["LIST", "MAPPING", "SCALAR", "Node", "TreeDocument"]

MAPPING, LIST, SCALAR = "mapping", "list", "scalar"
_MANY = 32  # members; from there on keys are looked up in a table


class Node(Struct, eq=False):
    """A value in a tree; codecs add where its text is.

    `key` is None in a list. `origin` is the path it was read under, None if it was added; it
    counts as a leaf's only if it was one then (`was_leaf`). `members` None: not looked at yet.
    """

    kind: str
    parent: Any = None
    key: str | None = None
    origin: Path | None = None
    was_leaf: bool = False
    note: str = ""
    members: list[Any] | None = None
    at: int = 0  # where it was among its siblings when last looked for
    table: dict[str, list[Any]] | None = None

    def __repr__(self) -> str:
        return f"<{self.kind} {self.key}>"


N = TypeVar("N", bound=Node)


@paths_as_text("origin_of")
@document_paths
class TreeDocument(ABC, Generic[N]):
    """A document over a tree of nodes; see `Document` for the calls."""

    _root: N
    keeps_order = True  # whether the members of a mapping stand in an order that is written

    # ---- what a codec says ---------------------------------------------------------------

    @abstractmethod
    def _expand(self, node: N) -> list[N]:
        """Make the members of a container that was read, each with its key and kind."""

    @abstractmethod
    def _text(self, node: N) -> str:
        """Return the text of a scalar."""

    @abstractmethod
    def _value(self, node: N) -> Any:
        """Return the value of a scalar."""

    @abstractmethod
    def _made(self, value: Any, path: Path) -> N:
        """Return a new node for plain values; raise `FormatError` if the format has no such."""

    @abstractmethod
    def _replace(self, old: N, new: N) -> None:
        """Put a node in the place of another one; `new.parent` and `new.key` are set."""

    @abstractmethod
    def _append(self, parent: N, node: N, path: Path) -> None:
        """Put a node behind the members of a container; `node.key` is set."""

    @abstractmethod
    def _detach(self, node: N) -> None:
        """Take a node out of its container; comments stay."""

    @abstractmethod
    def _rename(self, node: N, key: str, path: Path) -> None:
        """Give a member of a mapping another key."""

    @abstractmethod
    def encode(self) -> bytes:
        """Return the bytes; those of an unedited document are the bytes it was read from.

        Raises:
            FormatError: they would be read back as something else than the document holds.
        """

    def _same_whole(self, node: N, found: Any, other: N, path: Path) -> bool | None:
        """Tell whether a node is one that was read back, told by bytes or columns; None if it must be
        looked at value by value."""
        return None

    # ---- the document --------------------------------------------------------------------

    def leaves(self, at: Path = (), *, without: Container[Path] = ()) -> Iterator[Leaf]:
        at = self._full(at)
        if at and not self.find(at):
            return
        start = self._node(at)
        if start.kind == SCALAR:
            yield self._leaf(start, at)
            return
        # Containers on the way, each with what is left of it: a leaf costs no more than a step.
        if at in without:
            return
        stack = [(at, enumerate(self._members(start)))]
        if not start.members:
            yield self._leaf(start, at)
        while stack:
            base, members = stack[-1]
            for number, node in members:
                path = (*base, number if node.key is None else node.key)
                if node.kind == SCALAR:
                    text, value = self._both(node)
                    origin = node.origin if node.was_leaf else None
                    yield Leaf(path, value, text, origin, node.note)
                elif path not in without:
                    inner = self._members(node)
                    if inner:
                        stack.append((path, enumerate(inner)))
                        break
                    yield self._leaf(node, path)
            else:
                stack.pop()

    def _leaf(self, node: N, path: Path) -> Leaf:
        """Return the leaf of a scalar, or of a container without members."""
        origin = node.origin if node.was_leaf else None
        if node.kind == SCALAR:
            text, value = self._both(node)
            return Leaf(path, value, text, origin, node.note)
        empty: Any = {} if node.kind == MAPPING else []
        return Leaf(path, empty, "{}" if node.kind == MAPPING else "[]", origin, node.note)

    def _both(self, node: N) -> tuple[str, Any]:
        """Return the text and the value of a scalar."""
        return self._text(node), self._value(node)

    def find(self, pattern: Path) -> list[Path]:
        found: list[tuple[Path, N]] = [((), self._root)]
        for part in pattern:
            found = [
                ((*path, key), member)
                for path, node in found
                for key, member in self._fitting(node, part)
            ]
        return [path for path, _ in found]

    def get(self, path: Path) -> Any:
        return self._plain(self._node(self._full(path)))

    def set(self, path: Path, value: Any, *, note: str = "") -> None:
        path = self._full(path)
        try:
            old = self._node(path)
        except UsageError:
            self._insert(path, value, note)
            return
        fresh = self._noted(value, path, note)
        if not (self._members(old) or self._members(fresh)):  # a leaf in a leaf's place
            fresh.origin, fresh.was_leaf = old.origin, old.was_leaf
            fresh.note = old.note or note
        fresh.parent, fresh.key, fresh.at = old.parent, old.key, old.at
        self._replace(old, fresh)

    def remove(self, path: Path) -> None:
        node = self._node(self._full(path))
        if node.parent is None:
            raise FormatError("the whole of a document cannot be removed")
        self._detach(node)

    def move(self, path: Path, to: Path) -> None:
        path, to = self._full(path), self._full(to)
        if self.find(to):
            raise occupied(to)
        node = self._node(path)
        if to[: len(path)] == path:
            raise FormatError("a value cannot be moved into itself", where=format_path(path))
        if path[:-1] == to[:-1] and isinstance(to[-1], str) and node.key is not None:
            self._rename(node, to[-1], to)
            return
        self._check_room(to)
        self._relocate(path, to)

    def _relocate(self, path: Path, to: Path) -> None:
        """Take a value out and put it where nothing is.

        Where it goes is found first: what goes out of a list gives those behind it other numbers.
        """
        holder = self._holder(to)
        node = self._node(path)
        self._detach(node)
        self._add(holder, node, to)

    def origin_of(self, path: Path) -> Path | None:
        """Return the path that what stands at a path was read under, None if it was added."""
        return self._node(self._full(path)).origin

    def reorder(self, path: Path, order: Sequence[int]) -> None:
        node = self._node(self._full(path))
        if node.kind == SCALAR:
            raise not_reordered(path)
        if sorted(order) != list(range(len(self._members(node)))):
            raise UsageError("an order has every member once", where=format_path(path))
        self._permute(node, [node.members[at] for at in order])  # type: ignore[index]

    def _permute(self, node: N, members: list[N]) -> None:
        """Give a container its members in another order; codecs whose text allows it say how."""
        raise not_reordered(node.origin or ())

    def _full(self, path: Path) -> Path:
        """Return a path as it stands in the tree, where a codec allows shorter ones."""
        return path

    # ---- for codecs ----------------------------------------------------------------------

    def _members(self, node: N) -> list[N]:
        """Return the members of a container, made now if nobody looked before."""
        if node.members is None:
            node.members = [] if node.kind == SCALAR else self._expand(node)
            origin = node.origin
            for at, member in enumerate(node.members):
                member.parent, member.at = node, at
                if origin is not None:
                    member.origin = (*origin, at if member.key is None else member.key)
                    member.was_leaf = member.kind == SCALAR
            if origin is not None and not node.members:
                node.was_leaf = True
        return node.members

    def _position(self, node: N) -> int:
        """Return where a node is among its siblings."""
        members = node.parent.members
        if members is None:  # a list of which only some were looked at
            return node.at
        if node.at >= len(members) or members[node.at] is not node:
            node.at = members.index(node)
        return node.at

    def _keyed(self, node: N) -> Iterator[tuple[str | int, N]]:
        for at, member in enumerate(self._members(node)):
            yield (at if member.key is None else member.key), member

    def _fitting(self, node: N, part: str | int) -> list[tuple[str | int, N]]:
        """Return the members a part of a pattern means."""
        if part == ANY:
            return list(self._keyed(node))
        members = self._members(node)
        if isinstance(part, int):
            inside = node.kind == LIST and part < len(members)
            return [(part, members[part])] if inside else []
        if node.kind != MAPPING:
            return []
        if len(members) < _MANY:
            return [(part, member) for member in members if member.key == part]
        if node.table is None:
            node.table = {}
            for member in members:
                node.table.setdefault(member.key or "", []).append(member)
        return [(part, member) for member in node.table.get(part, ())]

    def _walk(self, node: N, path: Path) -> Iterator[tuple[Path, N]]:
        stack: list[tuple[Path, N]] = [(path, node)]
        while stack:
            path, node = stack.pop()
            if self._members(node):
                inner = [((*path, key), member) for key, member in self._keyed(node)]
                yield path, node
                stack.extend(reversed(inner))
            else:
                yield path, node

    def _node(self, path: Path) -> N:
        node = self._root
        for depth, part in enumerate(path):
            fitting = self._fitting(node, part) if part != ANY else []
            if not fitting:
                raise UsageError("there is no such value", where=format_path(path[: depth + 1]))
            if len(fitting) > 1:
                raise FormatError(
                    f"the key stands there {len(fitting)} times, so it is not changed",
                    where=format_path(path[: depth + 1]),
                    remedy="Remove all but one by hand.",
                )
            node = fitting[0][1]
        return node

    def _plain(self, node: N) -> Any:
        if node.kind == SCALAR:
            return self._value(node)
        if node.kind == LIST:
            return [self._plain(member) for member in self._members(node)]
        return {member.key: self._plain(member) for member in self._members(node)}

    def _insert(self, path: Path, value: Any, note: str) -> None:
        """Put a value where nothing is, in one piece with the mappings it needs."""
        self._check_room(path)
        depth = len(path) - 1
        while depth and not self.find(path[:depth]):
            depth -= 1
        for part in reversed(path[depth + 1 :]):
            value = {part: value}
        self._add(self._node(path[:depth]), self._noted(value, path, note), path[: depth + 1])

    def _holder(self, path: Path) -> N:
        """Return the container that a path lies in, made if it is not there."""
        if not self.find(path[:-1]):
            self._insert(path[:-1], {}, "")
        return self._node(path[:-1])

    def _noted(self, value: Any, path: Path, note: str) -> N:
        """Return a new node for plain values that carries a note."""
        fresh = self._made(value, path)
        for _, inner in self._walk(fresh, ()):
            inner.note = note
        return fresh

    def _add(self, parent: N, node: N, path: Path) -> None:
        node.parent = parent
        node.key = path[-1] if isinstance(path[-1], str) else None
        self._append(parent, node, path)

    def _check_room(self, path: Path) -> None:
        """Raise before anything is changed if nothing can be put at a path."""
        node: N | None = self._root
        for depth, part in enumerate(path):
            if node is None:
                fits = isinstance(part, str)
            else:
                found = self._fitting(node, part)
                if found:
                    node = found[0][1]
                    continue
                in_order = node.kind == LIST and part == len(self._members(node))
                fits = in_order if isinstance(part, int) else node.kind == MAPPING
            if not fits or part == ANY:
                kind = node.kind if node else MAPPING
                raise FormatError(
                    f"nothing can be put there: it lies in a {kind}",
                    where=format_path(path[: depth + 1]),
                )
            node = None
