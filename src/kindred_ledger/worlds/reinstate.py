"""Reinstating: inert content becomes what it was, once a build has it again.

The ledger knows the way: before a world was remapped its files were kept, with the lists that say what they
hold.

What always holds: only what still is where it was placed is reinstated. What a player moved, took or covered
since is left alone and counted.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from difflib import SequenceMatcher
from typing import Any

import msgspec
import numpy as np
from blake3 import blake3
from msgspec import Struct

from ..cards import Install
from ..cards.worlds import IdList, chained
from ..changes import Action, Changeset, fitted
from ..errors import BooksUnbalanced
from ..finding import Finding
from ..ledger import Ledger, Record, WorldRemapped, not_undone, relation_of
from ..ledger.zstd import decompress
from ..places import FILE, MemoryPlace, Node, read_bytes, roots_of
from ..progress import Progress
from ..statement import Line, Outcome, Statement
from ..wording import count
from .cells import Cells
from .file_ids import FileIds, encoded
from .opened import DamagedFile, OpenedWorld, open_world, opened_file

__all__ = ["reinstate"]

_MOST_ROWS = 20_000  # of a table whose rows were added or taken since: more are not compared


class _Before(Struct, frozen=True, eq=False):
    """A world before it was remapped: its lists, what their names became, and what was made inert."""

    record: Record
    lists: Mapping[str, IdList]
    became: Mapping[str, Mapping[str, str]]
    inert: Mapping[tuple[str, str], str]  # by list and name: as what it stands


def reinstate(
    subject: Install,
    world: str = "",
    *,
    ledger: Ledger,
    anyway: bool = False,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that reinstates inert content of a world, as far as its list has it again.

    Where most of the places hold something else by now, it may be another world of the same name: then it is
    a conflict, unless it is to be done `anyway`.

    Raises:
        UsageError: there is no such world.
        IdListError: nothing says what its numbers mean.

    >>> kl.reinstate(fen_install, "northbog", ledger=ledger).summary
    'reinstate northbog: nothing waits that this build has again'
    """
    before = ledger.scan(subject.place, progress=progress)
    opened = open_world(subject, world, tree=before, ledger=ledger)
    made: dict[str, bytes] = {}
    turned: Counter[str] = Counter()
    left: Counter[str] = Counter()
    counts: Counter[str] = Counter()
    doubts: list[Finding] = []
    for each in _remaps(opened, ledger):
        if ledger.is_retired(each.record.entry):
            names = ", ".join(sorted(name for _, name in each.inert))
            doubts.append(
                Finding.warning(
                    "inert-not-kept",
                    f"{names} cannot be reinstated: the entry {each.record.entry}, which had the world"
                    " before, was deleted",
                    where=opened.world.folder,
                    remedy="If a mirror has it: kindred ledger mirror",
                )
            )
            continue
        there: Counter[str] = Counter()
        gone: Counter[str] = Counter()
        new = dict(made)
        _one(opened, each, ledger, new, there, gone)
        if there.total() < gone.total() and not anyway:
            doubts.append(_doubt(each, opened, there.total(), gone.total()))
            continue
        made = new
        turned += there
        left += gone
    memory = MemoryPlace({opened.full(path): data for path, data in made.items()})
    actions = []
    for path, data in made.items():
        full = opened.full(path)
        old = before[full]
        node = Node(FILE, len(data), blake3(data).digest(), mode=old.mode)
        actions.append(Action(full, old, node, memory, full, "inert content is reinstated"))
    counts.update(turned)
    told = ", ".join(f"{many:,} {name}" for name, many in sorted(turned.items()))
    findings = [
        Finding.note(
            "inert-elsewhere",
            f"{count(many, 'place')} no longer hold what was put there for it, and stay as they are",
            where=name,
        )
        for name, many in sorted(left.items())
    ]
    return fitted(
        Changeset(
            place=subject.place,
            operation="reinstate",
            summary=f"reinstate {opened.name}: {told or 'nothing waits that this build has again'}",
            before=before,
            actions=tuple(actions),
            tag=subject.tag,
            version_after=subject.tag.version,
            statements=(_books(opened, made, turned),) if made else (),
            findings=(*doubts, *findings),
        )
    )


