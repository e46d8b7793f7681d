"""Checking a layout against samples: read, write, compare; and which fields no sample reached."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from msgspec import Struct

from ...errors import FormatError
from ..document import format_path
from ..tree import LIST
from .document import LayoutDocument
from .item import Field, Item
from .layout import Layout
from .parts import Group

__all__ = ["LayoutReport", "SampleResult", "check_layout"]


class SampleResult(Struct, frozen=True):
    """How a sample fared: its version, and what is wrong, "" if nothing is."""

    name: str
    size_bytes: int
    version: int | None
    fault: str = ""


class LayoutReport(Struct, frozen=True):
    """What checking a layout found; `unreached` holds (version, field, line of the layout).

    A version that no sample is of stands there once, with the field "".
    """

    samples: tuple[SampleResult, ...]
    unreached: tuple[tuple[int, str, int], ...]

    @property
    def is_sound(self) -> bool:
        """Tell whether all samples came back and every field of every version was reached."""
        return not self.unreached and not any(sample.fault for sample in self.samples)


def check_layout(layout: Layout, samples: Iterable[tuple[str, bytes]]) -> LayoutReport:
    """Read each sample, write it anew field by field, and compare the bytes.

    What is written anew need not be the same bytes where a format has several ways to say one
    thing (padding, compression); then what it says must be the same.
    """
    reached: set[tuple[int, int]] = set()
    results = []
    for name, data in samples:
        version: int | None = None
        try:
            document = LayoutDocument(data, layout)
            version = document.version
            for item in _items(document.root):
                if item.field is not None:
                    reached.add((version, item.field.at))
            fault = _difference(document, data, layout)
        except FormatError as error:
            fault = str(error)
        results.append(SampleResult(name, len(data), version, fault))
    seen = {result.version for result in results}
    missed = []
    for version in range(layout.low, layout.high + 1):
        if version not in seen:
            missed.append((version, "", 0))
            continue
        for path, field in _fields(layout.root, version, ""):
            if (version, field.at) not in reached:
                line = layout.source.text.count("\n", 0, field.at) + 1
                missed.append((version, path, line))
    return LayoutReport(tuple(results), tuple(missed))


def _difference(document: LayoutDocument, data: bytes, layout: Layout) -> str:
    if document.encode() != data:
        return "what was not touched is not written as it was read"
    before = [(leaf.path, leaf.text) for leaf in document.leaves()]
    for item in _items(document.root):
        item.dirty = True
    again = LayoutDocument(document.encode(), layout)
    after = [(leaf.path, leaf.text) for leaf in again.leaves()]
    differing = [one[0] for one, other in zip(before, after, strict=False) if one != other]
    # Compressed anew, a block has another size; what is made of the bytes follows.
    left = [path for path in differing if not again.is_computed(path)]
    if left or len(before) != len(after):
        return f"written anew, it reads back otherwise: {format_path(left[0]) if left else 'rows'}"
    return ""


def _items(root: Item) -> Iterator[Item]:
    stack = [root]
    while stack:
        item = stack.pop()
        yield item
        if item.rows is not None and item.kind == LIST and item.members is None:
            stack += [item.maker.row(item, n) for n in range(min(item.rows.count, 1))]
        stack += item.members or ()


def _fields(kind: Any, version: int, path: str) -> Iterator[tuple[str, Field]]:
    """Yield every named field of a version with its path."""
    for field in kind.fields if isinstance(kind, Group) else ():
        if field.is_in(version) and field.name:
            name = f"{path}.{field.name}" if path else field.name
            yield name, field
            yield from _fields(field.kind, version, name)
    inner = getattr(kind, "inner", None)
    if inner is not None:
        yield from _fields(inner, version, path)
    for case in getattr(kind, "cases", {}).values():
        if isinstance(case, tuple):
            name = f"{path}.{case[0]}" if path else case[0]
            yield from _fields(case[1], version, name)
        else:
            yield from _fields(case, version, path)
    if getattr(kind, "otherwise", None) is not None:
        yield from _fields(kind.otherwise, version, path)
