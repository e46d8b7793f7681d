"""Tables in and out: any table of a file as CSV or a data frame, and the edited rows back into the file.

A table is a list of records: rows of a layout, of SQLite or of a CSV file, elements of XML of one name, a
list in JSON, YAML or TOML. Tables in the rows of another are one table, such as `route[*].stop`. The first
column, `#`, is the number of the row: so rows may be sorted in a spreadsheet, and what a row is edited from
is known. A row without a number is new. Of tables in rows, the column `#in` names the row that each is in.
"""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from ..cards import Card, identify
from ..changes import Action, Changeset, fitted
from ..convert.bookkeeper import Bookkeeper
from ..errors import FormatError, UsageError
from ..finding import Finding
from ..formats import ANY, Document, Path, Text, format_path, parse_path
from ..ledger import Ledger, Tag
from ..merge import ABSENT, Edit, New, edit_document
from ..notebook import frame_of
from ..places import FilePlace, MemoryPlace, read_bytes
from ..planning.reading import read_as
from ..progress import Progress
from ..suggestions import did_you_mean
from ..wording import count
from .cells import Kinds, cell_of, fields_of, misread, value_of

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["FileTable", "read_table", "rows_in", "tables_in", "write_table"]

NUMBER = "#"  # the column of the row's number
WITHIN = "#in"  # that of the row of another table that it is in
_NAMED = 3  # columns and rows that a finding names


class FileTable(Struct, frozen=True):
    """A table of a file: its name, and its columns, a value a row; `ABSENT` where a row has none.

    `within` names, for each row, that of another table which it is in; it is empty where there is none.

    >>> table = kl.read_table("server/tables.xml", "route[*].stop", card=card)
    >>> table.rows, list(table.columns), table.within[0]
    (5, ['@quay', '@minutes'], 'route[0]')
    """

    name: str
    rows: int
    columns: dict[str, list[Any]]
    within: tuple[str, ...] = ()

    def __str__(self) -> str:
        return f"{self.name or 'the file'}: {count(self.rows, 'row')}, {count(len(self.columns), 'column')}"

    def __repr__(self) -> str:
        return f"<FileTable {self}>"

    def to_csv(self) -> str:
        """Return it as CSV with a head: UTF-8 text, `#` first, every value exactly."""
        out = io.StringIO()
        writer = csv.writer(out)  # which quotes what holds either half of its line ends
        writer.writerow([NUMBER, *([WITHIN] if self.within else []), *self.columns])
        columns = [list(map(cell_of, column)) for column in self.columns.values()]
        columns = [list(self.within), *columns] if self.within else columns
        writer.writerows(zip(range(self.rows), *columns, strict=True))
        return out.getvalue()

    def to_frame(self) -> DataFrame:
        """Return it as a data frame, with the number of each row as its index.

        Raises:
            UsageError: pandas is not installed.
        """
        plain: dict[str, Any] = {WITHIN: list(self.within)} if self.within else {}
        for name, column in self.columns.items():
            values = [None if value is ABSENT else value for value in column]
            # A gap would make floats of whole numbers, and the longest of them inexact.
            plain[name] = _as_they_are(values) if None in values else values
        frame = frame_of(plain)
        frame.index.name = NUMBER
        return frame

    def findings(self) -> tuple[Finding, ...]:
        """Return what a spreadsheet would change if the table were opened in it as it is, by column."""
        out = []
        for name, column in self.columns.items():
            found: dict[str, list[str]] = {}
            for value in dict.fromkeys(each for each in column if isinstance(each, (str, int))):
                if how := misread(value):
                    found.setdefault(how, []).append(str(value))
            for how, texts in found.items():
                shown = ", ".join(texts[:_NAMED]) + ("" if len(texts) <= _NAMED else ", …")
                back = _COMES_BACK if how.startswith(("zeros", "kept")) else _AS_TEXT
                out.append(
                    Finding.note(
                        "spreadsheet", f"in a spreadsheet {how}: {shown}", field=name, remedy=back
                    )
                )
        return tuple(out)


def _as_they_are(values: list[Any]) -> Any:
    """Return values as a column of objects, `(n_rows,)`."""
    import numpy as np

    column = np.empty(len(values), object)
    column[:] = values
    return column


