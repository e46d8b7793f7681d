"""What the paths of a layout mean: one to nothing is refused when the layout is loaded."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from functools import partial
from typing import Any

from ...suggestions import hint
from ..expressions import Expression
from .checks import Checksum
from .directory import At, Each
from .item import Field
from .numbers import Bits
from .parts import Block, Choice, Group, Named, Optional, Sections
from .pools import Pooled
from .rows import Table
from .strings import Size

__all__ = ["resolve"]

_PLACES = ("start", "here", "end")
Names = dict[str, list[Field]]  # of the fields of a group, of all versions


def resolve(layout: Any) -> None:
    """Check all paths of a layout, and note what follows directories and which columns they write.

    Raises:
        LayoutError: a path leads to nothing that is read before it; with the line.
    """
    resolver = _Resolver(layout)
    resolver.group(layout.root, [], ())
    for check in resolver.late:
        check()


class _Resolver:
    def __init__(self, layout: Any) -> None:
        self._layout = layout
        self._known: set[int] = set()  # kinds with names, that were looked into
        self._within = 0  # how many of these it lies in
        self.late: list[Callable[[], None]] = []  # of what may come later in the file

    def group(self, group: Group, around: list[Names], behind: tuple[Field, ...]) -> None:
        """Look through a group; `around` are the names of those it lies in, `behind` what follows it."""
        names: Names = {}
        groups = [*around, names]
        self._note_runs(group, behind)
        for number, field in enumerate(group.fields):
            self._field(field, groups)
            self._kind(field.kind, field, groups, (*group.fields[number + 1 :], *behind))
            self._note_end(field, (*group.fields[number + 1 :], *behind))
            if field.name:
                names.setdefault(field.name, []).append(field)

    def _note_end(self, field: Field, behind: tuple[Field, ...]) -> None:
        """Note what follows a field that goes to the end: it goes to that, if it has a fixed size."""
        kind = field.kind
        size = getattr(kind, "count" if isinstance(kind, Table) else "size", None)
        if behind and isinstance(size, Size) and size.to_end:
            self._layout.reserved[id(field)] = behind

    def _note_runs(self, group: Group, behind: tuple[Field, ...]) -> None:
        """Note which fields share a region, for their parts lie elsewhere, and what follows it."""
        run: list[Any] = []
        for number, field in enumerate((*group.fields, None)):
            if field is not None and isinstance(field.kind, (At, Each)):
                run.append(field.kind)
                continue
            for kind in run:
                self._layout.runs[id(kind)] = (id(run[0]), (*group.fields[number:], *behind))
            run = []

    def _field(self, field: Field, groups: list[Names]) -> None:
        if self._within and (field.since, field.until) != (None, None):
            self._fail("in a type that holds itself, every field is in all versions", field)
        condition = field.condition
        if condition is not None and condition.expression is not None:
            self._expression(condition.expression, field, groups)
        elif condition is not None:
            self._need(condition.path, field, groups)
        derives = field.derives
        if derives is None:
            return
        if derives.expression is not None:
            self.late.append(lambda: self._expression(derives.expression, field, groups))
        else:
            self.late.append(partial(self._derived, derives, field, groups))

    def _derived(self, derives: Any, field: Field, groups: list[Names]) -> None:
        self._need(derives.path, field, groups, where="in the file")
        if derives.what == "unpacked" and not any(
            _is_block(found.kind) for found in _found(derives.path, groups)
        ):
            self._fail(f"{derives.path} is no block, and holds nothing that was unpacked", field)

    def _kind(
        self, kind: Any, field: Field, groups: list[Names], behind: tuple[Field, ...]
    ) -> None:
        for size in (getattr(kind, "size", None), getattr(kind, "count", None)):
            if isinstance(size, Size) and size.path:
                self._need(size.path, field, groups)
                self._layout.sizes |= set(map(id, _found(size.path, groups)))
            if isinstance(size, Size) and size.expression is not None:
                self._expression(size.expression, field, groups)
        if isinstance(kind, Group):
            self.group(kind, groups, behind)
        elif isinstance(kind, (At, Each)):
            self._layout.runs.setdefault(id(kind), (id(kind), behind))
            if kind.places.base not in _PLACES:
                self._need(kind.places.base, field, groups)
            if kind.places.unpacked and not _is_block(kind.inner):
                self._fail("only a block is unpacked", field)
            told = self._each if isinstance(kind, Each) else self._at
            self._kind(kind.inner, field, [*groups, told(kind, field, groups)], ())
        elif isinstance(kind, (Block, Table)):
            self._kind(kind.inner, field, groups, ())
        elif isinstance(kind, Optional):
            self._kind(kind.inner, field, groups, behind)
        elif isinstance(kind, Choice):
            self._need(kind.path, field, groups)
            for inner in kind.kinds:
                self._kind(inner, field, groups, behind)
        elif isinstance(kind, Sections):
            names: Names = {}
            for name, inner, at in kind.cases.values():
                section = Field(name, inner, at)
                names[name] = [section]
                self._kind(inner, section, [*groups, names], ())
        elif isinstance(kind, Named) and id(kind) not in self._known:
            self._known.add(id(kind))
            self._within += 1
            self._kind(kind.kind, field, groups, ())
            self._within -= 1
        elif isinstance(kind, Pooled):
            self.late.append(partial(self._pool, kind.pool, field, groups))
        elif isinstance(kind, Checksum):
            for path in {place for part in kind.ranges for place in part} - {*_PLACES}:
                self.late.append(partial(self._need, path, field, groups, where="in the file"))

    def _pool(self, path: str, field: Field, groups: list[Names]) -> None:
        self._need(path, field, groups, where="in the file")
        self._layout.pools |= set(map(id, _found(path, groups)))

    def _each(self, kind: Any, field: Field, groups: list[Names]) -> Names:
        """Check the columns that tell where parts lie; return what each part can look for in its row."""
        self._need(kind.table, field, groups, what="table")
        rows: Names = {}
        kinds = (found.kind for found in _found(kind.table, groups))
        for table in (each.inner if isinstance(each, At) else each for each in kinds):
            inner = table.inner if isinstance(table, Table) else None
            for column in inner.fields if isinstance(inner, Group) else ():
                rows.setdefault(column.name, []).append(column)
        for name in _told_by(kind):
            if name not in rows:
                known = hint(name, rows) or f"; it has {', '.join(rows) or 'none'}"
                self._fail(f"{kind.table} has no column {name!r}{known}", field)
            self._layout.told |= set(map(id, rows[name]))
        return rows

    def _at(self, kind: Any, field: Field, groups: list[Names]) -> Names:
        for path in _told_by(kind):
            self._need(path, field, groups)
            self._layout.told |= set(map(id, _found(path, groups)))
        return {}

    def _expression(self, expression: Expression, field: Field, groups: list[Names]) -> None:
        for name in expression.names:
            self._need(str(name[0]), field, groups)

    def _need(
        self,
        path: str,
        field: Field,
        groups: list[Names],
        *,
        what: str = "field",
        where: str = "before it",
    ) -> None:
        if not _found(path, groups):
            known = [name for names in groups for name in names]
            self._fail(f"there is no {what} {path!r} {where}{hint(path, known)}", field)

    def _fail(self, what: str, field: Field) -> None:
        self._layout.source.fail(what, field.at)


def _is_block(kind: Any) -> bool:
    """Tell whether a kind is a block, wherever it lies."""
    return isinstance(kind, Block) or (isinstance(kind, At) and _is_block(kind.inner))


def _told_by(kind: Any) -> list[str]:
    """Return the columns or fields that tell where the parts of a kind lie."""
    places = kind.places
    return [name for name in (places.offset, places.size, places.unpacked) if name]


def _found(path: str, groups: list[Names]) -> list[Field]:
    """Return the fields a path may mean: its first name in the innermost group that has it."""
    first, *rest = path.split(".")
    for names in reversed(groups):
        found = names.get(first, [])
        for name in rest:
            found = [inner for field in found for inner in _members(field.kind, name)]
        if found:
            return found
    return []


def _members(kind: Any, name: str) -> Iterable[Field]:
    """Yield the fields of a name in a kind."""
    if isinstance(kind, (At, Block, Optional)):
        yield from _members(kind.inner, name)
    elif isinstance(kind, Choice):
        for inner in kind.kinds:
            yield from _members(inner, name)
    elif isinstance(kind, Group):
        yield from (field for field in kind.fields if field.name == name)
    elif isinstance(kind, Bits):
        yield from _bits(kind, name)
    elif isinstance(kind, Sections):
        yield from (
            Field(case, inner, at) for case, inner, at in kind.cases.values() if case == name
        )


def _bits(kind: Bits, name: str) -> Iterator[Field]:
    if name == "other" or any(part == name for part, _, _ in kind.parts):
        yield Field(name, kind.number, 0)
