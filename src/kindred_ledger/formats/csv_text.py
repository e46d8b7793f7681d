"""CSV (RFC 4180, with any of , ; tab |), edited cell by cell: quoting, line ends and the rest stay.

The document is a list of rows. Where the first line names the columns (no empty, equal or numeric
names), a row is a mapping by them, and the names are its keys; else it is a list. A row that is too
long has its other cells under their numbers. All values are text. A column that goes from all rows
goes from the header; one that comes is put last, or where the one was that it was moved from. What
it does not keep: a cell that goes from some rows only stays as an empty one.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct

from ..errors import FormatError, UsageError
from .document import ANY, Leaf, Path, document_paths, format_path, not_reordered, occupied
from .reading_back import unreadable
from .text import Text

__all__ = ["CsvDocument"]

_LARGE = 64 << 10
_SIGNS = b",;\t|"
_NUMERIC = re.compile(r"[-+]?[\d.,]+")


class _Cell(Struct, eq=False):
    raw: str
    origin: Path | None = None
    note: str = ""


class _Row(Struct, eq=False):
    """A row somebody looked into or made: its cells, and the line they were read from."""

    cells: dict[Any, _Cell]
    line: int | None = None
    touched: bool = False


@document_paths
class CsvDocument:
    """A CSV file as a document; see the module."""

    def __init__(self, data: bytes) -> None:
        text = Text.decode(data)
        utf8 = text.encoding == "utf-8"
        self._encoding = Text("", text.encoding, text.mark)
        self._utf8 = utf8
        self._newline = text.newline
        self._data = data[len(text.mark) :] if utf8 else text.text.encode()
        if b"\0" in self._data:
            raise FormatError("this is no text file", where=f"byte {self._data.index(0)}")
        self._sign = _delimiter(self._data)
        self._cells = _cells(self._data, self._sign)
        self._is_bare = b'"' not in self._data
        first = self._raw_row(0) if self._cells.rows else []
        names = [_value(raw) for raw in first]
        self._named = bool(names) and len(set(names)) == len(names) and all(map(_is_name, names))
        self._keys: list[str] = names if self._named else []
        self._header = list(first) if self._named else []
        self._rows: list[int | _Row] = list(range(int(self._named), self._cells.rows))
        self._moved_from: dict[str, str] = {}
        self._reshaped = False  # keys came or went

    # ---- the document --------------------------------------------------------------------

    def leaves(self, at: Path = ()) -> Iterator[Leaf]:
        for number in range(len(self._rows)) if not at else [at[0]]:
            if not isinstance(number, int) or not 0 <= number < len(self._rows):
                continue
            row = self._row(number).cells
            for key, cell in row.items():
                if len(at) < 2 or at[1] == key:
                    yield Leaf((number, key), _value(cell.raw), cell.raw, cell.origin, cell.note)
            if not row and len(at) < 2:
                yield Leaf((number,), {} if self._named else [], "", (number,), "")

    def find(self, pattern: Path) -> list[Path]:
        if not pattern:
            return [()]
        if len(pattern) > 2:
            return []
        numbers = range(len(self._rows)) if pattern[0] == ANY else [pattern[0]]
        rows = [n for n in numbers if isinstance(n, int) and 0 <= n < len(self._rows)]
        if len(pattern) == 1:
            return [(n,) for n in rows]
        return [(n, key) for n in rows for key in self._row(n).cells if pattern[1] in (ANY, key)]

    def get(self, path: Path) -> Any:
        if not path:
            return list(map(self._told, self._rows))
        if len(path) == 1:
            return self._told(self._rows[self._number(path)])
        return _value(self._cell(path).raw)

    def repeats_keys(self) -> bool:
        """Tell that no key stands twice: names that do are no names of columns."""
        return False

    def set(self, path: Path, value: Any, *, note: str = "") -> None:
        if len(path) < 2:
            self._set_row(path, value, note)
            return
        if self.find(path):
            cell = self._cell(path)
            cell.raw = self._quoted(value, path, cell.raw)
            self._row(self._number(path)).touched = True
            return
        self._check_room(path)
        self._put(path, _Cell(self._quoted(value, path, ""), note=note))

    def remove(self, path: Path) -> None:
        if len(path) == 1:
            del self._rows[self._number(path)]
            return
        self._cell(path)
        row = self._row(self._number(path))
        if not self._named and path[1] != len(row.cells) - 1:
            raise FormatError("only the last cell of a row can go", where=format_path(path))
        del row.cells[path[1]]
        self._reshaped = row.touched = True

    def move(self, path: Path, to: Path) -> None:
        if self.find(to):
            raise occupied(to)
        if len(path) == len(to) == 1:
            self._check_room(to)
            self._rows.append(self._rows.pop(self._number(path)))
            return
        cell = self._cell(path)
        if len(to) != 2:
            raise FormatError("a cell does not become a row", where=format_path(to))
        self._check_room(to)
        row = self._row(self._number(path))
        if path[0] == to[0] and self._named:
            items = [(to[1] if key == path[1] else key, each) for key, each in row.cells.items()]
            row.cells, row.touched = dict(items), True
            if str(to[1]) not in self._keys:
                self._moved_from.setdefault(str(to[1]), str(path[1]))
        else:
            self.remove(path)
            self._put(to, cell)
        self._reshaped = True

    def reorder(self, path: Path, order: Sequence[int]) -> None:
        if path:
            raise not_reordered(path)
        self._rows = [self._rows[at] for at in order]

    def encode(self) -> bytes:
        keys = self._final_keys() if self._named and self._reshaped else self._keys
        out: list[bytes] = []
        if self._named:
            if keys == self._keys:
                out.append(self._cells.line(0))
            else:
                old = dict(zip(self._keys, self._header, strict=True))
                names = [old.get(key) or self._quoted(key, (key,), "") for key in keys]
                out.append(self._joined(names) + self._line_end(0))
        begin = stop = -1  # a run of rows that are as they were
        for row in self._rows:
            line = self._copied(row, keys)
            if line is not None:
                if line == stop:
                    stop += 1
                    continue
                if stop >= 0:
                    out.append(self._cells.lines(begin, stop))
                begin, stop = line, line + 1
                continue
            if stop >= 0:
                out.append(self._cells.lines(begin, stop))
            begin = stop = -1
            cells = self._read(row) if isinstance(row, int) else row
            out.append(self._line(cells, keys) + self._line_end(cells.line))
        if stop >= 0:
            out.append(self._cells.lines(begin, stop))
        newline = self._newline.encode()
        for at in range(len(out) - 1):
            if not out[at].endswith((b"\n", b"\r")):
                out[at] += newline
        ended = self._data.endswith((b"\n", b"\r")) or not self._data
        if out and not ended and not self._is_last_line():
            out[-1] = out[-1].removesuffix(b"\n").removesuffix(b"\r")
        data = b"".join(out)
        if data != self._data:
            self._check(data, keys)
        return self._encoding.mark + data if self._utf8 else self._encoding.encode(data.decode())

    def _is_last_line(self) -> bool:
        """Tell whether the last row is the one that was last, as it was."""
        last = self._rows[-1] if self._rows else 0
        return isinstance(last, int) and last == self._cells.rows - 1

    def _line_end(self, line: int | None) -> bytes:
        """Return the line end that a row had; the file's, if it is new or had none."""
        text = self._cells.line(line) if line is not None else b""
        if not text.endswith((b"\n", b"\r")):
            return self._newline.encode()
        return b"\r\n" if text.endswith(b"\r\n") else text[-1:]

    def _check(self, data: bytes, keys: list[str]) -> None:
        """Raise unless what is written reads back: the columns, and each row that was not copied."""
        whole = self._encoding.mark + data if self._utf8 else self._encoding.encode(data.decode())
        again = CsvDocument(whole)
        if again._sign != self._sign or again._named != self._named or again._keys != keys:
            raise unreadable("the columns would be others", "line 1")
        if len(again._rows) != len(self._rows):
            raise unreadable("there would be other rows", "the file")
        shift = int(again._named)
        run: list[int] = []  # rows that were copied, one after another
        for number, row in enumerate((*self._rows, None)):
            line = None if row is None else self._copied(row, keys)
            if run and line != run[-1] + 1:
                begin, end = number - len(run) + shift, number + shift
                before = self._cells.lines(run[0], run[-1] + 1)
                if before.rstrip(b"\r\n") != again._cells.lines(begin, end).rstrip(b"\r\n"):
                    raise unreadable("the rows would be others", format_path((number - len(run),)))
                run = []
            if line is not None:
                run.append(line)
            elif row is not None:
                meant = self._read(row) if isinstance(row, int) else row
                found = {k: _value(c.raw) for k, c in again._read(number + shift).cells.items()}
                wanted = {key: _value(cell.raw) for key, cell in meant.cells.items()}
                if any(found.get(key, "") != wanted.get(key, "") for key in {**found, **wanted}):
                    raise unreadable("the row would be another", format_path((number,)))

    def _copied(self, row: int | _Row, keys: list[str]) -> int | None:
        """Return the line a row is copied from; None if it is written anew."""
        if keys != self._keys:
            return None
        return row if isinstance(row, int) else None if row.touched else row.line

    # ---- rows ----------------------------------------------------------------------------

    def _row(self, number: int) -> _Row:
        """Return a row to look into; from then on it is kept as cells."""
        row = self._rows[number]
        if isinstance(row, int):
            row = self._rows[number] = self._read(row)
        return row

    def _read(self, line: int) -> _Row:
        raws, was = self._raw_row(line), line - int(self._named)
        if raws == [""]:
            return _Row({}, line)
        keys: Any = range(len(raws))
        if self._named:
            keys = [*self._keys, *map(str, range(len(self._keys) + 1, len(raws) + 1))]
        return _Row({k: _Cell(raw, (was, k)) for k, raw in zip(keys, raws, strict=False)}, line)

    def _told(self, row: int | _Row) -> Any:
        """Return what a row says: one that nobody looked into by its line."""
        if isinstance(row, int):
            return self._plain_row(row)
        if self._named:
            return {key: _value(cell.raw) for key, cell in row.cells.items()}
        return [_value(cell.raw) for cell in row.cells.values()]

    def _plain_row(self, line: int) -> Any:
        """Return a row as it was read, without looking into it cell by cell."""
        if self._is_bare:
            start, end = self._cells.span(line)
            values = self._data[start:end].decode().split(self._sign.decode())
        else:
            values = list(map(_value, self._raw_row(line)))
        if values == [""] and self._raw_row(line) == [""]:
            return {} if self._named else []
        if not self._named:
            return values
        if len(values) > len(self._keys):
            more = map(str, range(len(self._keys) + 1, len(values) + 1))
            return dict(zip((*self._keys, *more), values, strict=True))
        return dict(zip(self._keys, values, strict=False))

    def _raw_row(self, line: int) -> list[str]:
        return [self._data[a:b].decode() for a, b in self._cells.row(line)]

    def _number(self, path: Path) -> int:
        number = path[0]
        if not isinstance(number, int) or not 0 <= number < len(self._rows):
            raise UsageError("there is no such row", where=format_path(path[:1]))
        return number

    def _cell(self, path: Path) -> _Cell:
        cells = self._row(self._number(path)).cells
        if len(path) != 2 or path[1] not in cells:
            raise UsageError("there is no such cell", where=format_path(path))
        return cells[path[1]]

    def _set_row(self, path: Path, value: Any, note: str) -> None:
        if not path:
            raise FormatError("a table is edited row by row", where="the document")
        pairs: Any = value.items() if isinstance(value, dict) else None
        if pairs is None and isinstance(value, (list, tuple)):
            pairs = enumerate(value)
        if pairs is None or isinstance(value, dict) != self._named:
            kind = "mapping" if self._named else "list"
            raise FormatError(f"a row of this file is a {kind}", where=format_path(path))
        cells = {key: _Cell(self._quoted(v, (*path, key), ""), note=note) for key, v in pairs}
        if path[0] == len(self._rows):
            self._rows.append(_Row(cells, touched=True))
        else:
            before = self._row(self._number(path))
            self._rows[self._number(path)] = _Row(cells, before.line, touched=True)
        self._reshaped |= self._named and any(key not in self._keys for key in cells)

    def _put(self, path: Path, cell: _Cell) -> None:
        number, key = path
        if number == len(self._rows):
            self._rows.append(_Row({}))
        row = self._row(number)  # type: ignore[arg-type]
        row.cells[key] = cell
        self._reshaped = row.touched = True

    def _check_room(self, path: Path) -> None:
        number = path[0] if path else None
        fits = isinstance(number, int) and 0 <= number <= len(self._rows)
        if fits and len(path) == 2:
            if self._named:
                fits = isinstance(path[1], str) and path[1] != ANY
            else:
                there = number < len(self._rows)  # type: ignore[operator]
                fits = path[1] == (len(self._row(number).cells) if there else 0)  # type: ignore[arg-type]
        if not fits or not 1 <= len(path) <= 2:
            raise FormatError("nothing can be put there", where=format_path(path))

    # ---- writing -------------------------------------------------------------------------

    def _final_keys(self) -> list[str]:
        """Return the columns there are now."""
        there: dict[str, None] = {}
        for row in self._rows:
            if isinstance(row, int):
                there.update(dict.fromkeys(self._keys))
            else:
                there.update(dict.fromkeys(row.cells))
        keys = [key for key in self._keys if key in there] if self._rows else list(self._keys)
        for key in there:
            if key in self._keys or key.isdigit():
                continue
            source = self._moved_from.get(key)
            if source in self._keys and source not in there:
                before = self._keys[: self._keys.index(source)]
                keys.insert(sum(k in before for k in keys), key)
            else:
                keys.append(key)
        if len(keys) != len(self._keys):
            self._check_lengths()
        return keys

    def _check_lengths(self) -> None:
        """Raise if a row has more cells than there were columns: their numbers would change."""
        for number, row in enumerate(self._rows):
            cells = (self._read(row) if isinstance(row, int) else row).cells
            if any(key.isdigit() for key in cells):
                raise unreadable(
                    "this row has more cells than there are columns",
                    format_path((number,)),
                    "Give the columns names first, or cut the row.",
                )

    def _line(self, row: _Row, keys: list[str]) -> bytes:
        """Return a row without its line end; a row without cells is no empty line, which readers skip."""
        cells = row.cells
        if not self._named:
            return self._joined([cell.raw for cell in cells.values()])
        raws = [cells[key].raw if key in cells else "" for key in keys]
        if all(key in keys for key in cells):  # what a short row lacked it still lacks
            while raws and keys[len(raws) - 1] not in cells:
                raws.pop()
        raws += [cell.raw for key, cell in cells.items() if key not in keys]
        return self._joined(raws)

    def _joined(self, raws: list[str]) -> bytes:
        return (self._sign.decode().join(raws) or '""').encode()

    def _quoted(self, value: Any, path: Path, old: str) -> str:
        if isinstance(value, bool):
            text = "true" if value else "false"
        elif isinstance(value, (str, int, float, Decimal)):
            text = str(value)
        elif value is None:
            text = ""
        else:
            raise FormatError(f"{value!r} cannot be written in a cell", where=format_path(path))
        if "\0" in text or re.search("[\ud800-\udfff]", text):
            raise FormatError(f"{value!r} cannot be written in a cell", where=format_path(path))
        needed = any(s in text for s in ('"', "\n", "\r", self._sign.decode()))
        if old.startswith('"') or needed or text != text.strip():
            return '"' + text.replace('"', '""') + '"'
        return text


