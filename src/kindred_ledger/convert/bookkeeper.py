"""The bookkeeper: accounts for every leaf of a document through its conversion.

Steps tell why; what happened is read off the documents: each leaf of the source is looked for by
its origin among the leaves of the result, and large tables are compared by columns. A leaf that is
gone without a reason gets no line, and the books do not balance.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping
from typing import Any

from msgspec.structs import replace

from ..errors import BooksUnbalanced
from ..finding import Finding
from ..formats import (
    ANY,
    Columns,
    Document,
    LayoutDocument,
    Leaf,
    Path,
    Stretch,
    as_stretched,
    as_tabular,
    format_path,
    same_value,
)
from ..formats.tables import (
    COLUMN_THRESHOLD,
    column_tables,
    differing,
    is_single,
    same_column,
    same_together,
)
from ..formats.tree import TreeDocument
from ..merge import BY_NUMBER, fits
from ..statement import Line, Outcome, Statement
from .names import Names, names_of

__all__ = ["Bookkeeper", "Census", "brief"]

_LEAF = 16  # bytes a leaf takes at least, as a rule
_SHOWN = 80  # characters of a value in a line
_FOLLOWS = "follows from what changed"


class Census:
    """The leaves of a document, counted: single ones by name, those of large tables by column.

    `tables` maps the paths of tables taken by columns to them. What nobody touched is left out at
    the paths `apart`: it is told by its bytes.
    """

    def __init__(
        self, document: Document, tables: Iterable[Path] = (), apart: Iterable[Path] = ()
    ) -> None:
        self.tables: dict[Path, Columns] = {}
        tabular = as_tabular(document)
        self.keeps_order = tabular is None or tabular.keeps_order
        for path in tables:
            columns = tabular.open_columns(path) if tabular is not None else None
            if columns is None:
                raise BooksUnbalanced("a table is not read back as one", where=format_path(path))
            self.tables[path] = columns
        without = {*self.tables, *apart}
        some: Any = document
        self.leaves: list[Leaf] = list(
            some.leaves(without=without) if without else document.leaves()
        )

    def names(self, name: Names) -> Counter[str]:
        """Return how many leaves there are of each name, but for those apart."""
        out = Counter([name(leaf.path) for leaf in self.leaves])
        for path, columns in self.tables.items():
            for column in columns.cells:
                for below, count in columns.names_in(column).items():
                    out[column_name(path, column, below)] += count
            if not columns.count:
                out[format_path(path)] += 1
        return out


def _columns_of(path: Path) -> Iterator[Path]:
    """Yield the columns a leaf lies in."""
    for depth, part in enumerate(path[1:-1], 1):
        if isinstance(part, int):
            yield (*path[:depth], ANY, path[depth + 1])


def column_path(table: Path, column: str, below: Path = ()) -> Path:
    """Return the pattern of all values in a column, or of those `below` it."""
    return (*table, ANY, *([column] if column != "value" else []), *below)


def column_name(table: Path, column: str, below: Path = ()) -> str:
    """Return the name of all values in a column, or of those `below` it."""
    return format_path(column_path(table, column, below))


def brief(text: Any) -> str:
    """Return a value as a line has room for it: its beginning, and how long it is."""
    text = str(text)
    return text if len(text) <= _SHOWN else f"{text[:_SHOWN]}… ({len(text):,} characters)"


class Bookkeeper:
    """Collects reasons while steps run, then draws up the statement.

    A column has the path of its table, `ANY`, and its name; rows that go, that of their table. `keys` says
    which field names the records of a list, by patterns of paths.
    """

    def __init__(
        self, *, column_threshold: int = COLUMN_THRESHOLD, keys: Mapping[Path, str] | None = None
    ) -> None:
        self._column_threshold = column_threshold
        self._keys = {at: field for at, field in (keys or {}).items() if field != BY_NUMBER}
        self._least = column_threshold * _LEAF
        self._reasons: dict[Path, list[str]] = {}
        self._below: dict[Path, list[str]] = {}  # of all that was read below a path
        self._altered: set[Path] = set()  # what was given another value, or may have been
        self._derives = False  # whether values follow from others, as sizes and checksums do
        self._containers: dict[Path, str] = {}  # that moved or went, by where they were read
        self._dropped: dict[Path, str] = {}
        self._dropped_whole: list[tuple[Stretch, str]] = []
        self._dropped_tables: list[Path] = []  # taken by columns; where they were read
        self._rows: dict[Path, list[tuple[Any, str]]] = {}
        self._losses: list[tuple[Finding, Path]] = []  # with the path it had when it was read
        self._names = Names()

    def counted(self, document: Document, size: int) -> Census | None:
        """Return the leaves of a file of `size` bytes before it is edited, to count them by.

        None where it may be told by its bytes or columns: then it is read anew afterwards.
        """
        singly = as_stretched(document) is None and as_tabular(document) is None
        return Census(document) if singly or size < self._column_threshold else None

    def explain(
        self, document: Document, path: Path, reason: str, *, keeps_value: bool = False
    ) -> None:
        """Note why the leaves at or below a path change; `keeps_value`: where they are, not what."""
        self._note_container(document, path, "it is no longer empty")
        whole, tables = self._stretches(document, path), self._tables(document, path)
        for origin in (*(stretch.origin for stretch in whole), *tables.values()):
            self._below.setdefault(origin, []).append(reason)
            if not keeps_value:
                self._altered.add(origin)
        for leaf in _leaves(document, path, whole, tables):
            if leaf.origin is not None:
                self._reasons.setdefault(leaf.origin, []).append(reason)
                if not keeps_value:
                    self._altered.add(leaf.origin)

    def drop(self, document: Document, path: Path, reason: str, *, loss: bool) -> None:
        """Note why the leaves at or below a path are left out."""
        self._note_container(document, path, reason)
        whole, tables = self._stretches(document, path), self._tables(document, path)
        for stretch in whole:
            self._dropped_whole.append((stretch, reason))
            if loss:
                for below, count in stretch.names.items():
                    self.lose("dropped", (*stretch.origin, *below), f"{count:,} values: {reason}")
        for there, origin in tables.items():
            columns = Census(document, [there]).tables[there]
            self._dropped_tables.append(origin)
            for name, read in columns.origins.items():
                self.drop_column(origin, read, columns.names_in(name), reason, loss=loss)
        for leaf in _leaves(document, path, whole, tables):
            if leaf.origin is not None:
                self._dropped[leaf.origin] = reason
                if loss:
                    self.lose("dropped", leaf.origin, f"{brief(leaf.text)}: {reason}")

    def lose(self, code: str, path: Path, what: str) -> None:
        """Note that something of the file is lost."""
        self._losses.append((Finding.loss(code, what, where=""), path))

    @property
    def losses(self) -> list[Finding]:
        """What was lost; its fields by the names that the statement gives them."""
        return [replace(loss, field=self._names(path)) for loss, path in self._losses]

    def _note_container(self, document: Document, path: Path, reason: str) -> None:
        """Note where a container went that may have been empty when it was read, and is not now."""
        if isinstance(document, TreeDocument) and document.find(path):
            origin = document.origin_of(path)
            if origin is not None:
                self._containers[origin] = reason

    def _tables(self, document: Document, path: Path) -> dict[Path, Path]:
        """Return the tables taken by columns at or below a path, and where each was read."""
        return column_tables(document, self._column_threshold, path)

    def _stretches(self, document: Document, path: Path = ()) -> list[Stretch]:
        stretched = as_stretched(document)
        return stretched.stretches(self._least, path) if stretched is not None else []

    def explain_column(
        self, table: Path, column: str | None, reason: str, *, keeps_value: bool = False
    ) -> None:
        """Note why the values of a column change; `column` is its name when it was read."""
        if column is not None:
            self._reasons.setdefault((*table, ANY, column), []).append(reason)
            if not keeps_value:
                self._altered.add((*table, ANY, column))

    def drop_column(
        self,
        table: Path,
        column: str | None,
        names: Mapping[Path, int],
        reason: str,
        *,
        loss: bool,
    ) -> None:
        """Note why a column is left out; `names` has how many leaves it has of which name."""
        if column is not None:
            self._dropped[(*table, ANY, column)] = reason
            for below, count in names.items():
                if loss and count:
                    path = column_path(table, column, below)
                    self.lose("dropped", path, f"{count:,} values: {reason}")

    def drop_rows(self, table: Path, rows: Any, reason: str, *, loss: bool) -> None:
        """Note why rows of a table are left out; `rows` (n,) are their numbers when it was read."""
        self._rows.setdefault(table, []).append((rows, reason))
        if loss and len(rows):
            self.lose("dropped", (*table, ANY), f"{len(rows):,} rows: {reason}")

    def statement(
        self, subject: str, source: Document | Census, result: Document, again: Document
    ) -> Statement:
        """Return the balanced account of a conversion.

        `source` is the file read anew, or what was counted before anything was done; `result` the
        document the steps ran on, `again` what was written, read again: both sides are counted from
        the first and the last.

        Raises:
            BooksUnbalanced: a leaf went without a reason, or what was written reads as another.
        """
        tables = column_tables(result, self._column_threshold)
        whole = self._stretches(result)
        paths, origins = [each.path for each in whole], [each.origin for each in whole]
        meant = Census(result, tables, paths)
        found = Census(again, tables, paths)
        self._derives = isinstance(result, LayoutDocument)
        gone = [stretch.origin for stretch, _ in self._dropped_whole]
        read = [*tables.values(), *self._dropped_tables]
        if isinstance(source, Census):
            before = source
        else:
            before = Census(source, read, [*origins, *gone])
            _same_bytes(whole, source, again)
        _same_leaves(meant, found)
        name, became = names_of(self._keys, before.leaves, meant.leaves)
        self._names = name
        lines = self._leaf_lines(before.leaves, meant.leaves, paths, (name, became))
        lines += self._stretch_lines(whole, name, became)
        for path, origin in tables.items():
            lines += self._table_lines(
                path, origin, before.tables[origin], meant.tables[path], found.tables[path]
            )
        for origin in self._dropped_tables:
            lines += self._gone_lines(origin, before.tables[origin])
        items_in, items_out = before.names(name), found.names(became)
        for stretch in whole:
            items_in.update(_counts(stretch.origin, stretch, name))
            items_out.update(_counts(stretch.path, stretch, became))
        for stretch, _ in self._dropped_whole:
            items_in.update(_counts(stretch.origin, stretch, name))
        return Statement(subject, "fields", tuple(lines)).balanced(items_in, items_out)

    def _stretch_lines(self, whole: list[Stretch], name: Names, after: Names) -> list[Line]:
        """Return the lines of what nobody touched, and of what was dropped whole."""
        lines: list[Line] = []
        for each in whole:
            here = each.path == each.origin
            reason = "" if here else "; ".join(self._told(each.origin)) or _FOLLOWS
            for below, count in each.names.items():
                item, became = name((*each.origin, *below)), after((*each.path, *below))
                outcome = Outcome.UNCHANGED if item == became else Outcome.CHANGED
                told = "" if item == became else reason
                lines.append(Line(outcome, item, told, became if told else "", count=count))
        for each, why in self._dropped_whole:
            lines += [
                Line(Outcome.REMOVED, item, why, count=count)
                for item, count in _counts(each.origin, each, name).items()
            ]
        return lines

    def _leaf_lines(
        self, source: list[Leaf], result: list[Leaf], apart: list[Path], names: tuple[Names, Names]
    ) -> list[Line]:
        name, became = names
        known = {leaf.path for leaf in source}
        arrived: dict[Path, list[Leaf]] = {}
        lines: list[Line] = []
        here: set[Path] = set()
        for leaf in result:
            if leaf.origin not in known:  # new, or a container that lost all it held
                lines.append(Line(Outcome.ADDED, became(leaf.path), leaf.note or "left empty"))
            else:
                arrived.setdefault(leaf.origin or (), []).append(leaf)
        for leaf in source:
            found = arrived.get(leaf.path)
            if found:
                lines.append(self._arrived(leaf, found.pop(0), *names))
            elif (why := self._gone_for(leaf.path)) is not None:
                lines.append(Line(Outcome.REMOVED, name(leaf.path), why))
            elif leaf.value in ({}, []):
                here = here or {
                    path[:depth]
                    for path in (*(each.path for each in result), *((*path, ANY) for path in apart))
                    for depth in range(len(path))
                }
                told = "it is no longer empty" if leaf.path in here else ""
                for depth in range(len(leaf.path) + 1):
                    told = told or self._containers.get(leaf.path[:depth], "")
                if told:
                    lines.append(Line(Outcome.REMOVED, name(leaf.path), told))
        return lines

    def _arrived(self, before: Leaf, after: Leaf, name: Names, names_after: Names) -> Line:
        same = before.text == after.text and type(before.value) is type(after.value)
        item, became = name(before.path), names_after(after.path)
        if item == became and same:
            return Line(Outcome.UNCHANGED, item)
        if not same and not self._may_differ(before, after):
            raise BooksUnbalanced(
                "its value is another, and no step changed it",
                where=format_path(before.path),
                remedy=f"It was {before.text[:80]!r}, and is {after.text[:80]!r}.",
            )
        reason = "; ".join(self._told(before.path)) or _FOLLOWS
        return Line(Outcome.CHANGED, item, reason, became if became != item else "")

    def _may_differ(self, before: Leaf, after: Leaf) -> bool:
        """Tell whether a leaf may have another value: a step gave it one, or it follows from others."""
        where = [before.path[:depth] for depth in range(len(before.path) + 1)]
        if self._derives or any(at in self._altered for at in (*where, *_columns_of(before.path))):
            return True
        texts = isinstance(before.value, str) and isinstance(after.value, str)
        if texts and before.value.strip() == after.value.strip():
            return True  # the space around the text of an element
        empty = not before.value and not after.value  # an element without members is empty text
        return empty or same_value(before.value, after.value)

    def _told(self, path: Path) -> Iterable[str]:
        """Return why what was read at a path changed."""
        told = [*self._reasons.get(path, ())]
        for column in _columns_of(path):
            told += self._reasons.get(column, ())
        for depth in range(1, len(path) + 1) if self._below else ():
            told += self._below.get(path[:depth], ())
        return dict.fromkeys(told)

    def _gone_for(self, path: Path) -> str | None:
        """Return why a leaf is not there any more; it may have gone with its column, or its row."""
        found = self._dropped.get(path)
        for column in _columns_of(path) if found is None else ():
            found = found or self._dropped.get(column)
        for depth, row in enumerate(path) if found is None and self._rows else ():
            if isinstance(row, int):
                told = self._rows.get(path[:depth], ())
                found = next((why for rows, why in told if (rows == row).any()), found)
        return found

    def _table_lines(
        self, path: Path, origin: Path, source: Columns, meant: Columns, found: Columns
    ) -> list[Line]:
        """Return the lines of a table: how many values of each column became what."""
        lines: list[Line] = []
        arrived = set()
        moved = path != origin
        untouched = same_together(source, meant, found)
        is_named = self._is_named(path, source, meant, found)
        for name in meant.cells:
            read = meant.origins[name]
            if not (name in untouched or same_column(meant, found, name)):
                where = column_name(path, name)
                raise BooksUnbalanced("a column does not read back as it was meant", where=where)
            if read is None:
                note = meant.notes.get(name, "")
                lines.append(Line(Outcome.ADDED, column_name(path, name), note, count=meant.count))
                continue
            arrived.add(read)
            reason = "; ".join(self._told((*origin, ANY, read)))
            changed = 0
            if name not in untouched:
                changed = differing(source, read, meant.rows, found, name, in_place=not is_named)
            for below, here in found.names_in(name).items():
                item, after = column_name(origin, read, below), column_name(path, name, below)
                some = here if moved or read != name else changed
                became = after if after != item else ""
                for outcome, count, why in (
                    (Outcome.UNCHANGED, here - some, ""),
                    (Outcome.CHANGED, some, reason or _FOLLOWS),
                ):
                    if count:
                        lines.append(Line(outcome, item, why, became, count=count))
                for rows, why in self._rows.get(origin, ()):
                    lines.append(Line(Outcome.REMOVED, item, why, count=len(rows)))
        if not meant.count:
            lines.append(Line(Outcome.ADDED, format_path(path), "left empty"))
        lines += self._gone_lines(origin, source, arrived)
        strange = [name for name in found.cells if name not in meant.cells]
        if strange:
            where = column_name(path, strange[0])
            raise BooksUnbalanced("a column came that no step made", where=where)
        return lines

    def _is_named(self, path: Path, source: Columns, meant: Columns, found: Columns) -> bool:
        """Tell whether a field names the rows of a table, which stand in the order they had."""
        field = next(
            (named for at, named in self._keys.items() if len(at) == len(path) and fits(at, path)),
            "",
        )
        read = meant.origins.get(field) if field in meant.cells else None
        if read is None or meant.rows is None or (meant.rows[1:] <= meant.rows[:-1]).any():
            return False
        same = differing(source, read, meant.rows, found, field, in_place=False) == 0
        return same and is_single(source, read)

    def _gone_lines(
        self, origin: Path, source: Columns, arrived: Collection[str] = ()
    ) -> list[Line]:
        """Return the lines of the columns that were left out, and have not arrived."""
        lines: list[Line] = []
        for name in source.cells if source.count else ():
            reason = self._dropped.get((*origin, ANY, name))
            if name not in arrived and reason is not None:
                lines += [
                    Line(Outcome.REMOVED, column_name(origin, name, below), reason, count=count)
                    for below, count in source.names_in(name).items()
                ]
        return lines


def _leaves(
    document: Document, path: Path, apart: list[Stretch], tables: Iterable[Path]
) -> list[Leaf]:
    some: Any = document
    without = {*(stretch.path for stretch in apart), *tables}
    return list(some.leaves(path, without=without) if without else document.leaves(path))


def _counts(base: Path, stretch: Stretch, name: Names) -> dict[str, int]:
    return {name((*base, *below)): count for below, count in stretch.names.items()}


def _same_bytes(whole: list[Stretch], source: Document, again: Document) -> None:
    """Raise `BooksUnbalanced` if what nobody touched is not what was read, or what was written."""
    read, written = as_stretched(source), as_stretched(again)
    for each in whole:
        before = read.untouched(each.origin) if read is not None else None
        after = written.untouched(each.path) if written is not None else None
        if before is None or after is None or not before[1] == each.data == after[1]:
            told = "what was written does not read back as what was meant"
            raise BooksUnbalanced(told, where=format_path(each.path))


def _same_leaves(meant: Census, found: Census) -> None:
    """Raise `BooksUnbalanced` with the first leaf that reads as another than was meant."""
    wanted, written = ([(leaf.path, leaf.text) for leaf in each.leaves] for each in (meant, found))
    if wanted == written:
        return
    if not meant.keeps_order:
        wanted, written = (
            sorted(each, key=lambda leaf: format_path(leaf[0])) for each in (wanted, written)
        )
    pairs = zip([*wanted, ((), "")], [*written, ((), "")], strict=False)
    for (path, text), (other, there) in pairs:
        if (path, text) != (other, there):
            raise BooksUnbalanced(
                "what was written does not read back as what was meant",
                where=format_path(path or other),
                remedy=f"Meant was {text!r}, read was {format_path(other)} = {there!r}.",
            )