_COMES_BACK = "What you do not touch comes back as it was."
_AS_TEXT = "Import the column as text."


def tables_in(
    file: str | os.PathLike[str], *, card: Card | Iterable[Card] = ()
) -> tuple[FileTable, ...]:
    """Return the tables of a file, in its order, each before those in its rows.

    Raises:
        UsageError: there is no such file.
        FormatError: it is damaged, or of no kind that is known.

    >>> [str(each) for each in kl.tables_in("server/tables.xml", card=card)]
    ['route: 2 rows, 2 columns', 'route[*].stop: 5 rows, 2 columns']
    """
    document = _read(FilePlace(file), card)
    found = (_table(*each) for each in _lists(document.get(())).items())
    return tuple(table for table in found if table.columns)


def read_table(
    file: str | os.PathLike[str], table: str = "", *, card: Card | Iterable[Card] = ()
) -> FileTable:
    """Return a table of a file by its name, such as `crew` or `route[*].stop`; the only one needs none.

    Raises:
        UsageError: there is no such file or table, or there are several tables and none is named.
        PlaceError: it cannot be read.
        FormatError: it is damaged, or of no kind that is known.

    >>> kl.read_table("server/voyages/long-haul.mfsv", "crew", card=card).columns["name"]
    ['Dov', 'Cass', 'Bo', 'Esk']
    """
    place = FilePlace(file)
    return _table(*_chosen(_read(place, card), table, place.location))