def _doubt(each: _Before, opened: OpenedWorld, there: int, gone: int) -> Finding:
    when = each.record.when[:10]
    return Finding.conflict(
        "inert-mostly-gone",
        f"of {there + gone:,} places of {when} that wait, {gone:,} hold something else by now: is this the"
        " same world?",
        where=opened.world.folder,
        remedy="If it is, say `anyway=True`; what holds something else stays as it is.",
    )


def _remaps(opened: OpenedWorld, ledger: Ledger) -> Iterator[_Before]:
    """Yield the remaps of a world that made something inert which its list has again, the newest first."""
    here = roots_of(opened.world.place)
    for record in reversed(not_undone(ledger.records())):
        relation = relation_of(record.relations, WorldRemapped)
        if relation is None or relation.world != opened.world.folder or record.roots != here:
            continue
        again = {
            (each.list, each.name): each.stands_as
            for each in relation.inert
            if each.list in opened.lists and each.name in opened.lists[each.list].numbers
        }
        if again:
            lists = {name: IdList.unpacked(data) for name, data in relation.lists.items()}
            became = msgspec.json.decode(decompress(relation.became)[0])
            yield _Before(ledger.record(record.id), lists, became, again)


def _one(
    opened: OpenedWorld,
    each: _Before,
    ledger: Ledger,
    made: dict[str, bytes],
    turned: Counter[str],
    left: Counter[str],
) -> None:
    """Reinstate what one remap made inert."""
    kept = ledger.place(ledger.entry(each.record.entry))
    there = {opened.full(path): path for path in opened.with_ids()}
    kind, card, place = opened.kind, opened.card, opened.world.place
    for full, blocks in kept.read([full for full in there if full in kept.tree]):
        path, before = there[full], b"".join(blocks)
        data = made[path] if path in made else read_bytes(place, full)
        # Block by block: what was there before and what is there now need not have the same blocks.
        old = opened_file(path, before, kind, card, in_blocks=False)
        now = opened_file(path, data, kind, card, in_blocks=False)
        if isinstance(old, FileIds) and isinstance(now, FileIds):
            out = _File(opened, each, old, now, turned, left).made()
            if out is not None:
                made[path] = out
        elif isinstance(now, DamagedFile) and isinstance(old, FileIds):
            left[f"{path} is damaged"] += 1


