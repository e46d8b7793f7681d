"""JSON (RFC 8259) that keeps its layout; comments and trailing commas, as tools write, are read too.

Every value knows its span in the text. An edit marks the containers around it; encoding copies the
spans that are unmarked and re-joins the rest, so comments, key order, number text, spacing and
quoting of everything else stay. What it does not keep: nothing. Duplicate keys are carried, but a
path that leads to one cannot be edited, since readers differ in which they take.
"""

from __future__ import annotations

import contextlib
import json
import re
from decimal import Decimal
from typing import Any

import msgspec

from ..errors import FormatError
from .document import Path, format_path
from .json_scan import COMMENT, SPACE, by_columns, scan
from .json_table import Edit, JsonColumns, read_table, scalar, string, text_of
from .reading_back import check_tree, unreadable
from .stretches import Stretch, tally
from .tables import same_column
from .text import Text
from .tree import LIST, MAPPING, SCALAR, Node, TreeDocument

__all__ = ["JsonDocument"]

# Possessive: where no line ends here, spaces must not be shared out in every possible way.
_REST_OF_LINE = re.compile(rb"(?:[ \t]++|/\*[^\n]*?\*/)*+(?://[^\r\n]*)?(?=\r?\n)")
_CLOSED = re.compile(r"/\*.*?\*/|//[^\n]*\n", re.S)  # comments that what follows cannot get into
_WIDE_INT = re.compile(rb"\d{4001}")  # which are read as decimals
_COLON = 0x3A
_OPEN, _CLOSE = {MAPPING: b"{", LIST: b"["}, {MAPPING: b"}", LIST: b"]"}


class _Value(Node, eq=False):
    """A value with all the text around it: its span in the file, or once edited, its `text`."""

    start: int = 0
    end: int = 0
    token: int = -1  # of its opening bracket
    text: str | None = None
    dirty: bool = False
    begin: int = -1  # where the member begins in the file, lead and all; -1 if it was touched
    stop: int = -1
    close: str = ""  # what stands between the last member and the closing bracket
    lead: str = ""  # before the key
    key_text: str = ""
    colon: str = ""  # the colon and the space around it
    trail: str = ""  # between value and comma
    comma: bool = False
    after: str = ""  # after the comma, to the end of the line: a comment there is this member's
    names: dict[Path, int] | None = None  # of its leaves, once they were counted
    columns: JsonColumns | None = None  # of a table, while it is taken by columns
    is_table: bool | None = None  # None: nobody asked