def write_table(
    file: str | os.PathLike[str],
    rows: str | DataFrame,
    table: str = "",
    *,
    ledger: Ledger,
    card: Card | Iterable[Card] = (),
    source: str = "the rows",
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that puts edited rows into a table of a file: CSV text, or a data frame.

    What is as `read_table` gave it stays, to the byte. Rows with a new number, or none, are new; rows that
    are not there any more are removed, which is a loss. `source` is what the rows are called in messages.

    Raises:
        UsageError: there is no such table, a row number that the file does not have or has twice.
        FormatError: the file is damaged, or a cell says no value of its column.

    >>> table = kl.read_table("server/tables.xml", "route", card=card)
    >>> change = kl.write_table("server/tables.xml", table.to_csv(), "route", ledger=ledger, card=card)
    >>> len(change.actions)
    0
    """
    place = FilePlace(file)
    name, now = place.name, ledger.scan(place, progress=progress)
    decode, data, title = _opened(place, card)
    document = decode(data)
    shown, lists = _chosen(document, table, place.location)
    plan = _Plan(name, document, lists, _given(rows, source), source)
    findings = plan.findings
    edited = plan.edits
    if edited:
        edit_document(document, edited)
    after = document.encode()
    books = plan.books.statement(name, decode(data), document, decode(after))
    made = MemoryPlace({name: after})
    node = made.survey()[name]._replace(mode=now[name].mode)
    action = Action(name, now[name], node, made, name, plan.told(format_path(shown)))
    return fitted(
        Changeset(
            place=place,
            operation="table",
            summary=f"put {source} into {name}",
            before=now,
            actions=(action,) if after != data else (),
            tag=Tag(title=title),
            statements=(books,) if after != data else (),
            findings=tuple(findings),
        )
    )


def _read(place: FilePlace, card: Card | Iterable[Card]) -> Document:
    decode, data, _ = _opened(place, card)
    return decode(data)


def rows_in(path: str | os.PathLike[str]) -> str:
    """Return the text of a CSV file with edited rows.

    Raises:
        UsageError: there is no such file.
        FormatError: it is no text.
    """
    return Text.decode(_bytes(FilePlace(path))).text


def _bytes(place: FilePlace) -> bytes:
    if not place.survey().files:
        raise UsageError("there is no such file", where=place.location, remedy="Check the path.")
    return read_bytes(place, place.name)


def _opened(
    place: FilePlace, card: Card | Iterable[Card]
) -> tuple[Callable[[bytes], Document], bytes, str]:
    """Return what reads a file, by the cards or by what is in it; its bytes, and its title if that is known.

    Raises:
        UsageError: there is no such file.
        FormatError: it is of no kind that is known, or of several formats.
    """
    cards = [card] if isinstance(card, Card) else list(card)
    data = _bytes(place)
    found = [each for each in identify(place.location, data, cards).matches if not each.finding]
    if len({(each.title, each.format) for each in found}) > 1:
        names = " and ".join(f"{each.format} of {each.title}" for each in found)
        raise FormatError(
            f"more than one format fits it: {names}", where=place.location, remedy="Name the card."
        )
    for each in found:
        known = next(one for one in cards if one.title == each.title)
        return known.formats[each.format].decode, data, each.title
    return read_as(place.name, (data,), None).decode, data, ""


# Lists of records of one name, with where each stands.
_Lists = list[tuple[Path, list[dict[str, Any]]]]


def _lists(value: Any) -> dict[Path, _Lists]:
    """Return the lists of records of a plain value, by where they stand with `ANY` for each number."""
    found: dict[Path, _Lists] = {}

    def walk(value: Any, name: Path, at: Path) -> None:
        if isinstance(value, dict):
            for key, inner in value.items():
                walk(inner, (*name, key), (*at, key))
        elif _is_table(value):
            found.setdefault(name, []).append((at, value))
            for number, record in enumerate(value):
                for key, inner in record.items():
                    if isinstance(inner, (dict, list)):
                        walk(inner, (*name, ANY, key), (*at, number, key))

    walk(value, (), ())
    return found


def _is_table(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(each, dict) for each in value)


def _chosen(document: Document, table: str, where: str) -> tuple[Path, _Lists]:
    """Return the table that is meant: its name, and its lists."""
    found = _lists(document.get(()))
    names = {format_path(name): name for name in found}
    if table in names:
        return names[table], found[names[table]]
    if table:
        path = parse_path(table)
        for lists in found.values():
            if some := [each for each in lists if each[0] == path]:
                return path, some
        raise UsageError(
            f"{table!r} is no table of this file",
            where=where,
            remedy=did_you_mean(table, names) or _there_are(list(names)),
        )
    outer = [name for name in found if ANY not in name]
    if len(outer) != 1:
        raise UsageError(
            "it has no table" if not outer else f"it has {len(found):,} tables",
            where=where,
            remedy=_there_are(list(names)) if outer else "",
        )
    return outer[0], found[outer[0]]


def _there_are(names: Sequence[str]) -> str:
    return f"Name one: {', '.join(names)}." if names else "It has none."


def _table(name: Path, lists: _Lists) -> FileTable:
    rows = [_fields(record) for _, records in lists for record in records]
    paths = dict.fromkeys(path for row in rows for path in row)
    columns = {format_path(path): [row.get(path, ABSENT) for row in rows] for path in paths}
    within = (format_path(at[:-1]) for at, records in lists for _ in records) if ANY in name else ()
    return FileTable(format_path(name), len(rows), columns, tuple(within))


def _fields(record: dict[str, Any]) -> dict[Path, Any]:
    """Return the fields of a record that are no tables themselves."""
    return {path: value for path, value in fields_of(record).items() if not _is_table(value)}


class _Given(Struct):
    """Rows as they came back: the head, and each row's cells with its line."""

    head: list[str]
    rows: list[tuple[int, list[str]]]


def _given(rows: Any, source: str) -> _Given:
    """Read edited rows: CSV with commas, semicolons or tabs, as spreadsheets save it; or a data frame."""
    if hasattr(rows, "to_dict") and hasattr(rows, "columns"):
        return _of_frame(rows)
    text = str(rows).removeprefix("\ufeff")
    sign = text[len(NUMBER) : len(NUMBER) + 1] if text.startswith(NUMBER) else ""
    if text.startswith(f'"{NUMBER}"'):
        sign = text[len(NUMBER) + 2 : len(NUMBER) + 3]
    if sign not in (",", ";", "\t"):
        raise UsageError(
            f"the first column is not {NUMBER}, the numbers of the rows",
            where=source,
            remedy="Export the table first, and edit that.",
        )
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=sign)
    head = next(reader)
    return _Given(head, [(reader.line_num, cells) for cells in reader if any(cells)])


