"""Steps: what changes in a document from one format version to the next.

A step is a small value made from one line of a card. Carrying it out edits the fields it names and
tells the bookkeeper why each leaf changed, came or went; what no step explains does not balance.
A step may be carried out one by one or by columns: `Fields` knows, the step does not.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from decimal import Decimal
from typing import Any

from msgspec import Struct

from ..errors import FormatError, KindredError, PreconditionUnmet, UsageError
from ..extensions import HOOKS, load
from ..formats import ANY, Path, format_path, parse_path, same_value
from ..formats.expressions import Expression
from .fields import Fields, as_key, exact

_MOST_STARS, _MOST_SPANS = 5, 3
# Of what stands between two stars the first place will do; looking at others takes time without end.
_FIXED_BETWEEN = re.compile(r"\[\^/\]\*((?:\\.|[^\\\[\](){}*+?|^$.])+)(?=\[\^/\]\*)")

__all__ = ["Step", "Tables", "compile_step"]

Step = Callable[[Fields], None]
Tables = Mapping[str, Mapping[str, Any]]


class Require(Struct, frozen=True):
    """A condition on the data; what to do in the game when it does not hold."""

    path: Path
    otherwise: str
    exists: bool | None = None
    holds: Expression | None = None
    equals: Any = None
    one_of: tuple[Any, ...] = ()
    at_least: Decimal | None = None
    at_most: Decimal | None = None

    def __call__(self, fields: Fields) -> None:
        if self.holds is not None:
            fields.require(self.path, self.holds, self.otherwise)
            return
        found = fields.is_there(self.path)
        if found == (self.exists is False):
            told = "is there" if found else "is not there"
            raise PreconditionUnmet(told, where=format_path(self.path), remedy=self.otherwise)
        fields.check(self.path, self._told, self.otherwise)

    def _told(self, value: Any) -> str:
        """Return what is wrong with a value, "" if nothing is."""
        if self.equals is not None and not _equal(value, self.equals):
            return f"is {value}"
        if self.one_of and not any(_equal(value, want) for want in self.one_of):
            return f"is {value}"
        if self.at_least is None and self.at_most is None:
            return ""
        number = _number(value)
        if number is None:
            return f"is {_shown(value)}, which is no number"
        if self.at_least is not None and number < self.at_least:
            return f"is {value}, below {self.at_least}"
        if self.at_most is not None and number > self.at_most:
            return f"is {value}, above {self.at_most}"
        return ""


class Move(Struct, frozen=True):
    """Give a value another path; `rename` is a move that keeps the container."""

    path: Path
    to: Path

    def __call__(self, fields: Fields) -> None:
        fields.move(self.path, self.to)


class Set(Struct, frozen=True):
    """Put a value at a path, whatever was there; or, as a default, only where nothing is."""

    path: Path
    value: Any  # a single one, or an Expression
    only_missing: bool = False
    where: Expression | None = None
    loss: str = ""

    def __call__(self, fields: Fields) -> None:
        shown = self.value.text if isinstance(self.value, Expression) else self.value
        if self.only_missing:
            fields.fill(self.path, self.value, f"default {shown}")
            return
        if ANY not in self.path and not fields.is_there(self.path) and self.where is None:
            fields.fill(self.path, self.value, f"set to {shown}")
            return
        fields.change(self.path, self.value, f"set to {shown}", where=self.where, loss=self.loss)


class Map(Struct, frozen=True):
    """Replace values by a table of old and new; others stay, or fail if `strict`."""

    path: Path
    table: Mapping[str, Any]
    strict: bool = False
    loss: str = ""

    def __call__(self, fields: Fields) -> None:
        fields.translate(self.path, self.table, strict=self.strict, loss=self.loss)


class Retype(Struct, frozen=True):
    """Make whole numbers, numbers, texts, or true and false of values.

    What cannot become it fails, and so does a number that would lose what is behind its point, unless
    the card says what is lost.
    """

    path: Path
    kind: str
    loss: str = ""

    def __call__(self, fields: Fields) -> None:
        fields.check(self.path, self._told, "Put it right first, or `map` it.")
        value = Expression.parse(_RETYPED[self.kind])
        fields.change(self.path, value, f"is {self.kind} now", loss=self.loss)

    def _told(self, value: Any) -> str:
        """Return why a value cannot become of the kind, "" if it can."""
        if isinstance(value, (dict, list)):
            return f"is a {'mapping' if isinstance(value, dict) else 'list'}, which cannot be {self.kind}"
        if self.kind == "truth" and _as_word(value) not in (*_TRUE, *_FALSE):
            return f"is {_shown(value)}, which is neither true nor false"
        if self.kind == "integer" and not self.loss:
            try:
                number = Decimal(_as_word(value))
                fraction = number != number.to_integral_value()
            except ArithmeticError:
                return ""  # the expression says what is wrong
            return (
                f"is {_shown(value)}, and would lose what is behind its point" if fraction else ""
            )
        return ""


class Rescale(Struct, frozen=True):
    """Give numbers another scale: `value * times + plus`, rounded to so many digits if told."""

    path: Path
    times: Decimal
    plus: Decimal
    digits: int | None = None
    loss: str = ""

    def __call__(self, fields: Fields) -> None:
        sum_ = f"number(value) * {self.times} + {self.plus}"
        text = sum_ if self.digits is None else f"round({sum_}, {self.digits})"
        reason = f"times {self.times}" + (f", plus {self.plus}" if self.plus else "")
        fields.change(self.path, Expression.parse(text), reason, loss=self.loss)


class Split(Struct, frozen=True):
    """Make several values of one; the one goes. `sign`: it must have just so many parts."""

    path: Path
    into: tuple[tuple[str, Expression], ...]
    sign: str | None = None

    def __call__(self, fields: Fields) -> None:
        told = " and ".join(name for name, _ in self.into)
        targets = [((*self.path[:-1], *parse_path(name)), value) for name, value in self.into]
        if self.sign is not None:
            fields.check(self.path, self._told, "Split it by hand, or with `into = { … }`.")
        if fields.is_there(self.path):
            _refuse_taken(fields, [path for path, _ in targets if path != self.path])
        last: Expression | None = None
        for path, expression in targets:
            if path == self.path:
                last = expression
                continue
            fields.fill(path, expression, f"from {format_path(self.path)}", source=self.path)
        if last is not None:
            fields.change(self.path, last, f"split into {told}")
        else:
            fields.drop(self.path, f"split into {told}", loss=False)

    def _told(self, value: Any) -> str:
        """Return what is wrong with a value that has more parts than there are names, or fewer."""
        parts = value.count(self.sign) + 1 if isinstance(value, str) and self.sign else 0
        if not parts:
            return f"is {_shown(value)}, no text to split"
        named = len(self.into)
        return f"has {parts} parts, and there are {named} names" if parts != named else ""


class Join(Struct, frozen=True):
    """Make one value of several; those go."""

    paths: tuple[Path, ...]
    into: Path
    value: Expression

    def __call__(self, fields: Fields) -> None:
        told = " and ".join(format_path(path) for path in self.paths)
        if self.into in self.paths:
            fields.change(self.into, self.value, f"joined from {told}")
        else:
            if any(map(fields.is_there, self.paths)):
                _refuse_taken(fields, [self.into])
            for path in self.paths:  # where one of them is, the others must be, too
                fields.fill(self.into, self.value, f"from {told}", source=path)
        for path in self.paths:
            if path != self.into:
                fields.drop(path, f"joined into {format_path(self.into)}", loss=False)


def _refuse_taken(fields: Fields, paths: Iterable[Path]) -> None:
    """Raise if something is there already: what was to come would not, and what it is made of goes."""
    for path in paths:
        if fields.is_there(path):
            raise FormatError(
                "something is there already",
                where=format_path(path),
                remedy="Drop or move that first, by a step before this one.",
            )


class Reorder(Struct, frozen=True):
    """Put the rows of a list, or the members of a mapping, into another order."""

    path: Path
    by: Expression | None = None
    keys: tuple[str, ...] = ()
    descending: bool = False

    def __call__(self, fields: Fields) -> None:
        if self.by is not None:
            fields.sort_rows(self.path, self.by, descending=self.descending)
        else:
            fields.sort_keys(self.path, self.keys)


class Renumber(Struct, frozen=True):
    """Replace numbers that stand for names by the numbers of the same names in another list."""

    path: Path
    before: Mapping[str, Any]
    after: Mapping[str, Any]
    otherwise: Any = None  # for names the new list has not; None: it fails

    def __call__(self, fields: Fields) -> None:
        table: dict[str, Any] = {}
        for number, name in self.before.items():
            new = next((n for n, other in self.after.items() if other == name), self.otherwise)
            if new is not None:
                table[number] = (
                    int(new) if isinstance(new, str) and new.lstrip("-").isdigit() else new
                )
        fields.translate(self.path, table, strict=True)


class Drop(Struct, frozen=True):
    """Leave a value out, with a reason; a loss unless the card says it is none."""

    path: Path
    reason: str
    lossless: bool = False
    where: Expression | None = None

    def __call__(self, fields: Fields) -> None:
        fields.drop(self.path, self.reason, loss=not self.lossless, where=self.where)


class MoveFiles(Struct, frozen=True):
    """Give members of a pack other paths, by a pattern: `*` is within a folder, `**` spans them.

    In the new path `{name}` is the last part of the old one, and `{rest}` what comes after the part
    of the pattern that has no `*`.
    """

    pattern: str
    to: str

    def members(self, fields: Fields) -> list[str]:
        """Return the members it is about."""
        return _members(fields, self.pattern)

    def __call__(self, fields: Fields) -> None:
        head = self.pattern.partition("*")[0].rpartition("/")[0]
        for name in self.members(fields):
            rest = name[len(head) :].lstrip("/") if head else name
            to = self.to.replace("{name}", name.rpartition("/")[2]).replace("{rest}", rest)
            if to != name:
                fields.move((name,), (to,))


class DropFiles(Struct, frozen=True):
    """Leave members of a pack out, by a pattern; with `lossless` because the game makes them anew."""

    pattern: str
    reason: str
    lossless: bool = False

    def members(self, fields: Fields) -> list[str]:
        """Return the members it is about."""
        return _members(fields, self.pattern)

    def __call__(self, fields: Fields) -> None:
        for name in self.members(fields):
            fields.drop((name,), self.reason, loss=not self.lossless)


class Hook(Struct, frozen=True):
    """Let a function of an installed package act on the fields; the books hold it like any step."""

    name: str
    call: Callable[[Fields], None]

    def __call__(self, fields: Fields) -> None:
        try:
            self.call(fields)
        except KindredError:
            raise
        except Exception as error:  # whatever the package's own mistakes raise
            raise FormatError(
                f"the hook {self.name!r} failed: {type(error).__name__}: {error}",
                remedy="Report it to those who made the package.",
            ) from error


def _members(fields: Fields, pattern: str) -> list[str]:
    """Return the members of a pack whose paths fit a pattern."""
    parts = re.split(r"(\*\*/|\*\*|\*)", pattern.strip("/"))
    if len(parts) // 2 > _MOST_STARS:  # each more makes a search longer by the length of a path
        raise UsageError(f"a pattern has at most {_MOST_STARS} stars", where=pattern)
    if pattern.count("**") > _MOST_SPANS:
        raise UsageError(f"a pattern has at most {_MOST_SPANS} **", where=pattern)
    signs = {"**/": "(?:[^/]+/)*", "**": ".*", "*": "[^/]*"}
    text = "".join(signs.get(part) or re.escape(part) for part in parts)
    wanted = re.compile(_FIXED_BETWEEN.sub(r"(?>[^/]*?\1)", text))
    names = [str(path[0]) for path in fields.document.find((ANY,))]
    return [name for name in names if wanted.fullmatch(name)]


def compile_step(row: Mapping[str, Any], tables: Tables) -> Step:
    """Make a step of one `do` row of a card.

    Raises:
        UsageError: the row says what no step can be.
    """
    verb = next(name for name in row if name in _VERBS)
    return _VERBS[verb](row, tables)


def _require(row: Mapping[str, Any], tables: Tables) -> Step:
    holds = Expression.parse(row["holds"], tables) if "holds" in row else None
    return Require(
        parse_path(row["require"]), row["otherwise"], row.get("exists"), holds, row.get("equals"),
        tuple(row.get("one_of", ())),
        *(_needed(row, name) if name in row else None for name in ("at_least", "at_most")),
    )  # fmt: skip


def _rename(row: Mapping[str, Any], tables: Tables) -> Step:
    path = parse_path(row["rename"])
    return Move(path, (*path[:-1], *parse_path(row["to"])))


def _move(row: Mapping[str, Any], tables: Tables) -> Step:
    return Move(parse_path(row["move"]), parse_path(row["to"]))


def _set(row: Mapping[str, Any], tables: Tables) -> Step:
    value = _value(row, tables)
    return Set(parse_path(row["set"]), value, where=_where(row, tables), loss=row.get("loses", ""))


def _default(row: Mapping[str, Any], tables: Tables) -> Step:
    return Set(parse_path(row["default"]), _value(row, tables), only_missing=True)


def _map(row: Mapping[str, Any], tables: Tables) -> Step:
    strict = row.get("otherwise") == "fail"
    return Map(parse_path(row["map"]), _table(row["table"], tables), strict, row.get("loses", ""))


def _retype(row: Mapping[str, Any], tables: Tables) -> Step:
    if row["as"] not in _RETYPED:
        raise UsageError(
            f"there is no kind {row['as']!r}", remedy=f"Use one of {', '.join(_RETYPED)}."
        )
    return Retype(parse_path(row["retype"]), row["as"], row.get("loses", ""))


def _rescale(row: Mapping[str, Any], tables: Tables) -> Step:
    digits = row.get("round")
    if digits is not None and not (isinstance(digits, int) and 0 <= digits <= 15):
        raise UsageError("`round` is how many digits stay behind the point: 0 to 15")
    times, plus = (_needed({"times": 1, "plus": 0, **row}, name) for name in ("times", "plus"))
    return Rescale(parse_path(row["rescale"]), times, plus, digits, row.get("loses", ""))


def _split(row: Mapping[str, Any], tables: Tables) -> Step:
    into, sign = row["into"], None
    if isinstance(into, list):
        sign = row.get("at", " ")
        into = {name: f"part(value, {_quoted(sign)}, {n})" for n, name in enumerate(into)}
    pairs = tuple((name, Expression.parse(text, tables)) for name, text in into.items())
    return Split(parse_path(row["split"]), pairs, sign)


def _join(row: Mapping[str, Any], tables: Tables) -> Step:
    paths = tuple(parse_path(text) for text in row["join"])
    if not paths:
        raise UsageError("join needs the paths of what it joins")
    text = row.get("by")
    if text is None:
        if len({path[:-1] for path in paths}) > 1:
            raise UsageError("what is joined lies in several records, so `by` must say how")
        names = ", ".join(f"this[{_quoted(str(path[-1]))}]" for path in paths)
        text = f"join([{names}], {_quoted(row.get('with', ' '))})"
    return Join(paths, parse_path(row["into"]), Expression.parse(text, tables))


def _reorder(row: Mapping[str, Any], tables: Tables) -> Step:
    if ("by" in row) == ("keys" in row):
        raise UsageError("reorder needs `by`, to sort rows, or `keys`, to order members")
    by = Expression.parse(row["by"], tables) if "by" in row else None
    return Reorder(
        parse_path(row["reorder"]), by, tuple(row.get("keys", ())), row.get("descending", False)
    )


def _renumber(row: Mapping[str, Any], tables: Tables) -> Step:
    before, after = _table(row["old"], tables), _table(row["new"], tables)
    return Renumber(parse_path(row["renumber"]), before, after, row.get("otherwise"))


def _drop(row: Mapping[str, Any], tables: Tables) -> Step:
    lossless, where = row.get("lossless", False), _where(row, tables)
    return Drop(parse_path(row["drop"]), row["reason"], lossless, where)


def _hook(row: Mapping[str, Any], tables: Tables) -> Step:
    return Hook(row["hook"], load(HOOKS, row["hook"]))


_VERBS: dict[str, Callable[[Mapping[str, Any], Tables], Step]] = {
    "require": _require,
    "rename": _rename,
    "move": _move,
    "set": _set,
    "default": _default,
    "map": _map,
    "retype": _retype,
    "rescale": _rescale,
    "split": _split,
    "join": _join,
    "reorder": _reorder,
    "renumber": _renumber,
    "drop": _drop,
    "hook": _hook,
    "move_files": lambda row, tables: MoveFiles(row["move_files"], row["to"]),
    "drop_files": lambda row, tables: DropFiles(
        row["drop_files"], row["reason"], row.get("lossless", False)
    ),
}
_RETYPED = {
    "integer": "round(number(value))",
    "number": "number(value)",
    "text": "text(value)",
    "truth": 'lower(strip(text(value))) in ("true", "1", "yes", "on")',
}
_TRUE, _FALSE = ("true", "1", "yes", "on"), ("false", "0", "no", "off")


def _value(row: Mapping[str, Any], tables: Tables) -> Any:
    if ("value" in row) == ("by" in row):
        raise UsageError("either `value` or `by`, an expression, is needed")
    if "by" in row:
        return Expression.parse(row["by"], tables)
    return exact(row["value"])


def _where(row: Mapping[str, Any], tables: Tables) -> Expression | None:
    return Expression.parse(row["where"], tables) if "where" in row else None


def _table(given: Any, tables: Tables) -> Mapping[str, Any]:
    """Return a table that stands in the row, or one of the card by its name; a list counts from 0."""
    if isinstance(given, str):
        if given not in tables:
            known = ", ".join(tables) or "none"
            raise UsageError(f"the card has no table {given!r}", remedy=f"It has {known}.")
        return tables[given]
    if isinstance(given, list):
        return {str(number): name for number, name in enumerate(given)}
    if not isinstance(given, dict):
        raise UsageError("a table is a table of old = new, or the name of one of the card")
    return given


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _as_word(value: Any) -> str:
    """Return a value as text in small letters, as `retype` compares it."""
    return as_key(value).strip().lower()


def _shown(value: Any) -> str:
    return repr(value) if isinstance(value, str) else as_key(value)


def _equal(value: Any, wanted: Any) -> bool:
    return same_value(value, exact(wanted)) or (isinstance(value, str) and value == as_key(wanted))


def _number(value: Any) -> Decimal | None:
    """Return a value as a number, None if it is none."""
    try:
        number = Decimal(_as_word(value))
    except ArithmeticError:
        return None
    return number if number.is_finite() else None


def _needed(row: Mapping[str, Any], name: str) -> Decimal:
    number = _number(row[name])
    if number is None:
        raise UsageError(f"`{name}` is {row[name]!r}, which is no number")
    return number
