"""The grammar of layouts: fields, their modifiers, and kinds, read from tokens. See docs/layouts.md."""

from __future__ import annotations

import codecs
from datetime import datetime
from typing import Any

from msgspec.structs import replace

from ...errors import KindredError
from ...suggestions import hint
from ..expressions import Expression
from .arrays import Packed, Runs
from .checks import DIGESTS, Checksum
from .derived import Derived
from .directory import At, Each, Places
from .item import Field
from .language import LONGEST_NUMBER, Source, Tokens, unquoted
from .meanings import UNITS, Colour, Fixed, Time, Uuid
from .numbers import Bits, Enum, Float, Integer, Varint
from .parts import Block, Choice, Condition, Group, Named, Optional, Sections
from .pools import Pooled
from .references import Reference
from .rows import Table
from .squeeze import METHODS, XOR
from .strings import Bytes, Pad, Size, Text

__all__ = ["Grammar"]

_WIDTHS = {8: 1, 16: 2, 24: 3, 32: 4, 40: 5, 48: 6, 56: 7, 64: 8, 128: 16}
_DEEPEST = 30
_MOST_COPIED = 20_000
_NO_ENCODINGS = ("idna", "punycode", "raw_unicode_escape", "unicode_escape", "undefined")
_SIGNS = ("==", "!=", "<=", ">=", "<", ">")


