"""Forecast: what a world would lose under another id list, counted and located, before anything happens.

What always holds: every cell whose content the new list does not have is counted, once; the forecast's id
stands for just what it shows, so that consent to it covers nothing else.
"""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np
from blake3 import blake3
from msgspec import Struct

from ..cards.worlds import IdList
from ..formats import ANY, parse_path
from ..notebook import frame_of, html_table
from ..places import Patterns
from ..progress import Progress
from .cells import Cells, Numbers
from .choices import ContentChoices, Fate, fates_of
from .file_ids import FileIds, positions_of, positions_used, weights_of
from .opened import DamagedFile, OpenedWorld, opened_file
from .reconcile import ContentRow, Reconciled, reconcile
from .suspects import Suspects
from .translation import unknown_name

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["Forecast", "Vanishing", "forecast"]

_THREADS = 2  # the passes over arrays are made without the interpreter's lock
_EXAMPLES = 5  # places named of each content
_SHOWN_POINTS = 4096  # own things that are measured from


class Vanishing(Struct, frozen=True):
    """Content that the new list does not have, and all that a world has of it.

    `cells` is how many ids stand for it, `amount` how much that is: goods by their number, tiles of a palette
    by their use. `by_kind` and `by_file` count amounts, `owners` whose they are. `nearest` is the distance in
    tiles to the nearest thing of the player's own, `nearest_at` where; None where nothing tells it. `where`
    has the first places. `worth` is what the card says one is worth, times the amount.
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

    >>> told = kl.forecast(kl.open_world(fen_install, "northbog"), new_lists)
    >>> [(each.name, each.amount) for each in told.vanishing][:2]
    [('bog:still_water', 8331), ('oldquay:plank', 2918)]
    """

    world: str
    lists: Mapping[str, Reconciled]
    vanishing: tuple[Vanishing, ...]
    damaged: tuple[DamagedFile, ...]
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
    progress: Progress | None = None,
) -> Forecast:
    """Say what becomes of a world under other id lists, and change nothing.

    `new` has the lists of the build it shall be played in, by name.

    Raises:
        IdListError: two lists have no name in common, or a number is too wide for the world.
        UsageError: a choice is of content that does not vanish.
    """
    chosen = choices or ContentChoices()
    found = reconciled(opened, new, chosen)
    survey = _Survey(opened, found, reconciled(opened, new, ContentChoices()))
    damaged: list[DamagedFile] = []
    files = 0
    for path, ids, hits in survey.looked_at(progress):
        files += 1
        if isinstance(ids, DamagedFile):
            damaged.append(ids)
        else:
            survey.add(path, ids, hits)
    damaged.sort(key=lambda each: each.path)
    return survey.told(chosen, damaged, files)


# The ids of a file, and for each of its tables the indexes of those that vanish.
_Looked = tuple[FileIds | DamagedFile | None, list[Numbers]]


class _Found:
    """What is found of one content."""

    def __init__(self) -> None:
        self.cells = self.amount = 0
        self.by_kind: Counter[str] = Counter()
        self.by_file: Counter[str] = Counter()
        self.owners: Counter[str] = Counter()
        self.nearest: tuple[float, tuple[int, int]] | None = None
        self.where: list[tuple[str, int, str]] = []
        self.shown: dict[str, bytes] = {}  # by file: a digest of where it stands there

    def note(self, path: str, order: int, name: str) -> None:
        """Take down a place; those of the first files are kept, whatever the order of reading."""
        self.where.append((path, order, name))
        self.where.sort()
        del self.where[_EXAMPLES:]

    def show(self, path: str, told: bytes) -> None:
        """Take into the digest of a file what is shown of it."""
        self.shown[path] = blake3(self.shown.get(path, b"") + told).digest()


