"""Layout: the description of a binary format in all its versions, read from one text."""

from __future__ import annotations

import codecs
from typing import Any

from msgspec import Struct

from ...errors import FormatError, UsageError
from ...small_files import read_small
from ...suggestions import hint
from ..document import Path, format_path
from .checks import DIGESTS, Checksum
from .directory import Each
from .item import Field, Item, Reading
from .language import LONGEST_NUMBER, Source, Tokens, unquoted
from .numbers import Bits, Enum, Float, Integer, Varint
from .parts import Block, Choice, Condition, Group, Optional, Sections
from .references import Reference
from .rows import Table
from .squeeze import METHODS
from .strings import Bytes, Pad, Size, Text

__all__ = ["Layout"]

_WIDTHS = {8: 1, 16: 2, 24: 3, 32: 4, 40: 5, 48: 6, 56: 7, 64: 8}
_DEEPEST = 30
_LARGEST = 4 << 20  # bytes
_MOST_VERSIONS = 1000
_NO_ENCODINGS = ("idna", "punycode", "raw_unicode_escape", "unicode_escape", "undefined")
_SIGNS = ("==", "!=", "<=", ">=", "<", ">")


class Layout(Struct, eq=False):
    """A format: its name, byte order, versions, and fields.

    >>> layout = kl.Layout.parse("layout chart\\nlittle endian\\nharbours table u16 { depth u16 }")
    >>> document = kl.LayoutDocument(bytes([2, 0, 7, 0, 9, 0]), layout)
    >>> document.get("harbours[1].depth")
    9
    """

    name: str
    source: Source
    big: bool = False
    low: int = 1
    high: int = 1
    version_path: Path | None = None
    root: Any = None
    refers: bool = False  # some fields stand for rows of tables

    @staticmethod
    def parse(text: str, name: str = "the layout") -> Layout:
        """Read a layout's text.

        Raises:
            LayoutError: with the line and a caret.
        """
        return _Parser(Source(name, text)).layout()

    @staticmethod
    def load(path: str) -> Layout:
        """Read a layout file.

        Raises:
            UsageError: there is no such file.
            FormatError: it cannot be read.
            LayoutError: it is no layout.
        """
        try:
            text = read_small(path, most=_LARGEST).decode("utf-8-sig")
        except FileNotFoundError as error:
            raise UsageError("no such file", where=path, remedy="Check the path.") from error
        except (OSError, UnicodeDecodeError) as error:
            why = error.strerror if isinstance(error, OSError) else error.reason
            raise FormatError(f"the layout cannot be read: {why}", where=path) from error
        return Layout.parse(text.replace("\r\n", "\n").replace("\r", "\n"), path)

    def note_version(self, reading: Reading, field: Field, item: Item) -> None:
        """Take over the version once its field was read."""
        path = (*reading.path, field.name)
        if path != self.version_path:
            return
        if not isinstance(item.value, int) or not self.low <= item.value <= self.high:
            reading.fail(
                field,
                f"the file is of format version {item.value}; the layout knows {self.low} to {self.high}",
                item.start,
            )
        reading.version = item.value


