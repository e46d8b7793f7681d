"""Census: how much of everything is in a world, by kind and name, and how two censuses differ.

What always holds: a census counts by names, never by numbers, so that two can be compared whatever lists they
were taken under, and however long apart. A file that cannot be read is named, and its contents are in no
count.
"""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Iterable, Mapping
from decimal import Decimal, InvalidOperation
from typing import TYPE_CHECKING, Any

import msgspec
from msgspec import Struct

from ..cards.world_models import CensusTable
from ..errors import FormatError
from ..formats import parse_path
from ..notebook import frame_of, html_table
from ..places import Patterns
from ..progress import Progress
from .file_ids import FileIds
from .opened import DamagedFile, OpenedWorld, read_files
from .translation import unknown_name

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["Census", "CensusDifference", "compare_censuses", "read_census", "take_census"]

_FORMAT = 1
_COLUMNS = ("kind", "name", "amount", "worth")
_NOTHING = "nothing"  # what a number is called that means no content
_ALL = "all"


class Census(Struct, frozen=True, omit_defaults=True):
    """What is in a world: amounts by kind and name. `regions` is how many files were read.

    `worth` is what all of it is worth by the card; `tolerance` how far two censuses may differ, by kind.

    >>> census = kl.take_census(kl.open_world(fen_install, "northbog"))
    >>> census.counts["things"]["reedlight:bell"], census.counts["coins"]["all"]
    (93, 568)
    """

    world: str
    title: str
    build: str
    counts: dict[str, dict[str, int]]
    worth: dict[str, float]
    tolerance: dict[str, str]
    files: int
    damaged: tuple[DamagedFile, ...] = ()
    census: int = _FORMAT

    def to_json(self) -> dict[str, Any]:
        """Return it as plain values, which `read_census` reads."""
        plain: dict[str, Any] = msgspec.to_builtins(self)
        return {**plain, "damaged": plain.get("damaged", []), "census": self.census}

    def rows(self) -> list[tuple[str, str, int, float]]:
        """Return a row for each kind and name: how many, and what one is worth by the card."""
        return [
            (kind, name, many, self.worth.get(name, 0.0))
            for kind, some in self.counts.items()
            for name, many in some.items()
        ]

    def to_csv(self) -> str:
        """Return the rows as CSV (RFC 4180) with a line of heads."""
        out = io.StringIO()
        table = csv.writer(out)
        table.writerow(_COLUMNS)
        table.writerows(self.rows())
        return out.getvalue()

    def to_frame(self) -> DataFrame:
        """Return the counts as a data frame: a row for each kind and name.

        Raises:
            UsageError: pandas is not installed.
        """
        rows = self.rows()
        return frame_of({name: [row[at] for row in rows] for at, name in enumerate(_COLUMNS)})

    def _repr_html_(self) -> str:
        rows = [(k, n, f"{m:,}") for k, some in self.counts.items() for n, m in some.items()]
        return html_table(("kind", "name", "amount"), rows, caption=self.world)


class CensusDifference(Struct, frozen=True):
    """One name of one kind of which two censuses count another amount.

    `allowed` says that the card's tolerance covers it.

    >>> kl.CensusDifference("goods", "bog:eels", 40, 38).change
    -2
    """

    kind: str
    name: str
    before: int
    after: int
    allowed: bool = False

    @property
    def change(self) -> int:
        """How many more there are."""
        return self.after - self.before