class _Cells(Struct):
    """Where each cell and row is: cell `i` is `starts[i]:ends[i]`, row `n` its cells from `firsts[n]`."""

    data: bytes
    starts: Any
    ends: Any
    firsts: Any
    begins: Any  # of rows; one more than there are rows
    rows: int

    def row(self, number: int) -> list[tuple[int, int]]:
        first, last = int(self.firsts[number]), int(self.firsts[number + 1])
        return [(int(self.starts[n]), int(self.ends[n])) for n in range(first, last)]

    def span(self, number: int) -> tuple[int, int]:
        """Return where the cells of a row begin and end."""
        first, last = self.firsts[number], self.firsts[number + 1]
        return int(self.starts[first]), int(self.ends[last - 1])

    def line(self, number: int) -> bytes:
        return self.lines(number, number + 1)

    def lines(self, first: int, last: int) -> bytes:
        return self.data[int(self.begins[first]) : int(self.begins[last])]


def _cells(data: bytes, sign: bytes) -> _Cells:
    if len(data) >= _LARGE:
        found = _columns(data, sign)
        if found is not None:
            return found
    mark = re.escape(sign)
    pattern = re.compile(
        rb'("(?:[^"]|"")*+(?:"[^'
        + mark
        + rb"\r\n]*+)?|[^"
        + mark
        + rb"\r\n]*+)("
        + mark
        + rb"|\r\n|\n|\r|\Z)"
    )
    starts: list[int] = []
    ends: list[int] = []
    firsts, begins = [0], [0]
    at = 0
    while at < len(data):
        match = pattern.match(data, at)
        assert match is not None
        starts.append(match.start(1))
        ends.append(match.end(1))
        at = match.end()
        if match[2] != sign:
            firsts.append(len(starts))
            begins.append(at)
    if firsts[-1] != len(starts) or (data and data.endswith(sign) and begins[-1] != len(data)):
        starts.append(len(data))
        ends.append(len(data))
        firsts.append(len(starts))
        begins.append(len(data))
    return _Cells(data, starts, ends, firsts, begins, len(begins) - 1)


