"""Forecast: what a world would lose under another id list, counted and located, before anything happens.

What always holds: every cell whose content the new list does not have is counted, once; the forecast's id
stands for just what it shows, so that consent to it covers nothing else.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np
from blake3 import blake3
from msgspec import Struct, field

from ..cards.worlds import IdList
from ..formats import ANY, parse_path
from ..notebook import frame_of, html_table
from ..places import Patterns
from ..progress import Progress
from .choices import ContentChoices, Fate, fates_of
from .opened import DamagedFile, OpenedWorld
from .reconcile import ContentRow, Reconciled, reconcile
from .survey import EXAMPLES, Found, Look
from .suspects import Suspects
from .translation import unknown_name
from .work import RemapWork, run_files, told_of

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["Forecast", "Vanishing", "forecast"]


class Vanishing(Struct, frozen=True):
    """Content that the new list does not have, and all that a world has of it.

    `cells` is how many ids stand for it, `amount` how much that is: goods by their number, tiles of a palette
    by their use. `by_kind` and `by_file` count amounts, `owners` whose they are. `nearest` is the distance in
    tiles to the nearest thing of the player's own, `nearest_at` where; None where nothing tells it. `where`
    has the first places. `worth` is what the card says one is worth, times the amount.

    >>> crane = kl.forecast(kl.open_world(fen_install), new_lists).vanishing[-2]
    >>> crane.name, crane.amount, crane.worth
    ('oldquay:crane', 82, 7380)
    """

    list: str
    name: str
    number: int
    fate: Fate
    perhaps: tuple[str, ...]
    now_means: str
    cells: int
    amount: int
    by_kind: Mapping[str, int]
    by_file: Mapping[str, int]
    owners: Mapping[str, int]
    nearest: int | None
    nearest_at: tuple[int, int] | None
    where: tuple[str, ...]
    worth: float


class Forecast(Struct, frozen=True, dict=True, eq=False):
    """What a new list does to a world; nothing was changed.

    `not_found` are fields of the card that are in no file that should have them: either all lack them, or the
    card is wrong, and ids stay what they are. For those in `no_files` the world has no file.

    >>> told = kl.forecast(kl.open_world(fen_install, "northbog"), new_lists)
    >>> [(each.name, each.amount) for each in told.vanishing][:2]
    [('bog:still_water', 8331), ('oldquay:plank', 2918)]
    """

    world: str
    lists: Mapping[str, Reconciled]
    vanishing: tuple[Vanishing, ...]
    damaged: tuple[DamagedFile, ...]
    not_found: tuple[str, ...]
    no_files: tuple[str, ...]
    files: int
    id: str

    @property
    def undecided(self) -> tuple[Vanishing, ...]:
        """The content of which nobody said what shall become of it."""
        return tuple(each for each in self.vanishing if not each.fate.how)

    @property
    def reused(self) -> tuple[tuple[str, ContentRow], ...]:
        """Names whose number means something else now, each with its list."""
        return tuple(
            (name, row)
            for name, found in self.lists.items()
            for row in found.by_name.values()
            if row.is_reused
        )

    @property
    def cells(self) -> int:
        """How many ids vanish."""
        return sum(each.cells for each in self.vanishing)

    def to_json(self) -> dict[str, Any]:
        """Return it as plain values."""
        return {
            "world": self.world,
            "id": self.id,
            "files": self.files,
            "lists": {name: found.totals for name, found in self.lists.items()},
            "vanishing": [_plain(each) for each in self.vanishing],
            "reused": [
                {"list": name, "name": row.name, "number": row.old, "now": row.now_at_old}
                for name, row in self.reused
            ],
            "damaged": [{"path": each.path, "why": each.why} for each in self.damaged],
            "not_found": list(self.not_found),
            "no_files": list(self.no_files),
        }

    def to_frame(self) -> DataFrame:
        """Return what vanishes as a data frame: a row each.

        Raises:
            UsageError: pandas is not installed.
        """
        names = ("name", "number", "cells", "amount", "nearest", "worth", "now_means")
        columns: dict[str, list[Any]] = {
            key: [getattr(each, key) for each in self.vanishing] for key in names
        }
        columns["fate"] = [each.fate.how or "undecided" for each in self.vanishing]
        return frame_of(columns)

    def _repr_html_(self) -> str:
        rows = [(v.name, f"{v.amount:,}", v.fate.told, v.now_means) for v in self.vanishing]
        return html_table(
            ("content", "how many", "becomes", "number means now"), rows, caption=self.world
        )


def _plain(each: Vanishing) -> dict[str, Any]:
    plain: dict[str, Any] = msgspec.to_builtins(each)
    fate = plain.pop("fate")
    return {**plain, "fate": fate["how"], "to": fate["to"], "decided_by": fate["who"]}


def reconciled(
    opened: OpenedWorld, new: Mapping[str, IdList], choices: ContentChoices
) -> dict[str, Reconciled]:
    """Return the lists of a world beside those of a build, by name.

    Raises:
        IdListError: two lists have no name in common, or a number is too wide for the world.
        UsageError: a choice is of content that does not vanish.
    """
    out = {}
    for name, old in opened.lists.items():
        table = opened.kind.table.lists[name]
        new[name].check_width(table.bits)
        renames = {o: n for o, n in choices.renames.items() if o in old.numbers}
        out[name] = reconcile(old, new[name], aliases=table.aliases, renames=renames)
    for each in choices.renames:
        if not any(each in old.numbers for old in opened.lists.values()):
            known = next(iter(opened.lists.values()))
            reconcile(known, known, renames={each: each})  # says what it may mean
    return out


def forecast(
    opened: OpenedWorld,
    new: Mapping[str, IdList],
    *,
    choices: ContentChoices | None = None,
    work: RemapWork | None = None,
    progress: Progress | None = None,
) -> Forecast:
    """Say what becomes of a world under other id lists, and change nothing.

    `new` has the lists of the build it shall be played in, by name.

    Raises:
        IdListError: two lists have no name in common, or a number is too wide for the world.
        UsageError: a choice is of content that does not vanish.

    >>> kl.forecast(kl.open_world(fen_install), new_lists).cells
    10421
    """
    chosen = choices or ContentChoices()
    found = reconciled(opened, new, chosen)
    survey = _Survey(opened, found, reconciled(opened, new, ContentChoices()))
    survey.run(work or RemapWork(), progress or Progress())
    return survey.told(chosen)


class _Sum(Struct):
    """What all files have of one content; `where` and `shown` by file."""

    cells: int = 0
    amount: int = 0
    by_kind: Counter[str] = field(default_factory=Counter)
    by_file: Counter[str] = field(default_factory=Counter)
    owners: Counter[str] = field(default_factory=Counter)
    nearest: tuple[float, tuple[int, int]] | None = None
    where: list[tuple[str, list[str]]] = []
    shown: dict[str, bytes] = {}

    def add(self, path: str, one: Found) -> None:
        """Add what a file has; the same sum comes out, whatever the order."""
        self.cells += one.cells
        self.amount += one.amount
        self.by_kind.update(one.by_kind)
        self.by_file[path] += one.amount
        self.owners.update(one.owners)
        if one.nearest is not None:
            self.nearest = min(self.nearest or one.nearest, one.nearest)
        self.where = sorted([*self.where, (path, one.where)])[:EXAMPLES]
        self.shown[path] = one.shown

    def places(self) -> tuple[str, ...]:
        """Return the first places, by the names of the files."""
        named = [f"{path}: {field}" for path, fields in self.where for field in fields]
        return tuple(named[:EXAMPLES])


class _Survey:
    """What vanishes, added up over all files."""

    def __init__(
        self,
        opened: OpenedWorld,
        found: Mapping[str, Reconciled],
        unnamed: Mapping[str, Reconciled],
    ) -> None:
        """Begin; `unnamed` are the lists without what a person says of new names.

        By those it is counted, so that what was shown has one id, whatever is chosen then.
        """
        self.opened, self.lists = opened, found
        self.found: dict[tuple[str, int], _Sum] = {}
        self.damaged: list[DamagedFile] = []
        self.files = 0
        self.fields: dict[int, bool] = {}  # of the card: whether any file has a place for their ids
        self.look = Look(
            *told_of(opened),
            {n: Suspects.of(r, opened.kind.table.lists[n].none) for n, r in unnamed.items()},
            {name: dict(ids.numbers) for name, ids in opened.lists.items()},
            np.array(sorted(_own_points(opened)), np.int64).reshape(-1, 2),
        )

    def run(self, work: RemapWork, progress: Progress) -> None:
        """Look at all files."""
        opened = self.opened
        for one in run_files(opened, self.look, opened.with_ids(), work=work, progress=progress):
            if one is None:
                continue
            self.files += 1
            if one.damaged:
                self.damaged.append(DamagedFile(one.path, one.damaged))
            for n, has in one.fields.items():
                self.fields[n] = self.fields.get(n, False) or has
            for key, found in one.found.items():
                self.found.setdefault(key, _Sum()).add(one.path, found)
        self.damaged.sort(key=lambda each: each.path)

    def told(self, choices: ContentChoices) -> Forecast:
        """Return the forecast."""
        rows: list[Vanishing] = []
        known: set[str] = set()
        gone: list[str] = []
        fates: dict[str, dict[str, Fate]] = {}
        for name, rec in self.lists.items():
            unknown = [
                unknown_name(number)
                for of, number in sorted(self.found)
                if of == name and number not in rec.old.names
            ]
            fates[name] = fates_of(
                rec, self.opened.kind.table.lists[name], choices, unknown=unknown
            )
            known |= {*rec.old.numbers}
            gone += [*fates[name]]
        choices.check(known, gone)
        worth = self.opened.kind.table.worth
        for (name, number), each in self.found.items():
            rec = self.lists[name]
            content = rec.old.names.get(number) or unknown_name(number)
            row = rec.by_name.get(content)
            if row is not None and row.new is not None:
                continue  # it only has another name now
            near, near_at = each.nearest or (None, None)
            rows.append(
                Vanishing(
                    name, content, number, fates[name][content],
                    row.parts or row.perhaps if row is not None else (),
                    rec.new.names.get(number, ""),
                    each.cells, each.amount, dict(each.by_kind), dict(each.by_file), dict(each.owners),
                    None if near is None else int(near), near_at, each.places(),
                    worth.get(content, 0.0) * each.amount,
                )
            )  # fmt: skip
        rows.sort(key=lambda row: (row.list, -row.amount, row.name))
        return Forecast(
            self.opened.name,
            self.lists,
            tuple(rows),
            tuple(self.damaged),
            self._not_found(),
            self._no_files(),
            self.files,
            self._id(),
        )

    def _not_found(self) -> tuple[str, ...]:
        """Return the fields of the card for whose ids no file of theirs has a place."""
        tables = [field.table for field in self.opened.kind.fields]
        return tuple(
            f"{tables[n].kind}: no file has {tables[n].at}"
            for n, has in sorted(self.fields.items())
            if not has
        )

    def _no_files(self) -> tuple[str, ...]:
        """Return the fields of the card that no file of the world is for."""
        return tuple(
            f"{field.table.kind}: no file is called {' or '.join(field.table.files)}"
            for n, field in enumerate(self.opened.kind.fields)
            if n not in self.fields
        )

    def _id(self) -> str:
        """Return what stands for just what is shown: twelve letters."""
        shown = blake3(self.opened.name.encode())
        for name, rec in sorted(self.lists.items()):
            shown.update(msgspec.json.encode([name, sorted(rec.old.numbers.items())]))
            shown.update(msgspec.json.encode(sorted(rec.new.numbers.items())))
        for (name, number), each in sorted(self.found.items()):
            far = None if each.nearest is None else round(each.nearest[0])
            told = [name, number, each.cells, each.amount, far, sorted(each.by_file.items())]
            shown.update(msgspec.json.encode(told))
            for path, digest in sorted(each.shown.items()):
                shown.update(path.encode() + digest)
        shown.update(msgspec.json.encode([(each.path, each.why) for each in self.damaged]))
        shown.update(msgspec.json.encode(self._not_found()))
        return shown.hexdigest()[:12]


def _own_points(opened: OpenedWorld) -> set[tuple[int, int]]:
    """Return where the player's own things are, in tiles."""
    out: set[tuple[int, int]] = set()
    for own in opened.kind.table.own:
        fits = Patterns(tuple(own.files))
        paths = [path for path in opened.world.files(opened.tree) if fits(path)]
        for _, data in opened.contents(paths):
            out |= set(_points_in(opened, own, data))
    return out


def _points_in(opened: OpenedWorld, own: Any, data: bytes) -> Iterator[tuple[int, int]]:
    from ..errors import FormatError

    try:
        document = opened.card.formats[own.format].decode(data)
    except FormatError:
        return  # it is told as damaged if ids stand in it
    x_at, z_at = parse_path(own.x), parse_path(own.z)
    owner_at = parse_path(own.owner) if own.owner else ()
    for path in document.find(x_at):
        z_path = tuple(path[n] if part == ANY else part for n, part in enumerate(z_at))
        owner = tuple(path[n] if part == ANY else part for n, part in enumerate(owner_at))
        if owner and not document.get(owner):
            continue
        if document.find(z_path):
            yield int(document.get(path)), int(document.get(z_path))
