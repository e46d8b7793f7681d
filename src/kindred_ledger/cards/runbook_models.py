"""What `[[runbooks]]` of a card says, as values; docs/migrating.md explains each key."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec

from ..errors import KindredError
from ..versions import Scheme, VersionRange

__all__ = ["RunbookTable", "runbook_faults"]


class RunbookTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `[[runbooks]]`: the steps that bring installs of builds in `from` to builds in `to`.

    What kinds of steps there are, and what they say, `migrate` knows.
    """

    name: str
    source: str = msgspec.field(name="from")
    to: str
    steps: list[dict[str, Any]]
    note: str = ""


def runbook_faults(
    runbooks: list[RunbookTable], builds: Scheme | None
) -> Iterator[tuple[tuple[str | int, ...], str]]:
    """Yield what contradicts itself in runbooks; a key and the fault each."""
    names: set[str] = set()
    for at, table in enumerate(runbooks):
        key: tuple[str | int, ...] = ("runbooks", at)
        if table.name in names:
            yield (*key, "name"), f"there is another runbook {table.name!r}"
        names.add(table.name)
        for part, text in (("from", table.source), ("to", table.to)):
            try:
                VersionRange.parse(text, builds)
            except KindredError as error:
                yield (*key, part), error.what
        if not table.steps:
            yield (*key, "steps"), "expected at least one step"