def _columns(data: bytes, sign: bytes) -> _Cells | None:
    """Find the cells of a large file by columns; None if its quotes are not those of RFC 4180."""
    import numpy as np

    array = np.frombuffer(data, np.uint8)
    marked = np.zeros(256, bool)
    marked[[sign[0], 10, 34]] = True
    places = np.flatnonzero(marked[array])
    signs = array[places]
    quotes = signs == 34
    if b"\r" in data and data.count(b"\r") != data.count(b"\r\n"):
        return None
    if quotes.any():
        inside = (np.cumsum(quotes.view(np.int8), dtype=np.int8) & 1).astype(bool)
        opening = places[quotes & inside]
        before = array[np.maximum(opening - 1, 0)]
        proper = (opening == 0) | (before == sign[0]) | (before == 10) | (before == 34)
        if not proper.all() or (len(inside) and inside[-1]):
            return None
        keep = ~quotes & ~inside
        places, signs = places[keep], signs[keep]
    last_open = not data.endswith(b"\n")
    if last_open:
        places, signs = np.append(places, len(data)), np.append(signs, 10)
    starts = np.empty(len(places), np.int64)
    starts[:1] = 0
    starts[1:] = places[:-1] + 1
    is_end = signs == 10
    ends = places - (is_end & (places > starts) & (array[np.minimum(places, len(data)) - 1] == 13))
    firsts = np.append(0, np.flatnonzero(is_end) + 1)
    begins = np.append(0, places[is_end] + 1)
    begins[-1] = len(data)
    return _Cells(data, starts, ends, firsts, begins, len(begins) - 1)


def _delimiter(data: bytes) -> bytes:
    """Return the sign that stands equally often, and most often, in the first lines."""
    head = re.sub(rb'"(?:[^"]|"")*+"', b"", data[:65536])
    lines = [line for line in head.splitlines()[:20] if line.strip()]
    if len(data) > 65536 and len(lines) > 1:
        lines.pop()
    best, score = b",", (0, 0)
    for sign in _SIGNS:
        counts = [line.count(sign) for line in lines]
        counts = [count for count in counts if count]
        usual = max(counts, key=counts.count, default=0)
        if usual and (counts.count(usual), usual) > score:
            best, score = bytes((sign,)), (counts.count(usual), usual)
    return best


def _value(raw: str) -> str:
    if not raw.startswith('"'):
        return raw
    end = raw.rfind('"')
    if end == 0:
        return raw[1:]
    return raw[1:end].replace('""', '"') + raw[end + 1 :]


def _is_name(text: str) -> bool:
    return bool(text.strip()) and not _NUMERIC.fullmatch(text)