def _of_frame(frame: DataFrame) -> _Given:
    plain = frame.reset_index() if frame.index.name == NUMBER else frame
    columns = [
        ["" if empty else cell_of(value) for value, empty in zip(plain[name], gaps, strict=True)]
        for name, gaps in ((name, plain[name].isna()) for name in plain.columns)
    ]
    rows = [(number, list(cells)) for number, cells in enumerate(zip(*columns, strict=True), 1)]
    return _Given(list(map(str, plain.columns)), rows)


class _Plan:
    """The edits that bring the rows of a table to those that are given."""

    def __init__(
        self, name: str, document: Document, lists: _Lists, given: _Given, source: str
    ) -> None:
        self._name = name
        self._document, self._lists, self._source = document, dict(lists), source
        self._where = [(at, number) for at, records in lists for number in range(len(records))]
        self._old = [_fields(record) for _, records in lists for record in records]
        paths = dict.fromkeys(path for row in self._old for path in row)
        self._paths = {format_path(path): path for path in paths}
        self._kinds = {
            name: Kinds.of(row.get(path, ABSENT) for row in self._old)
            for name, path in self._paths.items()
        }
        self._head = self._checked(given.head)
        self.books = Bookkeeper()
        self.edits: list[Edit] = []
        self.findings: list[Finding] = []
        self._written_otherwise = self._added = self._removed = 0
        told = [self._paths.get(name) for name in self._head]
        self._texts = [
            [cell_of(row.get(path, ABSENT)) if path else "" for path in told] for row in self._old
        ]
        self._take(given.rows)

    def told(self, table: str) -> str:
        """Return what is edited, in words."""
        cells = sum(edit.kind != "list" for edit in self.edits)
        parts = [
            count(cells, "cell") + " changed" if cells else "",
            count(self._added, "row") + " added" if self._added else "",
            count(self._removed, "row") + " removed" if self._removed else "",
        ]
        return f"{table}: ".removeprefix(": ") + ", ".join(filter(None, parts))

    def _checked(self, head: Sequence[str]) -> list[str]:
        repeated = {name for name in head if head.count(name) > 1}
        if NUMBER not in head or repeated:
            what = f"the column {sorted(repeated)[0]!r} is there twice" if repeated else ""
            raise UsageError(
                what or f"there is no column {NUMBER}, the numbers of the rows",
                where=self._source,
                remedy="Export the table anew, and edit that.",
            )
        for name in head:
            if name and name not in (NUMBER, WITHIN) and name not in self._paths:
                raise UsageError(
                    f"the table has no column {name!r}",
                    where=self._source,
                    remedy=did_you_mean(name, self._paths) or _there_are(list(self._paths)),
                )
        return list(head)

    def _take(self, rows: Sequence[tuple[int, list[str]]]) -> None:
        seen: set[int] = set()
        new: dict[Path, dict[int, list[New]]] = {}  # by list, behind which of its rows
        last = -1
        number_at = self._head.index(NUMBER)
        for line, some in rows:
            if len(some) > len(self._head):
                raise self._fault(line, "", "it has more cells than the head")
            cells = some + [""] * (len(self._head) - len(some))
            told = cells[number_at].strip()
            if not told:
                at, behind = self._place(line, cells, last)
                self._added += 1
                new.setdefault(at, {}).setdefault(behind, []).append(New(self._record(line, cells)))
                continue
            number = self._number(line, told)
            if number in seen:
                raise self._fault(line, NUMBER, f"row {number} is there twice")
            self._edit(line, number, cells)
            seen.add(number)
            last = number
        removed = [number for number in range(len(self._old)) if number not in seen]
        self._removed = len(removed)
        if removed:
            self._note_removed(removed)
        self._arrange({self._where[number] for number in removed}, new)
        if self._written_otherwise:
            what = f"{count(self._written_otherwise, 'cell')} a spreadsheet wrote otherwise: left as before"
            self.findings.append(Finding.note("spreadsheet", what, where=self._source))
        missing = [name for name in self._paths if name not in self._head]
        if missing:
            what = f"columns that are not in it stay as they are: {', '.join(missing)}"
            self.findings.append(Finding.note("spreadsheet", what, where=self._source))

    def _place(self, line: int, cells: Sequence[str], last: int) -> tuple[Path, int]:
        """Return the list that a new row is for, and the row of it that it comes behind; -1 for none."""
        above = self._where[last] if last >= 0 else (next(iter(self._lists)), -1)
        within = cells[self._head.index(WITHIN)].strip() if WITHIN in self._head else ""
        if not within:
            if len(self._lists) > 1:
                raise self._fault(line, WITHIN, "a new row does not say which row it is in")
            return above
        for at, records in self._lists.items():
            if format_path(at[:-1]) == within:
                return (at, above[1]) if at == above[0] else (at, len(records) - 1)
        raise self._fault(line, WITHIN, f"{within!r} is no row with such a table")

    def _arrange(
        self, removed: set[tuple[Path, int]], new: dict[Path, dict[int, list[New]]]
    ) -> None:
        """Note which rows each list holds then."""
        for at, records in self._lists.items():
            order: list[Any] = list(new.get(at, {}).get(-1, ()))
            for number in range(len(records)):
                order += [] if (at, number) in removed else [number]
                order += new.get(at, {}).get(number, ())
            if order != list(range(len(records))):
                self.edits.append(Edit("list", at, order=tuple(order)))

    def _note_removed(self, removed: Sequence[int]) -> None:
        shown = ", ".join(map(str, removed[:_NAMED])) + ("" if len(removed) <= _NAMED else ", …")
        what = f"{count(len(removed), 'row')} not in {self._source}: removed ({shown})"
        self.findings.append(Finding.loss("rows-removed", what, where=self._name))
        for number in removed:
            at, inner = self._where[number]
            self.books.drop(self._document, (*at, inner), f"not in {self._source}", loss=False)

    def _number(self, line: int, told: str) -> int:
        try:
            number = int(float(told)) if float(told) == int(float(told)) else -1
        except ValueError:
            number = -1
        if not 0 <= number < len(self._old):
            raise self._fault(line, NUMBER, f"{told!r} is no row of the file")
        return number

    def _edit(self, line: int, number: int, cells: Sequence[str]) -> None:
        """Note what one row says otherwise than the file."""
        row, (at, inner) = self._old[number], self._where[number]
        within = cells[self._head.index(WITHIN)].strip() if WITHIN in self._head else ""
        if within and within != format_path(at[:-1]):
            raise self._fault(
                line, WITHIN, f"row {number} is in {format_path(at[:-1])}, and stays there"
            )
        for name, text, was in zip(self._head, cells, self._texts[number], strict=True):
            path = self._paths.get(name)
            if path is None or text == was:
                continue
            old = row.get(path, ABSENT)
            wanted = self._value(line, name, text, old)
            if wanted is old or (wanted == old and type(wanted) is type(old)):
                continue
            there = (*at, inner, *path)
            if old is not ABSENT:
                self.books.explain(self._document, there, f"from {self._source}")
            self.edits.append(Edit("remove" if wanted is ABSENT else "set", there, wanted))

    def _record(self, line: int, cells: Sequence[str]) -> dict[str, Any]:
        """Return a new row as a record, its fields in the order of the table."""
        record: dict[str, Any] = {}
        told = dict(zip(self._head, cells, strict=True))
        for name, path in self._paths.items():
            wanted = self._value(line, name, told.get(name, ""), ABSENT)
            if wanted is ABSENT:
                continue
            *outer, last = map(str, path)
            inner = record
            for part in outer:
                inner = inner.setdefault(part, {})
            inner[last] = wanted
        return record

    def _value(self, line: int, name: str, text: str, old: Any) -> Any:
        try:
            wanted, otherwise = value_of(text, old, self._kinds[name])
        except FormatError as error:
            raise self._fault(line, name, error.what, error.remedy) from error
        self._written_otherwise += otherwise
        return wanted

    def _fault(self, line: int, column: str, what: str, remedy: str = "") -> UsageError:
        where = f"{self._source}, line {line}" + (f", column {column}" if column else "")
        return UsageError(what, where=where, remedy=remedy or "Mend it, or export the table anew.")