class JsonDocument(TreeDocument[_Value]):
    """A JSON file as a document; see the module for what it keeps."""

    def __init__(self, data: bytes) -> None:
        self._encoding = Text.decode(data)
        utf8 = self._encoding.encoding == "utf-8"
        mark = len(self._encoding.mark)
        self._data = data[mark:] if utf8 else self._encoding.text.encode("utf-8")
        self._newline = self._encoding.newline
        self._tokens = scan(self._data)
        self._opened = False  # whether any table was taken by columns
        match = SPACE.match(self._data)
        assert match is not None
        self._root, end = self._value_at(match.end(), 0)
        self._root.origin = ()
        self._root.was_leaf = self._root.kind == SCALAR
        self._head, self._tail = self._data[: match.end()], self._data[end:]
        if utf8:
            self._encoding = Text("", "utf-8", self._encoding.mark)  # one copy is enough

    def encode(self) -> bytes:
        data = self.encode_unread()
        if self._root.dirty or self._root.token < 0:
            try:
                again = JsonDocument(data)
            except FormatError as error:
                raise unreadable(error.what, error.where or "") from error
            check_tree(self, again)
        return data

    def encode_unread(self) -> bytes:
        """Return the bytes without reading them again, for those who do that themselves."""
        out: list[bytes] = [self._head]
        self._emit(self._root, out)
        out.append(self._tail)
        data = b"".join(out)
        if self._encoding.encoding == "utf-8":
            return self._encoding.mark + data
        return self._encoding.encode(data.decode())

    # ---- reading -------------------------------------------------------------------------

    def _value_at(self, at: int, token: int) -> tuple[_Value, int]:
        """Return the value that begins at an offset; `token` is the next one from there."""
        first = self._data[at]
        if first in b"{[":
            _, closing = self._tokens.inside(token)
            end = self._tokens.position(closing) + 1
            return _Value(MAPPING if first == 0x7B else LIST, start=at, end=end, token=token), end
        end = _end_of_scalar(self._data, at)
        return _Value(SCALAR, start=at, end=end), end

    def _expand(self, node: _Value) -> list[_Value]:
        data, position = self._data, self._tokens.position
        inside, _ = self._tokens.inside(node.token)
        is_object = node.kind == MAPPING
        members: list[_Value] = []
        at = node.start + 1
        step = 0
        while True:
            lead_end = _end_of_space(data, at)
            if lead_end >= node.end - 1:
                node.close = data[at:lead_end].decode()
                return members
            lead = data[at:lead_end].decode() if lead_end > at else ""
            key = key_text = colon = ""
            start = lead_end
            if is_object:
                colon_at = position(inside[step])
                step += 1
                start = _end_of_space(data, colon_at + 1)
                end_of_key = _end_of_scalar(data, lead_end)
                key_text = data[lead_end:end_of_key].decode()
                key = string(key_text)
                colon = data[end_of_key:start].decode()
            opens = data[start] in b"{["
            if opens:
                token = inside[step]
                end = position(inside[step + 1]) + 1
                step += 2
                member = _Value(MAPPING if data[start] == 0x7B else LIST, start=start, end=end)
                member.token = token
            else:
                end = _end_of_scalar(data, start)
                member = _Value(SCALAR, start=start, end=end)
            member.lead, member.key_text, member.colon = lead, key_text, colon
            member.key = key if is_object else None
            members.append(member)
            member.begin, at = at, end
            if step < len(inside):
                comma = position(inside[step])
                step += 1
                member.comma = True
                member.trail = data[end:comma].decode() if comma > end else ""
                at = comma + 1
                rest = _REST_OF_LINE.match(data, at)
                if rest is not None and rest.end() > at:
                    member.after = rest[0].decode()
                    at = rest.end()
            member.stop = at

    def _text(self, node: _Value) -> str:
        return node.text if node.text is not None else self._data[node.start : node.end].decode()

    def _value(self, node: _Value) -> Any:
        return scalar(self._text(node))

    def repeats_keys(self) -> bool:
        """Tell whether a key stands twice in one mapping."""
        try:
            json.loads(self.encode_unread(), object_pairs_hook=_once)
        except _Twice:
            return True
        except (ValueError, RecursionError):
            paths = [leaf.path for leaf in self.leaves()]
            return len(set(paths)) < len(paths)
        return False

    def _plain(self, node: _Value) -> Any:
        """Return plain values; what nobody edited is read by the standard library, if it can."""
        if node.kind != SCALAR and not node.dirty and node.token >= 0 and not self._opened:
            text = self._data[node.start : node.end]
            if not _WIDE_INT.search(text):
                with contextlib.suppress(ValueError, RecursionError):  # comments, a comma too many
                    return json.loads(text.decode(), parse_float=Decimal, parse_constant=_no_number)
        return super()._plain(node)

    def _both(self, node: _Value) -> tuple[str, Any]:
        text = self._text(node)
        return text, scalar(text)

    def _same_whole(self, node: _Value, found: Any, other: _Value, path: Path) -> bool | None:
        if node.columns is not None and node.columns.touched:
            read = found.open_columns(path)
            return (
                read is not None
                and {*read.cells} == {*node.columns.cells}
                and all(same_column(node.columns, read, name) for name in read.cells)
            )
        if not _is_whole(node):
            return None
        return bool(self._data[node.start : node.end] == found._data[other.start : other.end])

    # ---- what nobody touched -------------------------------------------------------------

    def untouched(self, path: Path) -> tuple[Path, bytes] | None:
        node = self._node(path) if self.find(path) else None
        if node is None or not _is_whole(node):
            return None
        return node.origin or (), self._data[node.start : node.end]

    def stretches(self, least: int, at: Path = ()) -> list[Stretch]:
        found: list[Stretch] = []
        waiting = [(at, self._node(at))] if not at or self.find(at) else []
        while waiting:
            path, node = waiting.pop()
            whole = _is_whole(node)
            if whole and node.end - node.start < least:
                continue
            if whole and (names := self._names(node)) is not None:
                data = self._data[node.start : node.end]
                found.append(Stretch(path, node.origin or (), data, names))
                continue
            if node.columns is not None:
                continue
            inner = [((*path, key), member) for key, member in self._keyed(node)]
            waiting += [each for each in reversed(inner) if each[1].kind != SCALAR]
        return found

    def _members(self, node: _Value) -> list[_Value]:
        if node.columns is not None:  # somebody looks at the records one by one
            self._close(node, node.columns)
        return super()._members(node)

    def _names(self, node: _Value) -> dict[Path, int] | None:
        """Count the leaves of a container by name; None if it must be looked at leaf by leaf."""
        if node.names is None:
            try:
                value = msgspec.json.decode(self._data[node.start : node.end])
            except (msgspec.DecodeError, RecursionError):  # comments, or half characters
                return None
            names, pairs = tally(value)
            if pairs != self._tokens.count(node.token, self._data, _COLON):
                return None  # a key stands twice, which is once in plain values
            node.names = names
        return node.names

    # ---- tables --------------------------------------------------------------------------

    def open_columns(self, path: Path, least: int = 0) -> JsonColumns | None:
        """Return the columns of a list of records that are all written alike; None of others."""
        node = self._node(path)
        if node.columns is not None or node.is_table is False:
            return node.columns
        if node.kind != LIST or not _is_whole(node):
            return None
        if least and len(self._tokens.inside(node.token)[0]) < 3 * least - 1:
            return None
        tokens = by_columns(self._data, self._tokens)
        table = (
            read_table(self._data, tokens, node.token, (node.start, node.end)) if tokens else None
        )
        node.is_table = table is not None
        if table is not None:
            node.members = None
            node.columns = JsonColumns(table, lambda: self._mark(node))
            self._opened = True
        return node.columns

    def open_like(self, path: Path, other: JsonColumns) -> JsonColumns | None:
        """Return the columns of an empty list, to be filled with records written as those of a table.

        None if there is no list, something is in it, or it stands with a comment.
        """
        node = self._node(path)
        text = self._data[node.start : node.end]
        if node.kind != LIST or not _is_whole(node) or text[1:-1].strip() or node.columns:
            return None
        node.is_table, node.members = True, None
        node.columns = other.blank(lambda: self._mark(node))
        self._opened = True
        return node.columns

    def close_columns(self, path: Path) -> None:
        """Go on with a table record by record."""
        node = self._node(path)
        if node.columns is not None:
            self._close(node, node.columns)

    def column_tables(self, least: int, at: Path = ()) -> list[Path]:
        """Return the tables at or below a path that were edited by columns; others are as they were read."""
        found: list[Path] = []
        there = self._opened and (not at or bool(self.find(at)))
        waiting: list[tuple[Path, _Value]] = [(at, self._node(at))] if there else []
        while waiting:
            path, node = waiting.pop()
            if node.columns is not None:
                found += [path] if node.columns.touched else []
            elif node.dirty and node.kind != SCALAR:
                inner = [((*path, key), member) for key, member in self._keyed(node)]
                waiting += [each for each in reversed(inner) if each[1].kind != SCALAR]
        return found

    def _close(self, node: _Value, columns: JsonColumns) -> None:
        columns.close()
        node.columns = None
        if columns.touched:
            self._carry_out(node, columns.edits)

    def _carry_out(self, node: _Value, edits: list[Edit], *, blank: bool = False) -> None:
        """Do to the records of a list what was done to its columns; `blank`: every value is 0."""
        for edit in edits:
            rows = list(self._members(node))
            if edit.kind == "take":
                self._take(node, edit.order.tolist() if not blank else [0])
            elif edit.kind == "write":
                texts = [b"0"] * len(rows) if blank or edit.texts is None else edit.texts.each()
                for row, text in zip(rows, texts, strict=True):
                    self._write(row, edit.name, text.decode(), edit.note)
            for row in rows if edit.kind in ("rename", "remove") else ():
                member = self._fitting(row, edit.name)[0][1]
                if edit.kind == "rename":
                    self._rename(member, edit.to, ())
                else:
                    self._detach(member)

    def _take(self, node: _Value, order: list[int]) -> None:
        rows = list(self._members(node))
        for at in sorted({*range(len(rows))} - {*order}, reverse=True):
            self._detach(rows[at])
        members = [rows[at] for at in order]
        if members != node.members:
            self._permute(node, members)

    def _write(self, row: _Value, name: str, text: str, note: str) -> None:
        found = self._fitting(row, name)
        old = found[0][1] if found else None
        if old is not None and self._text(old) == text:
            return
        new = _Value(SCALAR, text=text, parent=row, key=name, note=note)
        if old is None:
            self._append(row, new, ())
            return
        new.origin, new.was_leaf, new.note, new.at = old.origin, old.was_leaf, old.note, old.at
        self._replace(old, new)

    def _table_text(self, columns: JsonColumns) -> bytes:
        """Return the text of a table: what is done to all records alike is done to a blank one."""
        table = columns.table
        blank = JsonDocument(b"[[" + table.first + table.row + table.close + b"]]")
        blank._carry_out(blank._node((0,)), columns.edits, blank=True)
        written = JsonDocument(blank.encode())
        row = written._node((0, 0))
        pieces, at = [], row.start
        for member in written._members(row):
            pieces.append(written._data[at : member.start])
            at = member.end
        pieces.append(written._data[at : row.end])
        form = b"%b".join(piece.replace(b"%", b"%%") for piece in pieces)
        cells = [columns.cells[str(member.key)].each() for member in written._members(row)]
        rows = (b"," + table.lead).join(map(form.__mod__, zip(*cells, strict=True)))
        return b"[" + columns.first + rows + table.close + b"]"

    # ---- editing -------------------------------------------------------------------------

    def _made(self, value: Any, path: Path) -> _Value:
        if isinstance(value, (dict, list, tuple)):
            node = _Value(MAPPING if isinstance(value, dict) else LIST, members=[], dirty=True)
            keys = list(value) if isinstance(value, dict) else [None] * len(value)
            for key, inner in zip(
                keys, value.values() if isinstance(value, dict) else value, strict=True
            ):
                member = self._made(inner, path)
                member.parent, member.key = node, key
                if key is not None:
                    member.key_text, member.colon = json.dumps(key, ensure_ascii=False), ": "
                self._members(node).append(member)
                member.lead = " " if len(self._members(node)) > 1 else ""
            return node
        return _Value(SCALAR, text=_text_of(value, path))

    def _replace(self, old: _Value, new: _Value) -> None:
        for name in ("lead", "key_text", "colon", "trail", "comma", "after"):
            setattr(new, name, getattr(old, name))
        if old.parent is None:
            self._root = new
            return
        members = self._members(old.parent)
        members[self._position(old)] = new
        self._mark(old.parent)

    def _append(self, parent: _Value, node: _Value, path: Path) -> None:
        node.lead = node.trail = node.after = node.colon = node.key_text = ""
        if node.key is not None:
            node.key_text, node.colon = json.dumps(node.key, ensure_ascii=False), ": "
        members = self._members(parent)
        if members:
            last = members[-1]
            node.lead = COMMENT.sub(b"", last.lead.encode()).decode()
            node.lead = re.sub(r"\n\s*\n", "\n", node.lead) or " "
            node.colon = last.colon or node.colon
            if not last.comma and (rest := _REST_OF_LINE.match(parent.close.encode())):
                last.after = rest[0].decode()
                parent.close = parent.close[len(last.after) :]
            if "//" in last.after and "\n" not in node.lead:
                node.lead = self._newline + node.lead
            node.comma, last.comma = last.comma, True
            last.begin = -1
        else:
            node.comma = False
            node.lead, parent.close = self._first_lead(parent)
        node.begin = -1
        members.append(node)
        self._mark(parent)

    def _detach(self, node: _Value) -> None:
        parent = node.parent
        members = self._members(parent)
        at = self._position(node)
        del members[at]
        comments = "".join(t for t in (node.lead, node.after) if "/" in t)
        before = members[at - 1] if at else None
        above = (before.trail + before.after) if before is not None else ""
        if at < len(members):
            follower = members[at]
            if not at and not (node.lead + follower.lead).strip():
                follower.lead = node.lead  # what is first now stands as the first one did
            follower.lead = self._below(above, comments + self._below(comments, follower.lead))
            follower.begin = -1
        else:
            parent.close = self._below(above, comments + self._below(comments, parent.close))
            if before is not None:
                before.comma, before.begin = node.comma, -1
        self._mark(parent)

    def _below(self, comments: str, text: str) -> str:
        """Return text that follows comments, on a line of its own if the last goes to a line's end."""
        open_end = "//" in _CLOSED.sub("", comments)
        return self._newline + text if open_end and not text.startswith(("\n", "\r\n")) else text

    def _rename(self, node: _Value, key: str, path: Path) -> None:
        node.key, node.key_text = key, json.dumps(key, ensure_ascii=False)
        node.begin = -1
        self._mark(node.parent)

    def _permute(self, node: _Value, members: list[_Value]) -> None:
        """Comments go with their members; space before members and commas stay where they are."""
        before = self._members(node)
        leads = [COMMENT.sub(b"", member.lead.encode()).decode() for member in before]
        commas = [member.comma for member in before]
        node.members = members
        above = ""
        for member, lead, comma in zip(members, leads, commas, strict=True):
            member.lead = self._below(above, member.lead if "/" in member.lead else lead)
            member.comma, member.begin = comma, -1
            above = member.trail + member.after
        node.close = self._below(above, node.close)
        self._mark(node)

    def _first_lead(self, parent: _Value) -> tuple[str, str]:
        """Return the space before the first member of an empty container and before its bracket."""
        owner = parent.parent
        owners = self._members(owner) if owner is not None else []
        if not owners or "\n" not in owners[0].lead:
            return "", parent.close
        outer = owners[0].lead
        outer = outer[outer.rindex("\n") :]
        step = outer[1:]
        if owner.parent is not None:
            above = owner.lead[owner.lead.rfind("\n") :] if "\n" in owner.lead else ""
            step = outer[len(above) :] if above and outer.startswith(above) else ""
        on_its_own = re.search(r"\n[ \t]*\Z", parent.close)  # as where the last member was removed
        close = parent.close if on_its_own else parent.close + self._newline + outer[1:]
        return self._newline + outer[1:] + (step or "  "), close

    def _mark(self, node: _Value | None) -> None:
        if node is not None:
            node.table = None
        while node is not None and not node.dirty:
            node.dirty, node.begin = True, -1
            node = node.parent

    def _emit(self, node: _Value, out: list[bytes]) -> None:
        if node.kind == SCALAR and node.text is not None:
            out.append(node.text.encode())
            return
        if node.columns is not None and node.columns.touched:
            out.append(self._table_text(node.columns))
            return
        if not node.dirty or node.kind == SCALAR:
            out.append(self._data[node.start : node.end])
            return
        out.append(_OPEN[node.kind])
        members = self._members(node)
        begin = stop = -1  # a run of members that are as they were
        for member in members:
            if member.begin >= 0 and member.begin == stop:
                stop = member.stop
                continue
            if stop >= 0:
                out.append(self._data[begin:stop])
            begin, stop = member.begin, member.stop if member.begin >= 0 else -1
            if begin < 0:
                out.append((member.lead + member.key_text + member.colon).encode())
                self._emit(member, out)
                comma = member.comma or member is not members[-1]
                out.append((member.trail + ("," if comma else "") + member.after).encode())
        if stop >= 0:
            out.append(self._data[begin:stop])
        out += (node.close.encode(), _CLOSE[node.kind])


def _is_whole(node: _Value) -> bool:
    """Tell whether a node is a container that is as it was read."""
    return node.token >= 0 and not node.dirty and node.origin is not None


_SCALAR = re.compile(rb'"(?:[^"\\]++|\\.)*+"|[-+.0-9a-zA-Z]++')
_SPACES = re.compile(rb"[ \t\r\n]*+")


def _end_of_space(data: bytes, at: int) -> int:
    end = _SPACES.match(data, at).end()  # type: ignore[union-attr]
    if data[end : end + 1] == b"/":
        end = SPACE.match(data, at).end()  # type: ignore[union-attr]
    return end


def _end_of_scalar(data: bytes, at: int) -> int:
    return _SCALAR.match(data, at).end()  # type: ignore[union-attr]


def _text_of(value: Any, path: Path) -> str:
    text = text_of(value)
    if text is None:
        raise FormatError(f"{value!r} cannot be written in JSON", where=format_path(path))
    return text


class _Twice(Exception):
    """A key stands twice in one mapping."""


def _once(pairs: list[tuple[str, Any]]) -> None:
    if len(dict(pairs)) < len(pairs):
        raise _Twice


def _no_number(text: str) -> Any:
    raise ValueError(text)