def take_census(
    opened: OpenedWorld, *, build: str = "", progress: Progress | None = None
) -> Census:
    """Count everything in a world that its card knows how to count.

    >>> sorted(kl.take_census(kl.open_world(fen_install, "northbog")).counts)
    ['coins', 'depths', 'goods', 'signals', 'things', 'tiles']
    """
    counts: dict[str, Counter[str]] = {}
    damaged: list[DamagedFile] = []
    files = 0
    for _, ids in read_files(opened, progress):
        files += 1
        if isinstance(ids, DamagedFile):
            damaged.append(ids)
            continue
        for (of, kind, number), many in _amounts(opened, ids):
            none = number in opened.kind.table.lists[of].none
            name = opened.lists[of].names.get(number) or (
                _NOTHING if none else unknown_name(number)
            )
            counts.setdefault(kind, Counter())[name] += many
    table = opened.kind.table
    tolerance = dict(table.tolerance)
    for row in table.census:
        tolerance[row.kind] = row.tolerance
        _count_row(opened, row, counts.setdefault(row.kind, Counter()), damaged)
    worth = {
        name: float(value)
        for name, value in table.worth.items()
        if any(name in some for some in counts.values())
    }
    plain = {kind: dict(sorted(some.items())) for kind, some in sorted(counts.items())}
    damaged.sort(key=lambda each: each.path)
    return Census(
        opened.name, opened.card.title, build, plain, worth, tolerance, files, tuple(damaged)
    )


def _amounts(opened: OpenedWorld, ids: FileIds) -> Iterable[tuple[tuple[str, str, int], int]]:
    return (ids.amounts() + ids.names_in_texts(opened.lists)).items()


def _count_row(
    opened: OpenedWorld, row: CensusTable, counts: Counter[str], damaged: list[DamagedFile]
) -> None:
    """Count the values of one row of the card's census."""
    fits = Patterns(tuple(row.files))
    paths = [path for path in opened.world.files(opened.tree) if fits(path)]
    known = {each.path for each in damaged}
    for path, data in opened.contents(paths):
        try:
            document = opened.card.formats[row.format].decode(data)
            values = [document.get(at) for at in document.find(parse_path(row.sum or row.by))]
        except FormatError as error:
            if path not in known:
                damaged.append(DamagedFile(path, error.what))
            continue
        for value in values:
            if row.by:
                counts[str(value)] += 1
            else:
                counts[_ALL] += _whole(value, path, row.sum)


def _whole(value: Any, path: str, key: str) -> int:
    try:
        number = Decimal(str(value))
    except InvalidOperation:
        number = Decimal("NaN")
    if isinstance(value, bool) or number != number.to_integral_value():
        raise FormatError(
            f"{value!r} cannot be added up: it is no whole number", where=f"{path}: {key}"
        )
    return int(number)


def read_census(data: bytes, *, where: str = "") -> Census:
    """Read a census that was written as JSON.

    Raises:
        FormatError: it is none, or of a newer format.

    >>> kept = msgspec.json.encode(census.to_json())
    >>> kl.read_census(kept) == census
    True
    """
    try:
        found = msgspec.json.decode(data, type=Census)
    except msgspec.MsgspecError as error:
        raise FormatError(f"this is no census: {error}", where=where) from error
    if found.census != _FORMAT:
        raise FormatError(
            f"censuses of format {_FORMAT} are read, this is {found.census}",
            where=where,
            remedy="Update this program.",
        )
    return found


def compare_censuses(
    before: Census, after: Census, *, became: Mapping[str, str] = {}
) -> tuple[CensusDifference, ...]:
    """Return what two censuses count differently, by kind and name.

    `became` says what names are called by now, or what stands for them; "" if they were removed.

    >>> kl.compare_censuses(census, census)
    ()
    """
    out = []
    for kind in sorted({*before.counts, *after.counts}):
        old: Counter[str] = Counter()
        for name, many in before.counts.get(kind, {}).items():
            now = became.get(name, name)
            if now:
                old[now] += many
        new = after.counts.get(kind, {})
        rule = after.tolerance.get(kind) or before.tolerance.get(kind) or "0"
        for name in sorted({*old, *new}):
            was, now_many = old[name], new.get(name, 0)
            if was != now_many:
                allowed = abs(now_many - was) <= _allowed(rule, was)
                out.append(CensusDifference(kind, name, was, now_many, allowed))
    return tuple(out)


def _allowed(rule: str, amount: int) -> Decimal:
    if rule.endswith("%"):
        return amount * Decimal(rule[:-1]) / 100
    return Decimal(rule)
