"""Steps: what changes in a document from one format version to the next.

A step is a small value made from one line of a card. Carrying it out edits the document and tells
the bookkeeper why each leaf it touches changed, came or went; what no step explains does not
balance.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import Any

from msgspec import Struct

from ..errors import PreconditionUnmet, UsageError
from ..formats import ANY, Document, Path, format_path, parse_path, same_value
from .bookkeeper import Bookkeeper

__all__ = ["Action", "compile_action"]

Action = Callable[[Document, Bookkeeper], None]


class Require(Struct, frozen=True):
    """A condition on the data; what to do in the game when it does not hold."""

    path: Path
    otherwise: str
    exists: bool | None = None
    equals: Any = None
    one_of: tuple[Any, ...] = ()
    at_least: Any = None
    at_most: Any = None

    def __call__(self, document: Document, books: Bookkeeper) -> None:
        found = document.find(self.path)
        if (self.exists is False and found) or (self.exists is not False and not found):
            raise self._unmet("is there" if found else "is not there")
        for path in found:
            value = document.get(path)
            if self.equals is not None and not _equal(value, self.equals):
                raise self._unmet(f"is {value}", path)
            if self.one_of and not any(_equal(value, want) for want in self.one_of):
                raise self._unmet(f"is {value}", path)
            if self.at_least is not None and not _number(value) >= _number(self.at_least):
                raise self._unmet(f"is {value}, below {self.at_least}", path)
            if self.at_most is not None and not _number(value) <= _number(self.at_most):
                raise self._unmet(f"is {value}, above {self.at_most}", path)

    def _unmet(self, what: str, path: Path | None = None) -> PreconditionUnmet:
        return PreconditionUnmet(what, where=format_path(path or self.path), remedy=self.otherwise)


class Move(Struct, frozen=True):
    """Give a value another path; `rename` is a move that keeps the container."""

    path: Path
    to: Path

    def __call__(self, document: Document, books: Bookkeeper) -> None:
        for path in document.find(self.path):
            to = _filled(self.to, path)
            books.explain(document, path, f"moved to {format_path(to)}")
            document.move(path, to)


class Set(Struct, frozen=True):
    """Put a value at a path, whatever was there; or, as a default, only where nothing is."""

    path: Path
    value: Any
    only_missing: bool = False

    def __call__(self, document: Document, books: Bookkeeper) -> None:
        found = document.find(self.path)
        if self.only_missing and ANY in self.path:
            found = _missing_below(document, self.path)
        elif not found and ANY not in self.path:
            found = [self.path]
        elif self.only_missing:
            return
        reason = f"{'default' if self.only_missing else 'set to'} {self.value}"
        for path in found:
            for inner in reversed(document.find((*path, ANY))):  # emptied, it is a leaf like others
                books.drop(document, inner, reason, loss=True)
                document.remove(inner)
            books.explain(document, path, reason)
            document.set(path, self.value, note=reason)


class Map(Struct, frozen=True):
    """Replace values by a table of old and new; others stay, or fail if `strict`."""

    path: Path
    table: Mapping[str, Any]
    strict: bool = False

    def __call__(self, document: Document, books: Bookkeeper) -> None:
        for path in document.find(self.path):
            old = _key(document.get(path))
            if old in self.table:
                books.explain(document, path, f"{old} is now {self.table[old]}")
                document.set(path, self.table[old])
            elif self.strict:
                raise PreconditionUnmet(
                    f"is {old}, which the card's table does not have",
                    where=format_path(path),
                    remedy=f"It has: {', '.join(self.table)}.",
                )


class Drop(Struct, frozen=True):
    """Leave a value out, with a reason; a loss unless the card says it is none."""

    path: Path
    reason: str
    lossless: bool = False

    def __call__(self, document: Document, books: Bookkeeper) -> None:
        for path in reversed(document.find(self.path)):
            books.drop(document, path, self.reason, loss=not self.lossless)
            document.remove(path)


def compile_action(row: Mapping[str, Any]) -> Action:
    """Make an action of one `do` row of a card, which the card's reader has checked."""
    if "require" in row:
        return Require(
            parse_path(row["require"]),
            row["otherwise"],
            row.get("exists"),
            row.get("equals"),
            tuple(row.get("one_of", ())),
            row.get("at_least"),
            row.get("at_most"),
        )
    if "rename" in row:
        path = parse_path(row["rename"])
        return Move(path, (*path[:-1], *parse_path(row["to"])))
    if "move" in row:
        return Move(parse_path(row["move"]), parse_path(row["to"]))
    if "set" in row:
        return Set(parse_path(row["set"]), row["value"])
    if "default" in row:
        return Set(parse_path(row["default"]), row["value"], only_missing=True)
    if "map" in row:
        return Map(parse_path(row["map"]), row["table"], row.get("otherwise") == "fail")
    return Drop(parse_path(row["drop"]), row["reason"], row.get("lossless", False))


def _filled(pattern: Path, found: Path) -> Path:
    """Put what the wildcards of a source path matched into its target: crew[*].a -> crew[*].b.

    A target at the same depth keeps the parts it leaves open; `found` is the concrete source.
    """
    return tuple(
        found[at] if part == ANY and at < len(found) else part for at, part in enumerate(pattern)
    )


def _missing_below(document: Document, pattern: Path) -> list[Path]:
    parents = document.find(pattern[:-1])
    return [(*path, pattern[-1]) for path in parents if not document.find((*path, pattern[-1]))]


def _equal(value: Any, wanted: Any) -> bool:
    wanted = Decimal(str(wanted)) if isinstance(wanted, float) else wanted
    return same_value(value, wanted) or (isinstance(value, str) and value == _key(wanted))


def _key(value: Any) -> str:
    """Return a value as the text under which a TOML table has it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value)


def _number(value: Any) -> Decimal:
    try:
        return Decimal(str(value))
    except ArithmeticError as error:
        raise UsageError(f"{value!r} is no number") from error
