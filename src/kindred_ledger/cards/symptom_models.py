"""What `[[symptoms]]` of a card says, as values; docs/cards.md explains each key."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec

from ..errors import KindredError
from ..versions import Scheme, VersionRange

__all__ = ["SymptomTable", "symptom_faults"]


class SymptomTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `[[symptoms]]`: what a person sees in some builds, and what helps, the cheapest first.

    A remedy is an operation, as a step of a runbook has it; or `say`, words for the person.
    """

    name: str
    remedies: list[dict[str, Any]]
    builds: str = "*"
    why: str = ""


def symptom_faults(
    symptoms: list[SymptomTable], builds: Scheme | None
) -> Iterator[tuple[tuple[str | int, ...], str]]:
    """Yield what contradicts itself in symptoms; a key and the fault each."""
    names: set[str] = set()
    for at, table in enumerate(symptoms):
        key: tuple[str | int, ...] = ("symptoms", at)
        if table.name in names:
            yield (*key, "name"), f"there is another symptom {table.name!r}"
        names.add(table.name)
        try:
            VersionRange.parse(table.builds, builds)
        except KindredError as error:
            yield (*key, "builds"), error.what
        if not table.remedies:
            yield (*key, "remedies"), "expected at least one remedy"
        for number, row in enumerate(table.remedies):
            if ("do" in row) == ("say" in row):
                yield (*key, "remedies", number), "expected one of `do` and `say`"
