"""What `[helpers.NAME]` of a card says, as values; docs/cards.md explains each key."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from ..errors import KindredError
from ..places import Patterns
from ..versions import Scheme, VersionRange

__all__ = ["EvidenceTable", "HelperTable", "evidence_faults", "helper_faults"]


class EvidenceTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `before` or `after` of a helper: what shows that the program ran with it.

    `file` is a pattern of paths of the install. Either such a file is `newer` than it was, or it has more
    lines with `line` in them than it had, or the value at `key` in each of them is `value`.
    """

    file: str
    newer: bool = False
    line: str = ""
    codec: str = ""
    key: str = ""
    value: str = ""


class HelperTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[helpers.NAME]`: content that must stay for a run before an update, and for one after it.

    It is needed for updates from builds in `from` to builds in `to`, and lies in the folder `at` of the
    install. `run` says what a person does in a run; `why` what is lost without it.
    """

    source: str = msgspec.field(name="from")
    to: str
    at: str
    before: list[EvidenceTable]
    after: list[EvidenceTable]
    why: str = ""
    run: str = ""


def helper_faults(
    helpers: dict[str, HelperTable], builds: Scheme | None
) -> Iterator[tuple[tuple[str | int, ...], str]]:
    """Yield what contradicts itself in the tables of helpers; a key and the fault each."""
    for name, table in helpers.items():
        key: tuple[str | int, ...] = ("helpers", name)
        try:
            for text in (table.source, table.to):
                VersionRange.parse(text, builds)
        except KindredError as error:
            yield key, error.what
        if not table.at.strip("/"):
            yield (*key, "at"), "expected a folder of the install, such as /program/mods/bells"
        for part, rows in (("before", table.before), ("after", table.after)):
            if not rows:
                yield (*key, part), "expected what shows that the program ran"
            yield from evidence_faults((*key, part), rows)


def evidence_faults(
    key: tuple[str | int, ...], rows: list[EvidenceTable]
) -> Iterator[tuple[tuple[str | int, ...], str]]:
    """Yield what contradicts itself in rows of evidence that stand under a key."""
    for at, row in enumerate(rows):
        if (row.newer, bool(row.line), bool(row.key)).count(True) != 1:
            yield (*key, at), "expected one of `newer`, `line` or `key`"
        if row.key and not (row.codec and row.value):
            yield (*key, at), "`key` needs a `codec` and a `value`"
        try:
            Patterns((row.file,)).check()
        except KindredError as error:
            yield (*key, at), error.what
