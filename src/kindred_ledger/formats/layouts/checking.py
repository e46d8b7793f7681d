"""Checking a layout against samples: read, write, compare; and which fields no sample reached."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import Any

from msgspec import Struct

from ...errors import FormatError
from ...finding import Finding
from ..document import format_path
from ..tree import LIST
from .document import LayoutDocument
from .item import Field, Item
from .layout import Layout
from .parts import Group, Named

__all__ = ["LayoutReport", "SampleResult", "check_layout"]


class SampleResult(Struct, frozen=True):
    """A sample that was tried: its name, and its version if that could be read."""

    name: str
    size_bytes: int
    version: int | None


class LayoutReport(Struct, frozen=True):
    """What checking a layout found: errors of samples, by name; a warning for each field none reached."""

    samples: tuple[SampleResult, ...]
    findings: tuple[Finding, ...]

    @property
    def is_sound(self) -> bool:
        """Tell whether all samples came back and every field of every version was reached."""
        return not self.findings


def check_layout(layout: Layout, samples: Iterable[tuple[str, bytes]]) -> LayoutReport:
    """Read each sample, write it anew field by field, and compare the bytes.

    What is written anew need not be the same bytes where a format has several ways to say one
    thing (padding, compression); then what it says must be the same.
    """
    reached: set[tuple[int, int]] = set()
    results, findings = [], []
    for name, data in samples:
        version: int | None = None
        try:
            document = LayoutDocument(data, layout)
            version = document.version
            if len(document.fits) > 1:
                known = " and ".join(map(str, document.fits))
                what = f"it can be read in versions {known} alike; it was tried in {version}"
                findings.append(Finding.warning("versions-alike", what, where=name))
            for item in _items(document.root):
                if item.field is not None:
                    reached.add((version, item.field.at))
            fault = _difference(document, data, layout)
            if fault:
                findings.append(Finding.error("not-same-bytes", fault, where=name))
        except FormatError as error:
            findings.append(error.inside(name).finding("not-readable"))
        results.append(SampleResult(name, len(data), version))
    findings += _untried(layout, {result.version for result in results}, reached)
    return LayoutReport(tuple(results), tuple(findings))


def _untried(
    layout: Layout, seen: Collection[int | None], reached: Collection[tuple[int, int]]
) -> Iterator[Finding]:
    """Yield the versions no sample is of, together, and each field none reaches, once."""
    versions = range(layout.low, layout.high + 1)
    if missing := [version for version in versions if version not in seen]:
        yield Finding.warning("version-untried", f"no sample is of {_in_words(missing)}")
    untried: dict[tuple[str, int], list[int]] = {}
    for version in versions:
        for path, field in _fields(layout.root, version, "") if version in seen else ():
            if (version, field.at) not in reached:
                untried.setdefault((path, field.at), []).append(version)
    for (path, at), found in untried.items():
        line = layout.source.text.count("\n", 0, at) + 1
        what = f"no sample of {_in_words(found)} reaches it (line {line})"
        yield Finding.warning("field-untried", what, field=path)


def _in_words(versions: Sequence[int]) -> str:
    """Return versions in words: a version, or several, runs of them as from and to."""
    runs: list[list[int]] = []
    for version in versions:
        if runs and version == runs[-1][1] + 1:
            runs[-1][1] = version
        else:
            runs.append([version, version])
    told = [
        str(low) if low == high else f"{low}{' to ' if high > low + 1 else ' and '}{high}"
        for low, high in runs
    ]
    return f"version{'s' if len(versions) > 1 else ''} {', '.join(told)}"


def _difference(document: LayoutDocument, data: bytes, layout: Layout) -> str:
    if document.encode() != data:
        return "what was not touched is not written as it was read"
    before = [(leaf.path, leaf.text) for leaf in document.leaves()]
    for item in _items(document.root):
        item.dirty = True
    again = LayoutDocument(document.encode(), layout, version=document.version)
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


def _fields(
    kind: Any, version: int, path: str, known: frozenset[str] = frozenset()
) -> Iterator[tuple[str, Field]]:
    """Yield every named field of a version with its path; `known` are named kinds that it lies in."""
    if isinstance(kind, Named) and kind.name not in known:
        yield from _fields(kind.kind, version, path, known | {kind.name})
    for field in kind.fields if isinstance(kind, Group) else ():
        if field.is_in(version) and field.name:
            name = f"{path}.{field.name}" if path else field.name
            yield name, field
            yield from _fields(field.kind, version, name, known)
    inner = getattr(kind, "inner", None)
    if inner is not None:
        yield from _fields(inner, version, path, known)
    for case in getattr(kind, "cases", {}).values():
        if isinstance(case, tuple):
            name = f"{path}.{case[0]}" if path else case[0]
            yield from _fields(case[1], version, name, known)
        else:
            yield from _fields(case, version, path, known)
    if getattr(kind, "otherwise", None) is not None:
        yield from _fields(kind.otherwise, version, path, known)
