"""Resolutions: decisions that last: each conflict with the three sides it had, and what was taken.

They are found again by where they are and by the three sides; if one of those changed, the conflict is asked
again. The file is TOML:

    [[resolutions]]
    file = "data/rules.json"
    field = "tides.spring"
    base = "2.40"
    mine = "9"
    theirs = "2.5"
    take = "mine"

`field` is empty for a file as a whole, whose sides are digests; an empty `take` is not decided yet.
"""

from __future__ import annotations

import json
import tomllib
from collections.abc import Iterable

import msgspec
from msgspec import Struct

from ..errors import UsageError
from ..finding import Finding, Sides
from .policy import Choice, Rule

__all__ = ["Resolution", "read_resolutions", "rules_of", "with_conflicts", "write_resolutions"]

_TAKEN = ("mine", "theirs", "")


class Resolution(Struct, frozen=True, forbid_unknown_fields=True):
    """One conflict, its sides as text, and what was taken: `mine`, `theirs`, or nothing yet.

    `before` says what was taken when the sides were others.
    """

    file: str
    field: str
    base: str
    mine: str
    theirs: str
    take: str = ""
    before: str = ""

    @property
    def sides(self) -> Sides:
        """What each side had."""
        return Sides(self.base, self.mine, self.theirs)


def read_resolutions(text: str, *, where: str = "") -> tuple[Resolution, ...]:
    """Read what was decided.

    Raises:
        UsageError: it is no such file, or takes what cannot be taken.
    """
    try:
        rows = tomllib.loads(text).get("resolutions", [])
        found = msgspec.convert(rows, tuple[Resolution, ...])
    except (tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
        raise UsageError(
            f"this is no file of resolutions: {error}",
            where=where,
            remedy="Have it written anew: give the name of a file that is not there yet.",
        ) from error
    for each in found:
        if each.take not in _TAKEN:
            raise UsageError(
                f"{each.take!r} cannot be taken",
                where=": ".join(filter(None, (where, each.file, each.field))),
                remedy="Take mine or theirs, or leave it empty.",
            )
    return found


def write_resolutions(resolutions: Iterable[Resolution]) -> str:
    """Return the text of a file of resolutions."""
    tables = []
    for each in resolutions:
        lines = (f"{key} = {_quoted(value)}" for key, value in msgspec.to_builtins(each).items())
        tables.append("\n".join(("[[resolutions]]", *lines)))
    head = "# Write mine or theirs behind each take, then run the command again."
    return "\n\n".join((head, *tables)) + "\n"


def rules_of(resolutions: Iterable[Resolution]) -> tuple[Rule, ...]:
    """Return the rules that decisions amount to; each counts only while the sides are what they were."""
    return tuple(
        Rule(
            Choice(each.take),
            each.file.__eq__,
            (each.field,) if each.field else (),
            said="you decided so before",
            when=each.sides,
        )
        for each in resolutions
        if each.take
    )


def with_conflicts(
    resolutions: Iterable[Resolution], conflicts: Iterable[Finding]
) -> tuple[Resolution, ...]:
    """Return resolutions with the conflicts that are still open; one whose sides changed is open again."""
    known = {(each.file, each.field): each for each in resolutions}
    for each in conflicts:
        if each.sides is not None:
            at, sides = (each.where, each.field), each.sides
            old = known.get(at)
            if old is None or old.sides != sides:
                before = f"{old.take}, of {old.base} | {old.mine} | {old.theirs}" if old else ""
                before = before if old is not None and old.take else ""
                known[at] = Resolution(*at, sides.base, sides.mine, sides.theirs, before=before)
    return tuple(known.values())


def _quoted(text: str) -> str:
    """Return text as a TOML string: what JSON escapes, TOML reads alike, but for lone surrogates."""
    return json.dumps(text.encode("utf-8", "replace").decode(), ensure_ascii=False)