class Grammar:
    """Reads what stands behind the first lines of a layout. `names` and `referred` are of its fields."""

    def __init__(self, source: Source, tokens: Tokens) -> None:
        self._tokens = tokens
        self._source = source
        self.encoding = "utf-8"
        self._depth = 0
        self.versions = (1, 1)
        self.names: set[str] = set()
        self.referred: dict[str, int] = {}  # tables that fields refer to, and where they are named
        self._types: dict[str, Any] = {}  # kinds that have names
        self._copied = 0  # fields of those, wherever they are used

    def type_follows(self) -> bool:
        """Tell whether `type NAME KIND` comes next, and no field that is called so."""
        after = self._tokens.after_next
        known = after.text in _TYPES or after.text in self._types
        return self._tokens.next.text == "type" and after.kind == "name" and not known

    def type(self) -> None:
        """Read `type NAME KIND`: from there on NAME is that kind, also within itself."""
        tokens = self._tokens
        tokens.take()
        token = tokens.name("the name of the type")
        if "." in token.text:
            tokens.fail("a type's name has no dots", token.at)
        named = self._types[token.text] = Named(token.text)
        kind = self._kind()
        if named.is_used:
            named.kind = kind
        else:
            self._types[token.text] = kind

    def fields(self, closing: str) -> tuple[Field, ...]:
        tokens = self._tokens
        self._depth += 1
        if self._depth > _DEEPEST:
            tokens.fail(f"nested deeper than {_DEEPEST} levels")
        fields: list[Field] = []
        tokens.skip_ends()
        while tokens.next.kind and (tokens.next.text != closing or tokens.next.kind == "text"):
            field = self._field()
            for other in fields:
                if (
                    field.name
                    and other.name == field.name
                    and _overlap(field, other, self.versions)
                ):
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
        self.names.add(token.text)
        modifiers = self._modifiers()
        if "derives" in modifiers and not (isinstance(kind, Integer) and not kind.logical):
            tokens.fail("what follows from other fields is a whole number of fixed width", at)
        if isinstance(kind, (Packed, Runs)) and "default" in modifiers:
            many, number = kind.size.fixed, modifiers["default"]
            if isinstance(kind, Runs) or many is None or not isinstance(number, int):
                tokens.fail("only so many numbers of bits have a default: one number for all", at)
            modifiers["default"] = [number] * many
        if isinstance(kind, Bytes) and isinstance(modifiers.get("default"), str):
            modifiers["default"] = modifiers["default"].encode("latin-1", "replace")
        if isinstance(kind, Bits) and isinstance(modifiers.get("default"), int):
            number = modifiers["default"]
            if not 0 <= number < 1 << kind.number.width * 8:
                tokens.fail(f"the {kind.number.width * 8} bits cannot be {number}", at)
            modifiers["default"] = kind.parted(number)
        return Field(token.text, kind, at, **modifiers)

    def _modifiers(self) -> dict[str, Any]:
        tokens = self._tokens
        out: dict[str, Any] = {}
        while True:
            if tokens.accept("="):
                derived = self._derived()
                out["constant" if derived is None else "derives"] = derived or self._literal()
            elif tokens.next.text in ("since", "until"):
                word = tokens.take().text
                out[word] = number = tokens.number("a version")
                if not self.versions[0] <= number <= self.versions[1]:
                    tokens.fail(f"the layout has versions {self.versions[0]} to {self.versions[1]}")
            elif tokens.accept("default"):
                out["default"] = self._literal()
            elif tokens.accept("in"):
                out["within"] = self._reference()
            elif tokens.next.text == "if" and tokens.after_next.kind == "expression":
                tokens.take()
                out["condition"] = Condition("", expression=self._expression())
            elif tokens.accept("if"):
                path = tokens.name("a field").text
                sign = next((s for s in _SIGNS if tokens.accept(s)), "")
                out["condition"] = Condition(path, sign, self._literal() if sign else None)
            else:
                return out

    def _derived(self) -> Derived | None:
        """Read what a number follows from; None if a plain value comes."""
        tokens = self._tokens
        if tokens.next.kind == "expression":
            return Derived("expression", expression=self._expression())
        what = tokens.next.text
        if what not in ("size", "count") or tokens.after_next.text != "of":
            return None
        tokens.take()
        tokens.take()
        path = tokens.name("a field").text
        if what == "size" and tokens.accept("unpacked"):
            what = "unpacked"
        return Derived(what, path)

    def _expression(self) -> Expression:
        token = self._tokens.take()
        try:
            return Expression.parse(token.text.strip())
        except KindredError as error:
            return self._tokens.fail(error.what, token.at)

    def _reference(self) -> Reference:
        tokens = self._tokens
        token = tokens.name("a table, or a column of one")
        table, _, column = token.text.partition(".")
        self.referred.setdefault(table, token.at)
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
            return Group(self.fields("}"))
        token = tokens.name("a type, or { for a group")
        word = token.text
        number = self._number(word)
        if number is not None:
            return number
        if word in DIGESTS:
            return self._checksum(word)
        if word in self._types:
            found = self._types[word]
            if isinstance(found, Named):
                found.is_used = True
            return self._fresh(found)
        make = getattr(self, f"_{word}_kind", None)
        if make is None:
            known = (*_TYPES, *self._types)
            meant = hint(word, known) or f"; it is one of {', '.join(known)}"
            tokens.fail(f"there is no type {word!r}{meant}", token.at)
        return make()

    def _fresh(self, kind: Any) -> Any:
        """Return a kind that has a name anew: what follows it, and what it tells, differs by the place."""
        if isinstance(kind, Group):
            self._copied += len(kind.fields)
            if self._copied > _MOST_COPIED:
                self._tokens.fail("types in types have too many fields")
            return Group(tuple(replace(each, kind=self._fresh(each.kind)) for each in kind.fields))
        if isinstance(kind, Choice):
            cases = {tag: self._fresh(case) for tag, case in kind.cases.items()}
            otherwise = self._fresh(kind.otherwise) if kind.otherwise is not None else None
            return replace(kind, cases=cases, otherwise=otherwise)
        if isinstance(kind, Sections):
            sections = {
                tag: (name, self._fresh(case), at) for tag, (name, case, at) in kind.cases.items()
            }
            return replace(kind, cases=sections)
        inner = getattr(kind, "inner", None)
        return replace(kind, inner=self._fresh(inner)) if inner is not None else kind

    def _checksum(self, method: str) -> Checksum:
        tokens = self._tokens
        big = self._order()
        tokens.expect("of")
        ranges = []
        while True:
            first = tokens.name("where the range begins").text
            tokens.expect("to")
            ranges.append((first, tokens.name("where the range ends").text))
            if not tokens.accept("and"):
                return Checksum(method, tuple(ranges), big)

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
        if tokens.next.kind == "expression":
            return Size(expression=self._expression())
        if tokens.accept("to"):
            tokens.expect("end")
            return Size(to_end=True)
        if tokens.accept("zero"):
            return Size(terminator=b"\0")
        if tokens.accept("until"):
            return Size(terminator=bytes((tokens.number("the byte that ends it") & 255,)))
        token = tokens.name(what)
        kind = self._number(token.text)
        if isinstance(kind, Float):
            tokens.fail(f"{what} is a whole number, not {token.text}", token.at)
        return Size(path=token.text) if kind is None else Size(prefix=kind)

    def codec(self) -> str:
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
        encoding, pad = self.encoding, 0
        while self._tokens.next.text in ("encoding", "pad"):
            if self._tokens.take().text == "encoding":
                encoding = self.codec()
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
        tokens = self._tokens
        size = self._size("how long the block is")
        methods = []
        while tokens.next.text in (*METHODS, "xor"):
            word = tokens.take().text
            methods.append(XOR + self._key().hex() if word == "xor" else word)
        return Block(size, tuple(methods), self._kind())

    def _key(self) -> bytes:
        """Read what bytes are XOR-ed with: a byte, or the bytes of a text in quotes."""
        tokens = self._tokens
        at = tokens.next.at
        if tokens.next.kind == "text":
            key = unquoted(tokens.take().text)
            if not key or max(map(ord, key)) > 255:
                tokens.fail("a key is one byte or more", at)
            return key.encode("latin-1")
        number = tokens.number("the byte, or the text, that it is XOR-ed with")
        if not 0 <= number <= 255:
            tokens.fail("a byte is 0 to 255; longer keys stand in quotes", at)
        return bytes((number,))

    def _each_kind(self) -> Any:
        tokens = self._tokens
        table = tokens.name("the table that tells where they are").text
        tokens.expect("at")
        places = self._places("the column with the offset")
        return Each(places, self._kind(), table=table)

    def _at_kind(self) -> Any:
        places = self._places("the field with the offset")
        return At(places, self._kind())

    def _places(self, what: str) -> Places:
        """Read what tells where parts lie, from the offset on."""
        tokens = self._tokens
        out: dict[str, Any] = {"offset": tokens.name(what).text}
        while tokens.next.text in ("size", "unpacked", "times", "from", "or", "align"):
            word = tokens.take().text
            at = tokens.next.at
            if word in ("size", "unpacked"):
                out[word] = tokens.name("a column, or a field").text
            elif word == "from":
                out["base"] = tokens.name("start, here, end, or a field").text
            else:
                number = tokens.number("a number")
                if word != "or" and not 0 < number <= 1 << 24:
                    tokens.fail("that is no number of bytes", at)
                out[{"times": "unit", "or": "nothing", "align": "align"}[word]] = number
        if out.get("base", "start") == "start":
            out.setdefault("nothing", 0)
        return Places(**out)

    def _pooled_kind(self) -> Any:
        tokens = self._tokens
        number = self._fixed_width("the integer that tells where a text begins")
        tokens.expect("of")
        pool = tokens.name("the field that the texts lie in").text
        encoding, nothing = self.encoding, None
        while tokens.next.text in ("encoding", "or"):
            if tokens.take().text == "encoding":
                encoding = self.codec()
            else:
                nothing = tokens.number("the number that says that there is none")
        return Pooled(number, pool, encoding, nothing)

    def _uuid_kind(self) -> Any:
        return Uuid(bool(self._order() is False))

    def _fixed_kind(self) -> Any:
        tokens = self._tokens
        number = self._fixed_width("the integer it is kept in")
        tokens.expect("over")
        at = tokens.next.at
        over = rest = tokens.number("how many parts make one")
        for factor in (2, 5):
            while rest > 1 and rest % factor == 0:
                rest //= factor
        if rest != 1 or over > 1 << 64:
            tokens.fail("parts are those of a power of two or ten, so that every value ends", at)
        return Fixed(number, over)

    def _time_kind(self) -> Any:
        tokens = self._tokens
        number = self._fixed_width("the integer it is kept in")
        token = tokens.name(f"one of days, {', '.join(UNITS)}")
        if token.text != "days" and token.text not in UNITS:
            tokens.fail(f"times are counted in days, {', '.join(UNITS)}", token.at)
        epoch = "1970-01-01"
        if tokens.accept("from"):
            at = tokens.next.at
            epoch = str(self._literal())
            try:
                datetime.fromisoformat(epoch)
            except ValueError:
                tokens.fail('a day is written like "1970-01-01"', at)
        return Time(number, UNITS.get(token.text, 0), epoch)

    def _colour_kind(self) -> Any:
        token = self._tokens.name("the order of the channels, such as rgba")
        if sorted(token.text) not in (sorted("rgb"), sorted("rgba")):
            self._tokens.fail("channels are r, g, b and, if there is one, a", token.at)
        return Colour(token.text)

    def _packed_kind(self) -> Any:
        tokens = self._tokens
        size = self._size("how many numbers")
        tokens.expect("of")
        at = tokens.next.at
        bits = tokens.number("how many bits each has")
        if not 1 <= bits <= 63:
            tokens.fail("a number has 1 to 63 bits", at)
        tokens.expect("bits")
        return Packed(size, bits, tokens.accept("high"))

    def _runs_kind(self) -> Any:
        size = self._size("how many runs")
        self._tokens.expect("of")
        length = self._fixed_width("the integer that tells how often")
        return Runs(size, length, self._fixed_width("the integer that is repeated"))

    def _fixed_width(self, what: str) -> Integer:
        at = self._tokens.next.at
        kind = self._integer(what)
        if not isinstance(kind, Integer) or kind.logical:
            self._tokens.fail(f"{what} has a fixed width", at)
        return kind


def _overlap(one: Field, other: Field, versions: tuple[int, int]) -> bool:
    if one.condition is not None or other.condition is not None:
        return False
    low, high = versions
    return max(one.since or low, other.since or low) <= min(one.until or high, other.until or high)


_TYPES = (
    "u8", "u16", "u24", "u32", "u48", "u64", "u128", "i8", "i16", "i32", "i64", "f16", "f32", "f64", "bool",
    "varint", "uuid", "fixed", "time", "colour", "enum", "flags", "bits", "bytes", "text", "pooled", "table",
    "packed", "runs", "optional", "choice", "sections", "block", "each", "at", *DIGESTS,
)  # fmt: skip