class _Survey:
    """The counting of what vanishes, file by file."""

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
        self.found: dict[tuple[str, int], _Found] = {}
        self.suspects = {
            name: Suspects.of(rec, opened.kind.table.lists[name].none)
            for name, rec in unnamed.items()
        }
        self.own = np.array(sorted(_own_points(opened)), np.int64).reshape(-1, 2)

    def looked_at(
        self, progress: Progress | None
    ) -> Iterator[tuple[str, FileIds | DamagedFile, list[Numbers]]]:
        """Yield the files, each with its ids and which of them vanish; read and looked at in threads."""
        opened = self.opened
        waiting: deque[tuple[str, Future[tuple[FileIds | DamagedFile | None, list[Numbers]]]]] = (
            deque()
        )
        with ThreadPoolExecutor(_THREADS) as pool:
            for path, data in opened.contents(opened.with_ids(), progress):
                waiting.append((path, pool.submit(self._look, path, data)))
                if len(waiting) > _THREADS:
                    yield from self._taken(waiting)
            while waiting:
                yield from self._taken(waiting)

    def _look(self, path: str, data: bytes) -> _Looked:
        ids = opened_file(path, data, self.opened.kind, self.opened.card)
        if not isinstance(ids, FileIds):
            return ids, []
        return ids, [self.suspects[each.field.list].cells(each.numbers) for each in ids.cells]

    @staticmethod
    def _taken(
        waiting: deque[tuple[str, Future[_Looked]]],
    ) -> Iterator[tuple[str, FileIds | DamagedFile, list[Numbers]]]:
        path, future = waiting.popleft()
        ids, hits = future.result()
        if ids is not None:
            yield path, ids, hits

    def add(self, path: str, ids: FileIds, hits: list[Numbers]) -> None:
        """Count what vanishes of one file; `hits` are the indexes of its cells that do."""
        for cells, at in zip(ids.cells, hits, strict=True):
            if len(at):
                self._cells(path, ids, cells, at)
        for text in ids.texts:
            rec = self.lists[text.field.list]
            for n, value in enumerate(text.values):
                number = rec.old.numbers.get(value) if text.by_name else int(value)
                if number is None or not self.suspects[text.field.list].is_suspect(number):
                    continue
                each = self._of(text.field.list, number)
                self._count(each, path, text.field.table.kind, 1, 1)
                each.note(path, n, text.line_of(n))
                each.show(path, str(text.spans[n]).encode())

    def _of(self, list: str, number: int) -> _Found:
        return self.found.setdefault((list, number), _Found())

    @staticmethod
    def _count(each: _Found, path: str, kind: str, cells: int, amount: int) -> None:
        each.cells += cells
        each.amount += amount
        each.by_kind[kind] += amount
        each.by_file[path] += amount

    def _cells(self, path: str, ids: FileIds, cells: Cells, at: Numbers) -> None:
        weights = weights_of(cells)
        places = positions_of(ids, cells)
        tiles = positions_used(ids, cells)
        owners = cells.beside(cells.field.table.owner)
        numbers = cells.numbers[at]
        for number in np.unique(numbers).tolist():
            each = self._of(cells.field.list, int(number))
            some = at[numbers == number]
            amount = len(some) if weights is None else int(weights[some].sum())
            self._count(each, path, cells.field.table.kind, len(some), amount)
            for one in some[:_EXAMPLES].tolist():
                each.note(path, one, cells.name_of(one))
            each.show(path, f"{cells.path} {amount} ".encode() + some.astype(np.int64).tobytes())
            if owners is not None:
                for one in some.tolist():
                    owner = str(owners[one] or "")
                    if owner:
                        each.owners[owner] += 1 if weights is None else int(weights[one])
            if places is not None:
                self._near(each, places.x[some], places.z[some])
            if tiles is not None and cells.used_at is not None:
                used = np.isin(cells.used_at, some)
                self._near(each, tiles.x[used], tiles.z[used])

    def _near(self, each: _Found, x: Numbers, z: Numbers) -> None:
        """Measure from each own thing to the nearest of some tiles."""
        if not len(self.own) or not len(x):
            return
        low, high = (x.min(), z.min()), (x.max(), z.max())
        outside = [
            np.maximum(np.maximum(low[n] - self.own[:, n], self.own[:, n] - high[n]), 0)
            for n in (0, 1)
        ]
        least = np.hypot(*outside)
        for n in np.argsort(least, kind="stable").tolist():
            if each.nearest is not None and least[n] >= each.nearest[0]:
                break
            far = np.hypot(x - self.own[n, 0], z - self.own[n, 1])
            best = int(far.argmin())
            if each.nearest is None or far[best] < each.nearest[0]:
                each.nearest = float(far[best]), (int(x[best]), int(z[best]))

    def told(self, choices: ContentChoices, damaged: list[DamagedFile], files: int) -> Forecast:
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
            where = tuple(f"{path}: {field}" for path, _, field in each.where)
            near, near_at = each.nearest or (None, None)
            rows.append(
                Vanishing(
                    name, content, number, fates[name][content],
                    row.parts or row.perhaps if row is not None else (),
                    rec.new.names.get(number, ""),
                    each.cells, each.amount, dict(each.by_kind), dict(each.by_file), dict(each.owners),
                    None if near is None else int(near), near_at, where,
                    worth.get(content, 0.0) * each.amount,
                )
            )  # fmt: skip
        rows.sort(key=lambda row: (row.list, -row.amount, row.name))
        return Forecast(
            self.opened.name,
            self.lists,
            tuple(rows),
            tuple(damaged),
            files,
            self._id(damaged),
        )

    def _id(self, damaged: list[DamagedFile]) -> str:
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
        shown.update(msgspec.json.encode([(each.path, each.why) for each in damaged]))
        return shown.hexdigest()[:12]


def _own_points(opened: OpenedWorld) -> set[tuple[int, int]]:
    """Return where the player's own things are, in tiles."""
    out: set[tuple[int, int]] = set()
    for own in opened.kind.table.own:
        fits = Patterns(tuple(own.files))
        paths = [path for path in opened.world.files(opened.tree) if fits(path)]
        for _, data in opened.contents(paths):
            out |= set(_points_in(opened, own, data))
            if len(out) > _SHOWN_POINTS:
                return out
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