class _File:
    """One file, as it was before a remap and as it is."""

    def __init__(
        self,
        opened: OpenedWorld,
        each: _Before,
        old: FileIds,
        now: FileIds,
        turned: Counter[str],
        left: Counter[str],
    ) -> None:
        self.opened, self.each, self.old, self.now = opened, each, old, now
        self.turned, self.left = turned, left

    def made(self) -> bytes | None:
        """Return the file with what can be reinstated; None if nothing can."""
        changed = False
        there = {(cells.field.at, cells.path): cells for cells in self.now.cells}
        for cells in self.old.cells:
            changed |= self._cells(cells, there.get((cells.field.at, cells.path)))
        data = encoded(self.now.document) if changed else self.now.data
        texts = self._texts(data)
        return texts if texts != self.now.data else None

    def _wanted(self, list: str) -> dict[int, str]:
        """Return the old numbers of what may be reinstated, and their names."""
        numbers = self.each.lists[list].numbers
        return {
            numbers[name]: name for of, name in self.each.inert if of == list and name in numbers
        }

    def _stands(self, list: str, name: str) -> int | None:
        """Return the number by now of what content stands as."""
        aliases = self.opened.kind.table.lists[list].aliases
        names = chained(aliases, self.each.inert[list, name])
        return self.opened.lists[list].numbers.get(names[0]) if len(names) == 1 else None

    def _cells(self, old: Cells, now: Cells | None) -> bool:
        of = old.field.list
        wanted = self._wanted(of)
        at = np.flatnonzero(np.isin(old.numbers, list(wanted)))
        if not len(at):
            return False
        where = self._where(old, now) if now is not None else {}
        new = now.numbers.astype(np.int64) if now is not None else np.zeros(0, np.int64)
        changed = False
        for index, number in zip(at.tolist(), old.numbers[at].tolist(), strict=True):
            name = wanted[number]
            place = where.get(index, -1)
            if place >= 0 and new[place] == self.opened.lists[of].numbers[name]:
                continue  # it was reinstated before
            if place < 0 or new[place] != self._stands(of, name):
                self.left[name] += 1
                continue
            new[place] = self.opened.lists[of].numbers[name]
            self.turned[name] += 1
            changed = True
        if changed and now is not None:
            now.put(new.astype(now.numbers.dtype))
        return changed

    def _where(self, old: Cells, now: Cells) -> dict[int, int]:
        """Return where each id of before is by now: its index, by the old one."""
        became = self.each.became[old.field.list]
        names = self.each.lists[old.field.list].names
        kept = list(range(len(old)))
        if old.field.table.remove == "row":
            kept = [n for n in kept if became.get(names.get(int(old.numbers[n]), ""), "-") != ""]
        if len(kept) == len(now):
            return dict(zip(kept, range(len(now)), strict=True))
        if max(len(kept), len(now)) > _MOST_ROWS:
            return {}
        before = [self._row(old, n, was=True) for n in kept]
        after = [self._row(now, n, was=False) for n in range(len(now))]
        out: dict[int, int] = {}
        for block in SequenceMatcher(None, before, after, autojunk=False).get_matching_blocks():
            out |= {kept[block.a + n]: block.b + n for n in range(block.size)}
        return out

    def _row(self, cells: Cells, at: int, *, was: bool) -> tuple[Any, ...]:
        """Return what tells a row from others: the name its content has by now, and what stands beside it."""
        table, of = cells.field.table, cells.field.list
        number = int(cells.numbers[at])
        if was:
            old = self.each.lists[of].names.get(number, f"#{number}")
            name = self.each.became[of].get(old, old)
            told = chained(self.opened.kind.table.lists[of].aliases, name)
            name = told[0] if len(told) == 1 else name
        else:
            name = self.opened.lists[of].names.get(number, f"#{number}")
        beside = []
        for key in (table.amount, table.owner, table.x, table.z):
            values = cells.beside(key)
            beside.append(None if values is None else str(values[at]))
        return (name, *beside)

    def _texts(self, data: bytes) -> bytes:
        for old, now in zip(self.old.texts, self.now.texts, strict=True):
            again = type(now).of(data, now.field)
            if old.by_name or len(old.values) != len(again.values):
                continue
            wanted = self._wanted(old.field.list)
            put = list(again.values)
            for at, value in enumerate(old.values):
                name = wanted.get(int(value))
                if name is None:
                    continue
                if int(again.values[at]) == self.opened.lists[old.field.list].numbers[name]:
                    continue
                if int(again.values[at]) != self._stands(old.field.list, name):
                    self.left[name] += 1
                    continue
                put[at] = str(self.opened.lists[old.field.list].numbers[name])
                self.turned[name] += 1
            data = again.put(put)
        return data


def _books(opened: OpenedWorld, made: Mapping[str, bytes], turned: Mapping[str, int]) -> Statement:
    """Return the account of all ids in the files that change, counted in both."""
    before: Counter[str] = Counter()
    after: Counter[str] = Counter()
    for path, data in opened.contents(made):
        for items, content in ((before, data), (after, made[path])):
            ids = opened_file(path, content, opened.kind, opened.card)
            if not isinstance(ids, FileIds):
                raise BooksUnbalanced("what was made of it cannot be read again", where=path)
            for (of, kind, number), many in (
                ids.tally() + ids.names_in_texts(opened.lists)
            ).items():
                items[f"{kind}: {opened.lists[of].names.get(number, f'#{number}')}"] += many
    lines: list[Line] = []
    if sum((after - before).values()) != sum(turned.values()):
        raise BooksUnbalanced(
            f"{sum(turned.values())} were to be reinstated, {sum((after - before).values())} were",
            where=opened.world.folder,
        )
    for item, many in sorted(before.items()):
        stay = min(many, after[item])
        if stay:
            lines.append(Line(Outcome.UNCHANGED, item, count=stay))
        if many > stay:
            lines.append(Line(Outcome.REMOVED, item, "it only kept a place", count=many - stay))
    for item, many in sorted((after - before).items()):
        lines.append(Line(Outcome.ADDED, item, "reinstated", count=many))
    return Statement(f"world {opened.name}", "ids", tuple(lines)).balanced(before, after)
