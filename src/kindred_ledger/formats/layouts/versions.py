"""What comes and goes between two versions of a layout, as patterns of paths.

Fields that only come, go or widen need no step: what goes is dropped, what comes gets its default,
and a field that stands in both under one name is written as the newer kind.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ..document import ANY, Path
from .directory import At, Each
from .item import Field
from .layout import Layout
from .parts import Block, Choice, Group, Optional, Sections
from .rows import Table

__all__ = ["Coming", "changes_between"]


class Coming(Struct, frozen=True):
    """A field that the one version has and the other has not.

    `default` None: the layout has none. `derived`: a checksum, made from what is written. `within` are the
    parts it lies in that may not be there, or be something else: how long their paths are, and the kind
    that a choice must have made; None if it must be there only.
    """

    path: Path
    comes: bool
    default: Any = None
    derived: bool = False
    within: tuple[tuple[int, Any], ...] = ()


def changes_between(layout: Layout, source: int, target: int) -> tuple[Coming, ...]:
    """Return what goes and what comes, in the order of the layout."""
    return tuple(_of_fields(layout.root.fields, (), source, target))


def _of_fields(fields: tuple[Field, ...], at: Path, source: int, target: int) -> Iterator[Coming]:
    before = {field.name: field for field in fields if field.name and field.is_in(source)}
    after = {field.name: field for field in fields if field.name and field.is_in(target)}
    for name, field in before.items():
        if name not in after:
            yield Coming((*at, name), comes=False, derived=field.is_derived)
        elif field is after[name]:
            yield from _inside(field.kind, (*at, name), source, target)
    for name, field in after.items():
        lacking = field.may_lack and not field.is_derived
        if name not in before and field.condition is None and not lacking:
            default = field.default if field.default is not None else field.constant
            yield Coming((*at, name), True, default, field.is_derived)


def _inside(kind: Any, at: Path, source: int, target: int) -> Iterator[Coming]:
    if isinstance(kind, Group):
        yield from _of_fields(kind.fields, at, source, target)
    elif isinstance(kind, Table):
        yield from _inside(kind.inner, (*at, ANY), source, target)
    elif isinstance(kind, Block):
        yield from _inside(kind.inner, at, source, target)
    elif isinstance(kind, Each):
        yield from _in_part(kind.inner, (*at, ANY), None, source, target)
    elif isinstance(kind, (At, Optional)):
        yield from _in_part(kind.inner, at, None, source, target)
    elif isinstance(kind, Choice):
        for inner in kind.kinds:
            yield from _in_part(inner, at, inner, source, target)
    elif isinstance(kind, Sections):
        for _, inner, _ in kind.cases.values():  # there may be several of one tag
            yield from _in_part(inner, (*at, ANY), inner, source, target)


def _in_part(inner: Any, at: Path, case: Any, source: int, target: int) -> Iterator[Coming]:
    for each in _inside(inner, at, source, target):
        yield replace(each, within=((len(at), case), *each.within))
