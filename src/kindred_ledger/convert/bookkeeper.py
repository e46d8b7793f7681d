"""The bookkeeper: accounts for every leaf of a document through its conversion.

Steps tell why; what happened is read off the documents: each leaf of the source is looked for by
its origin among the leaves of the result, and large tables are compared by columns. A leaf that is
gone without a reason gets no line, and the books do not balance.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from typing import Any

from ..errors import BooksUnbalanced
from ..formats import ANY, Columns, Document, Leaf, Path, as_tabular, format_path
from ..statement import Line, Outcome, Statement
from .tables import FEW, column_tables, differing, same_column, same_together

__all__ = ["Bookkeeper", "Census"]

_FOLLOWS = "follows from what changed"


class Census:
    """The leaves of a document, counted: single ones by name, those of large tables by column.

    `tables` maps the paths of tables taken by columns to them.
    """

    def __init__(self, document: Document, tables: Iterable[Path]) -> None:
        self.tables: dict[Path, Columns] = {}
        tabular = as_tabular(document)
        self.by_columns = tabular is not None
        for path in tables:
            columns = tabular.open_columns(path) if tabular is not None else None
            if columns is None:
                raise BooksUnbalanced("a table is not read back as one", where=format_path(path))
            self.tables[path] = columns
        self.leaves: list[Leaf] = list(
            tabular.leaves(without=self.tables) if tabular is not None else document.leaves()
        )

    def names(self, name: Names) -> Counter[str]:
        """Return how many leaves there are of each name."""
        out = Counter([name(leaf.path) for leaf in self.leaves])
        for path, columns in self.tables.items():
            for column in columns.cells:
                out[column_name(path, column)] += columns.count
            if not columns.count:
                out[format_path(path)] += 1
        return out


def _column(path: Path) -> Path:
    """Return the path of the column a leaf lies in."""
    return (*path[:-2], ANY, path[-1]) if len(path) > 1 and isinstance(path[-2], int) else ()


def column_name(table: Path, column: str) -> str:
    """Return the name of all values in a column."""
    return format_path((*table, ANY, *([column] if column != "value" else [])))


class Names:
    """Names of paths; the part that leaves have in common is put together once."""

    def __init__(self) -> None:
        self._heads: dict[Path, str] = {}

    def __call__(self, path: Path) -> str:
        if len(path) < 2:
            return format_path(path)
        head = self._heads.get(path[:-1])
        if head is None:
            head = self._heads[path[:-1]] = format_path(path[:-1])
        last = path[-1]
        if type(last) is int:
            return f"{head}[{last}]"
        return f"{head}.{last}" if last.isidentifier() else format_path(path)  # type: ignore[union-attr]


class Bookkeeper:
    """Collects reasons while steps run, then draws up the statement.

    A column has the path of its table, `ANY`, and its name; rows that go, that of their table.
    """

    def __init__(self) -> None:
        self._reasons: dict[Path, list[str]] = {}
        self._dropped: dict[Path, str] = {}
        self._rows: dict[Path, list[tuple[Any, str]]] = {}
        self.losses: list[tuple[str, str]] = []

    def explain(self, document: Document, path: Path, reason: str) -> None:
        """Note why the leaves at or below a path change."""
        for leaf in list(document.leaves(path)):
            if leaf.origin is not None:
                self._reasons.setdefault(leaf.origin, []).append(reason)

    def drop(self, document: Document, path: Path, reason: str, *, loss: bool) -> None:
        """Note why the leaves at or below a path are left out."""
        for leaf in list(document.leaves(path)):
            if leaf.origin is not None:
                self._dropped[leaf.origin] = reason
                if loss:
                    self.losses.append((format_path(leaf.origin), f"{leaf.text}: {reason}"))

    def explain_column(self, table: Path, column: str | None, reason: str) -> None:
        """Note why the values of a column change; `column` is its name when it was read."""
        if column is not None:
            self._reasons.setdefault((*table, ANY, column), []).append(reason)

    def drop_column(
        self, table: Path, column: str | None, count: int, reason: str, *, loss: bool
    ) -> None:
        """Note why a column is left out."""
        if column is not None:
            self._dropped[(*table, ANY, column)] = reason
            if loss and count:
                self.losses.append((column_name(table, column), f"{count:,} values: {reason}"))

    def drop_rows(self, table: Path, rows: Any, reason: str, *, loss: bool) -> None:
        """Note why rows of a table are left out; `rows` (n,) are their numbers when it was read."""
        self._rows.setdefault(table, []).append((rows, reason))
        if loss and len(rows):
            self.losses.append((format_path((*table, ANY)), f"{len(rows):,} rows: {reason}"))

    def statement(
        self, subject: str, source: Document, result: Document, again: Document, *, few: int = FEW
    ) -> Statement:
        """Return the balanced account of a conversion.

        `source` is the file read anew, `result` the document the steps ran on, `again` what was
        written, read again: both sides are counted from the first and the last.

        Raises:
            BooksUnbalanced: a leaf went without a reason, or what was written reads as another.
        """
        tables = column_tables(result, few)
        meant = Census(result, tables)
        found = Census(again, tables)
        before = Census(source, tables.values())
        _same_leaves(meant, found)
        name = Names()
        lines = self._leaf_lines(before.leaves, meant.leaves, name)
        for path, origin in tables.items():
            lines += self._table_lines(
                path, origin, before.tables[origin], meant.tables[path], found.tables[path]
            )
        return Statement(subject, "fields", tuple(lines)).balanced(
            before.names(name), found.names(name)
        )

    def _leaf_lines(self, source: list[Leaf], result: list[Leaf], name: Names) -> list[Line]:
        known = {leaf.path for leaf in source}
        arrived: dict[Path, list[Leaf]] = {}
        lines: list[Line] = []
        here: set[Path] = set()
        for leaf in result:
            if leaf.origin not in known:  # new, or a container that lost all it held
                lines.append(Line(Outcome.ADDED, name(leaf.path), leaf.note or "left empty"))
            else:
                arrived.setdefault(leaf.origin or (), []).append(leaf)
        for leaf in source:
            found = arrived.get(leaf.path)
            if found:
                lines.append(self._arrived(leaf, found.pop(0), name))
            elif (why := self._gone_for(leaf.path)) is not None:
                lines.append(Line(Outcome.DROPPED, name(leaf.path), why))
            elif leaf.value in ({}, []):
                here = here or {
                    each.path[:depth] for each in result for depth in range(len(each.path))
                }
                if leaf.path in here:
                    lines.append(Line(Outcome.DROPPED, name(leaf.path), "it is no longer empty"))
        return lines

    def _arrived(self, before: Leaf, after: Leaf, name: Names) -> Line:
        same = before.text == after.text and type(before.value) is type(after.value)
        if before.path == after.path and same:
            return Line(Outcome.KEPT, name(before.path))
        told = [*self._reasons.get(before.path, ()), *self._reasons.get(_column(before.path), ())]
        reason = "; ".join(dict.fromkeys(told)) or _FOLLOWS
        became = name(after.path) if after.path != before.path else ""
        return Line(Outcome.CHANGED, name(before.path), reason, became)

    def _gone_for(self, path: Path) -> str | None:
        """Return why a leaf is not there any more; it may have gone with its column, or its row."""
        found = self._dropped.get(path) or self._dropped.get(_column(path))
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
        for name in meant.cells:
            read = meant.origins[name]
            if not (name in untouched or same_column(meant, found, name)):
                where = column_name(path, name)
                raise BooksUnbalanced("a column does not read back as it was meant", where=where)
            after = column_name(path, name)
            if read is None:
                lines.append(
                    Line(Outcome.ADDED, after, meant.notes.get(name, ""), count=meant.count)
                )
                continue
            arrived.add(read)
            item = column_name(origin, read)
            reason = "; ".join(dict.fromkeys(self._reasons.get((*origin, ANY, read), ())))
            changed = 0 if name in untouched else differing(source, read, meant.rows, found, name)
            if moved or read != name:
                changed = meant.count
            became = after if after != item else ""
            for outcome, count, why in (
                (Outcome.KEPT, meant.count - changed, ""),
                (Outcome.CHANGED, changed, reason or _FOLLOWS),
            ):
                if count:
                    lines.append(Line(outcome, item, why, became, count=count))
            for rows, why in self._rows.get(origin, ()):
                lines.append(Line(Outcome.DROPPED, item, why, count=len(rows)))
        if not meant.count:
            lines.append(Line(Outcome.ADDED, format_path(path), "left empty"))
        for name in source.cells:
            gone_for = self._dropped.get((*origin, ANY, name))
            if name not in arrived and gone_for is not None and source.count:
                lines.append(
                    Line(Outcome.DROPPED, column_name(origin, name), gone_for, count=source.count)
                )
        strange = [name for name in found.cells if name not in meant.cells]
        if strange:
            where = column_name(path, strange[0])
            raise BooksUnbalanced("a column came that no step made", where=where)
        return lines


def _same_leaves(meant: Census, found: Census) -> None:
    """Raise `BooksUnbalanced` with the first leaf that reads as another than was meant."""
    wanted, written = ([(leaf.path, leaf.text) for leaf in each.leaves] for each in (meant, found))
    if wanted == written:
        return
    if meant.by_columns:  # there the layout has the order of fields
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