class _Parser:
    def __init__(self, source: Source) -> None:
        self._tokens = Tokens(source)
        self._source = source
        self._encoding = "utf-8"
        self._depth = 0
        self._range = (1, 1)
        self._names: set[str] = set()
        self._referred: dict[str, int] = {}  # tables that fields refer to, and where they are named

    def layout(self) -> Layout:
        tokens = self._tokens
        tokens.skip_ends()
        tokens.expect("layout")
        layout = Layout(tokens.name("the name of the format").text, self._source)
        tokens.end()
        while tokens.next.text in ("little", "big", "versions", "text"):
            word = tokens.take().text
            if word == "versions":
                layout.low = tokens.number("the first version")
                tokens.expect("to")
                layout.high = tokens.number("the last version")
                if layout.high - layout.low >= _MOST_VERSIONS:
                    tokens.fail(f"a layout has at most {_MOST_VERSIONS} versions")
                if layout.high < layout.low:
                    tokens.fail("the last version comes before the first")
                if tokens.accept("from"):
                    path = tokens.name("the field that tells the version").text
                    layout.version_path = tuple(path.split("."))
            elif word == "text":
                self._encoding = self._codec()
            else:
                tokens.expect("endian")
                layout.big = word == "big"
            tokens.end()
        self._range = (layout.low, layout.high)
        layout.root = Group(self._fields(""))
        layout.refers = bool(self._referred)
        for name, at in self._referred.items():
            if name not in self._names:
                tokens.fail(f"there is no table {name!r} to refer to", at)
        if layout.version_path is not None:
            self._check_version(layout)
        return layout

    def _check_version(self, layout: Layout) -> None:
        group: Any = layout.root
        for name in layout.version_path or ():
            found = None
            if isinstance(group, Group):
                found = next((f for f in group.fields if f.name == name), None)
            if found is None:
                path = format_path(layout.version_path or ())
                self._source.fail(f"there is no field {path} to tell the version", 0)
            group = found.kind

    def _fields(self, closing: str) -> tuple[Field, ...]:
        tokens = self._tokens
        self._depth += 1
        if self._depth > _DEEPEST:
            tokens.fail(f"nested deeper than {_DEEPEST} levels")
        fields: list[Field] = []
        tokens.skip_ends()
        while tokens.next.kind and (tokens.next.text != closing or tokens.next.kind == "text"):
            field = self._field()
            for other in fields:
                if field.name and other.name == field.name and _overlap(field, other, self._range):
                    tokens.fail(f"{field.name!r} stands twice in the same version", field.at)
            fields.append(field)
            tokens.end()
        if closing and not tokens.accept(closing):
            tokens.fail("a closing brace is missing")
        self._depth -= 1
        return tuple(fields)

    def _field(self) -> Field:
        tokens = self._tokens
        at = tokens.next.at
        if tokens.next.text in ("pad", "align"):
            word = tokens.take().text
            count = tokens.number("how many bytes")
            if not 0 < count <= 1 << 24:
                tokens.fail("that many bytes are no padding", at)
            kind: Any = Pad(count) if word == "pad" else Pad(align=count)
            return Field("", kind, at, **self._modifiers())
        token = tokens.name("a field's name")
        if "." in token.text:
            tokens.fail("a field's name has no dots", token.at)
        kind = self._kind()
        self._names.add(token.text)
        return Field(token.text, kind, at, **self._modifiers())

    def _modifiers(self) -> dict[str, Any]:
        tokens = self._tokens
        out: dict[str, Any] = {}
        while True:
            if tokens.accept("="):
                out["constant"] = self._literal()
            elif tokens.next.text in ("since", "until"):
                word = tokens.take().text
                out[word] = number = tokens.number("a version")
                if not self._range[0] <= number <= self._range[1]:
                    tokens.fail(f"the layout has versions {self._range[0]} to {self._range[1]}")
            elif tokens.accept("default"):
                out["default"] = self._literal()
            elif tokens.accept("in"):
                out["within"] = self._reference()
            elif tokens.accept("if"):
                path = tokens.name("a field").text
                sign = next((s for s in _SIGNS if tokens.accept(s)), "")
                out["condition"] = Condition(path, sign, self._literal() if sign else None)
            else:
                return out

    def _reference(self) -> Reference:
        tokens = self._tokens
        token = tokens.name("a table, or a column of one")
        table, _, column = token.text.partition(".")
        self._referred.setdefault(table, token.at)
        nothing = self._literal() if tokens.accept("or") else None
        return Reference(table, column, nothing)

    def _literal(self) -> Any:
        tokens = self._tokens
        token = tokens.take()
        if token.kind == "text":
            return unquoted(token.text)
        if token.kind == "number":
            if "." not in token.text and len(token.text) > LONGEST_NUMBER:
                tokens.fail(f"a number is longer than {LONGEST_NUMBER} digits", token.at)
            return float(token.text) if "." in token.text else int(token.text, 0)
        if token.kind == "name":
            return {"true": True, "false": False}.get(token.text, token.text)
        return tokens.fail(f"expected a value, found {token.text!r}", token.at)

    # ---- kinds ---------------------------------------------------------------------------

    def _kind(self) -> Any:
        tokens = self._tokens
        if tokens.accept("{"):
            return Group(self._fields("}"))
        token = tokens.name("a type, or { for a group")
        word = token.text
        number = self._number(word)
        if number is not None:
            return number
        if word in DIGESTS:
            tokens.expect("of")
            first = tokens.name("where the range begins").text
            tokens.expect("to")
            return Checksum(word, first, tokens.name("where the range ends").text)
        make = getattr(self, f"_{word}_kind", None)
        if make is None:
            meant = hint(word, _TYPES) or f"; it is one of {', '.join(_TYPES)}"
            tokens.fail(f"there is no type {word!r}{meant}", token.at)
        return make()

    def _number(self, word: str) -> Any:
        kind: Any = None
        if word[:1] in ("u", "i") and word[1:].isdigit():
            width = _WIDTHS.get(int(word[1:]))
            if width is None:
                return None
            kind = Integer(width, word[0] == "i", self._order())
        elif word in ("f16", "f32", "f64"):
            kind = Float(int(word[1:]) // 8, self._order())
        elif word == "bool":
            kind = Integer(1, logical=True)
        elif word == "varint":
            kind = Varint()
        return kind

    def _order(self) -> bool | None:
        if self._tokens.accept("big"):
            return True
        return False if self._tokens.accept("little") else None

    def _integer(self, what: str) -> Any:
        token = self._tokens.name(what)
        kind = self._number(token.text)
        if not isinstance(kind, (Integer, Varint)):
            self._tokens.fail(f"expected {what}, found {token.text!r}", token.at)
        return kind

    def _size(self, what: str) -> Size:
        tokens = self._tokens
        if tokens.next.kind == "number":
            at = tokens.next.at
            count = tokens.number(what)
            if not 0 <= count <= 1 << 31:
                tokens.fail("a size is 0 to 2^31", at)
            return Size(fixed=count)
        if tokens.accept("to"):
            tokens.expect("end")
            return Size(to_end=True)
        if tokens.accept("zero"):
            return Size(terminator=b"\0")
        if tokens.accept("until"):
            return Size(terminator=bytes((tokens.number("the byte that ends it") & 255,)))
        token = tokens.name(what)
        kind = self._number(token.text)
        return Size(path=token.text) if kind is None else Size(prefix=kind)

    def _codec(self) -> str:
        token = self._tokens.name("an encoding")
        try:
            found = codecs.lookup(token.text)
        except LookupError:
            self._tokens.fail(f"there is no encoding {token.text!r}", token.at)
        if not found._is_text_encoding or found.name.replace("-", "_") in _NO_ENCODINGS:
            self._tokens.fail(f"{token.text!r} is no encoding of text in files", token.at)
        return found.name

    def _bytes_kind(self) -> Any:
        return Bytes(self._size("how many bytes"))

    def _text_kind(self) -> Any:
        size = self._size("how long the text is")
        encoding, pad = self._encoding, 0
        while self._tokens.next.text in ("encoding", "pad"):
            if self._tokens.take().text == "encoding":
                encoding = self._codec()
            else:
                pad = self._tokens.number("the byte it is filled up with") & 255
        return Text(size, encoding, pad)

    def _enum_kind(self) -> Any:
        number = self._integer("the integer it is kept in")
        names: dict[int, str] = {}
        for name, value in self._pairs():
            names[value] = name
        return Enum(number, names)

    def _flags_kind(self) -> Any:
        number = self._integer("the integer they are kept in")
        parts = tuple((name, bit, 1) for name, bit in self._pairs())
        return Bits(number, self._fitting(parts, number), logical=True)

    def _bits_kind(self) -> Any:
        tokens = self._tokens
        number = self._integer("the integer they are kept in")
        tokens.expect("{")
        tokens.skip_ends()
        parts: list[tuple[str, int, int]] = []
        low = 0
        while not tokens.accept("}"):
            name = tokens.name("a name").text
            count = tokens.number("how many bits")
            parts.append((name, low, count))
            low += count
            tokens.end()
        return Bits(number, self._fitting(tuple(parts), number))

    def _fitting(self, parts: tuple[tuple[str, int, int], ...], number: Any) -> Any:
        for name, low, count in parts:
            if count < 1 or low < 0 or low + count > number.width * 8:
                self._tokens.fail(f"{name!r} goes beyond the {number.width * 8} bits")
        return parts

    def _pairs(self) -> list[tuple[str, int]]:
        tokens = self._tokens
        tokens.expect("{")
        tokens.skip_ends()
        out = []
        while not tokens.accept("}"):
            name = tokens.name("a name").text
            tokens.expect("=")
            out.append((name, tokens.number("its number")))
            tokens.end()
        return out

    def _table_kind(self) -> Any:
        return Table(self._size("how many rows"), self._kind())

    def _optional_kind(self) -> Any:
        return Optional(self._integer("the integer that tells"), self._kind())

    def _choice_kind(self) -> Any:
        tokens = self._tokens
        path = tokens.name("the field that decides").text
        tokens.expect("{")
        tokens.skip_ends()
        cases: dict[Any, Any] = {}
        otherwise = None
        while not tokens.accept("}"):
            if tokens.accept("else"):
                otherwise = self._kind()
            else:
                tag = self._literal()
                cases[tag] = self._kind()
            tokens.end()
        return Choice(path, cases, otherwise)

    def _sections_kind(self) -> Any:
        tokens = self._tokens
        tag = self._kind()
        length = self._integer("the integer that tells their length")
        count = self._size("how many there are")
        tokens.expect("{")
        tokens.skip_ends()
        cases: dict[Any, tuple[str, Any, int]] = {}
        while not tokens.accept("}"):
            at = tokens.next.at
            value = self._literal()
            if isinstance(tag, Bytes) and isinstance(value, str):
                value = value.encode("latin-1")
            name = tokens.name("the section's name").text
            cases[value] = (name, self._kind(), at)
            tokens.end()
        return Sections(tag, length, count, cases)

    def _block_kind(self) -> Any:
        size = self._size("how long the block is")
        method = next((m for m in METHODS if self._tokens.accept(m)), "")
        return Block(size, method, self._kind())

    def _each_kind(self) -> Any:
        tokens = self._tokens
        table = tokens.name("the table that tells where they are").text
        tokens.expect("at")
        offset = tokens.name("the column with the offset").text
        size = tokens.name("the column with the size").text if tokens.accept("size") else ""
        align = tokens.number("the alignment") if tokens.accept("align") else 1
        return Each(table, offset, size, max(align, 1), self._kind())


def _overlap(one: Field, other: Field, versions: tuple[int, int]) -> bool:
    if one.condition is not None or other.condition is not None:
        return False
    low, high = versions
    return max(one.since or low, other.since or low) <= min(one.until or high, other.until or high)


_TYPES = (
    "u8", "u16", "u24", "u32", "u48", "u64", "i8", "i16", "i32", "i64", "f16", "f32", "f64", "bool",
    "varint", "enum", "flags", "bits", "bytes", "text", "table", "optional", "choice", "sections",
    "block", "each", *DIGESTS,
)  # fmt: skip
