"""Trees whose nodes lie one behind another: found by columns, and read when somebody looks at them.

A node's own bytes are followed by those of its first child, if it has one, else by the next node: so the
nodes of a tree are a chain, and the numbers of their children tell which is in which. That holds where the
children are the last thing in a node, and all tables hold the same; other trees are read node by node.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from .item import Reading
from .many import BEYOND, Many, Unmeasured
from .strides import follow
from .strings import Size

__all__ = ["TreeView", "element_of", "find_tree"]

_LEAST_BYTES = 1 << 15  # of what is left of a file; for less, NumPy is not imported
_FIRST_NODES = 1 << 14  # that are looked for at first
_MORE = 8  # times as many after that
_MANY_SIBLINGS = 1000


class _Nodes(Struct):
    """The nodes below the root, in the order of the file: where each begins, and how deep it lies.

    `after` is the number of the node behind all that is in it; `stop` the place behind the last one.
    """

    element: Any
    begins: Any  # (n,) int64
    after: Any  # (n,) int64
    depths: Any  # (n,) int16
    stop: int


class TreeView(Struct):
    """The nodes of a tree, as seen from bytes that begin at `shift` of those they were found in."""

    nodes: _Nodes
    shift: int

    def inside(self, begin: int) -> TreeView:
        """Return the view from bytes that begin further on."""
        return TreeView(self.nodes, self.shift + begin)

    def offsets(self, inner: Any, at: int, count: int) -> Any:
        """Return where `count` children begin, the first at `at`, and where the last ends, if known."""
        import numpy as np

        nodes = self.nodes
        if inner is not nodes.element or count < 1:
            return None
        first = int(np.searchsorted(nodes.begins, at + self.shift))
        if first == len(nodes.begins) or nodes.begins[first] != at + self.shift:
            return None
        if count > _MANY_SIBLINGS:  # no shallower node comes before the last of them
            siblings = nodes.depths[first:] == nodes.depths[first]
            numbers = first + np.flatnonzero(siblings)[:count]
        else:
            numbers = np.empty(count, np.int64)
            number = first
            for sibling in range(count):
                numbers[sibling] = number
                number = int(nodes.after[number])
        last = int(nodes.after[numbers[-1]])
        end = int(nodes.begins[last]) if last < len(nodes.begins) else nodes.stop
        return np.append(nodes.begins[numbers], end) - self.shift


def find_tree(kind: Any, element: Any, reading: Reading, *, deepest: int) -> TreeView | None:
    """Return the nodes of the tree that begins here; None if it must be read node by node.

    `kind` is that of the root, `element` what its tables hold.
    """
    import numpy as np

    if reading.left < _LEAST_BYTES or reading.version is None:
        return None
    many = Many(reading.data, reading.layout, reading.version)
    many.element = element
    try:
        ends, counts = _measured(many, kind, np.array([reading.at], np.int64))
        roots = int(counts[0])
        if ends[0] >= reading.stop or not roots:
            return None
        found = _nodes(many, element, int(ends[0]), roots, reading.stop)
    except Unmeasured:
        return None
    if found is None:
        return None
    begins, counts, stop = found
    after, depths = _structure(counts, roots=roots)
    if len(depths) and int(depths.max()) + 2 > deepest:
        return None
    return TreeView(_Nodes(element, begins, after, depths, stop), 0)


def _measured(many: Many, kind: Any, at: Any) -> tuple[Any, Any]:
    """Return where the own bytes of nodes end, and how many children they have."""
    import numpy as np

    many.counts = np.zeros(len(at), np.int64)
    return many.measure(kind, at), many.counts


def _nodes(many: Many, element: Any, at: int, roots: int, stop: int) -> tuple[Any, Any, int] | None:
    """Return begins and counts of `roots` nodes and all that is in them, and the place behind."""
    import numpy as np

    begins, counts, mean = [], [], 0.0
    open_before, wanted = roots, _FIRST_NODES  # nodes that are still to come
    while True:
        places = follow(lambda at: _measured(many, element, at)[0], at, wanted, stop, mean=mean)
        if places is None:
            return None
        some = places[:-1]
        children = _measured(many, element, some)[1]
        if len(some) and int(children.max()) >= BEYOND:
            return None
        to_come = open_before + np.cumsum(children - 1)
        done = np.flatnonzero(to_come == 0)
        if len(done):
            last = int(done[0]) + 1
            begins.append(some[:last])
            counts.append(children[:last])
            return np.concatenate(begins), np.concatenate(counts), int(places[last])
        if len(some) < wanted:
            return None
        begins.append(some)
        counts.append(children)
        mean = (int(places[-1]) - at) / len(some)
        open_before, at, wanted = int(to_come[-1]), int(places[-1]), wanted * _MORE


def _structure(counts: Any, *, roots: int) -> tuple[Any, Any]:
    """Return the number of the node behind each node and all in it, and how deep each lies.

    How many nodes are to come is known before each; a node ends where one less is for the first time.
    """
    import numpy as np

    total = len(counts)
    to_come = np.empty(total + 1, np.int64)
    to_come[0] = roots
    to_come[1:] = roots + np.cumsum(counts - 1)
    keys = np.sort(to_come * (total + 2) + np.arange(total + 1))
    parents = np.flatnonzero(counts)
    after = np.arange(1, total + 1)
    wanted = (to_come[parents] - 1) * (total + 2) + parents
    after[parents] = keys[np.searchsorted(keys, wanted)] % (total + 2)
    begun = np.bincount(parents + 1, minlength=total + 1)
    ended = np.bincount(after[parents], minlength=total + 1)
    return after, np.cumsum(begun - ended)[:total].astype(np.int32)


# ---- which kinds are such trees ----------------------------------------------------------


class _NoChain(Exception):
    """The nodes of the tree are no chain."""


def element_of(named: Any) -> Any:
    """Return what all tables in a kind that holds itself hold; None if its nodes are no chain."""
    try:
        found = list(_elements(named.kind, named, True))
    except _NoChain:
        return None
    same = bool(found) and all(each is found[0] for each in found)
    return found[0] if same and _is_element(found[0], named) else None


def _elements(kind: Any, named: Any, is_last: bool) -> Any:
    """Yield what the tables of a kind hold that lead to a node again; they must come last."""
    if not _reaches(kind, named, set()):
        return
    fields = _fields(kind)
    if fields:
        for number, field in enumerate(fields):
            yield from _elements(field.kind, named, is_last and number == len(fields) - 1)
    elif isinstance(getattr(kind, "count", None), Size) and hasattr(kind, "inner"):
        if not is_last:
            raise _NoChain
        yield kind.inner
    elif hasattr(kind, "kinds"):
        for each in kind.kinds:
            yield from _elements(each, named, is_last)
    else:
        raise _NoChain


def _is_element(kind: Any, named: Any) -> bool:
    """Tell whether a kind is a node, or a group that ends in one."""
    if kind is named:
        return True
    fields = _fields(kind)
    if not fields or fields[-1].kind is not named:
        return False
    return not any(_reaches(field.kind, named, set()) for field in fields[:-1])


def _fields(kind: Any) -> tuple[Any, ...]:
    fields = getattr(kind, "fields", ())  # of a table it is a method
    return fields if isinstance(fields, tuple) else ()


def _reaches(kind: Any, named: Any, seen: set[int]) -> bool:
    """Tell whether a kind is, or holds, a named one."""
    if kind is named:
        return True
    if id(kind) in seen or kind is None:
        return False
    seen.add(id(kind))
    inner = [field.kind for field in _fields(kind)]
    inner += [
        getattr(kind, "inner", None),
        getattr(kind, "kind", None),
        *getattr(kind, "kinds", ()),
    ]
    inner += [case[1] for case in getattr(kind, "cases", {}).values() if isinstance(case, tuple)]
    return any(_reaches(each, named, seen) for each in inner)
