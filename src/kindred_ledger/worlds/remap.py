"""Remapping a world: every id of it as the lists of another build have it, by name.

What always holds: a world is remapped as a whole or not at all; what each id was and what it became is
counted in the files as they are and as they will be, read anew. A file in which nothing changes is not
touched, and one that is damaged is carried as it is, and told.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping

import msgspec
from blake3 import blake3
from msgspec.structs import replace

from ..cards import Install
from ..cards.worlds import IdList, with_id_list
from ..changes import Action, Changeset, fitted
from ..errors import BooksUnbalanced
from ..finding import Finding
from ..ledger import Inert, Ledger, WorldRemapped
from ..ledger.zstd import compress
from ..places import FILE, MemoryPlace, Node, Place
from ..progress import Progress
from ..statement import Line, Outcome, Statement
from ..wording import count
from .choices import INERT, REMOVE, ContentChoices, Fate
from .file_ids import Tally
from .forecast import Forecast, Vanishing, forecast
from .opened import OpenedWorld, kinds_of, open_world
from .reconcile import ContentChange
from .translation import Translation, unknown_name
from .work import FileDone, RemapWork, run_all, tally_from

__all__ = ["id_lists", "remap"]


def remap(
    subject: Install,
    new: Mapping[str, IdList],
    world: str = "",
    *,
    ledger: Ledger,
    choices: ContentChoices | None = None,
    agreed: str = "",
    lists: Mapping[str, IdList] | None = None,
    work: RemapWork | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that brings a world to the id lists of another build.

    `new` has those lists by name: `id_lists(install_or_release)` reads them. `choices` say what becomes of
    content that they do not have; what is not said is a conflict. `agreed` is the id of the forecast that
    somebody saw and agreed to with these choices: then nothing of it is a loss that asks again, unless the
    world would lose anything else by now. `lists` are the ones that are in force, where the world and what
    is installed do not say so.

    Raises:
        IdListError: a list contradicts itself, two lists have no name in common, or a number is too wide.
        UsageError: there is no such world, or a choice is of content that does not vanish.
        DecisionNeeded: the world carries no list, and it is not certain which one it was saved with.
        BooksUnbalanced: what was made is not what was meant; nothing was written.

    >>> choices = kl.ContentChoices(
    ...     renames={"bog:still_water": "bog:stillwater"},
    ...     substitutes={"bog:lantern": "bog:oil_lantern"},
    ...     inert=("reedlight:*",),
    ...     remove=("oldquay:*",),
    ... )
    >>> change = kl.remap(fen_install, new_lists, "northbog", ledger=ledger, choices=choices)
    >>> change.summary
    'remap northbog: 308 files get the ids of the new list'
    """
    before = ledger.scan(subject.place, progress=progress)
    opened = open_world(subject, world, tree=before, lists=lists, ledger=ledger)
    chosen = choices or ContentChoices()
    work = work or RemapWork()
    told = forecast(opened, new, choices=chosen, work=work, progress=progress)
    plan = _Plan(opened, told)
    findings = [*plan.findings(agreed), *plan.notes()]
    change = Changeset(
        place=subject.place,
        operation="remap",
        summary=f"remap {opened.name}: {_waits(told)}",
        before=before,
        actions=(),
        tag=subject.tag,
        version_after=subject.tag.version,
        findings=tuple(findings),
    )
    if change.conflicts:
        return change
    return plan.carried_out(change, work, ledger, progress or Progress())


def _waits(told: Forecast) -> str:
    return f"{count(max(len(told.undecided), 1), 'decision')} needed"


class _Plan:
    """What a forecast, with the choices that it was made with, comes to."""

    def __init__(self, opened: OpenedWorld, told: Forecast) -> None:
        self.opened, self.told = opened, told
        self.translations = {
            name: Translation(found, opened.kind.table.lists[name], self._fates(name))
            for name, found in told.lists.items()
        }

    def _fates(self, name: str) -> dict[str, Fate]:
        """Return what becomes of all that vanishes; of what this world has nothing of, nothing."""
        there = {each.name: each.fate for each in self.told.vanishing if each.list == name}
        return {
            **{row.name: Fate(row.name, REMOVE) for row in self.told.lists[name].vanishing},
            **there,
        }

    # ---- what is to be said ------------------------------------------------------------------

    def findings(self, agreed: str) -> Iterator[Finding]:
        """Yield what somebody must decide or agree to."""
        told = self.told
        if agreed and agreed != told.id:
            yield Finding.conflict(
                "forecast-changed",
                f"what would be lost is not what was agreed to: the forecast is {told.id} now,"
                f" not {agreed}",
                where=self.opened.world.folder,
                remedy="Look at the forecast again, then agree to it: kindred world forecast",
            )
        yield from self._unread(agreed)
        for each in told.vanishing:
            amount = _amount(each)
            if not each.fate.how:
                perhaps = f"; perhaps it is {' or '.join(each.perhaps)} now" if each.perhaps else ""
                what = f"{amount} in {each_of(each)}, and the new list does not have it{perhaps}"
                yield Finding.conflict("content-undecided", what, where=each.name, remedy=_CHOOSE)
                continue
            told_so = f"{amount} {each.fate.told}"
            if agreed == told.id:
                yield Finding.note("content-agreed", f"{told_so}, as agreed", where=each.name)
            elif each.fate.how == INERT:
                yield Finding.loss("content-inert", told_so, where=each.name)
            elif each.fate.how == REMOVE:
                yield Finding.loss("content-removed", told_so, where=each.name, one_way=True)
            else:
                yield Finding.loss("content-replaced", told_so, where=each.name, one_way=True)

    def _unread(self, agreed: str) -> Iterator[Finding]:
        """Yield the files that cannot be read, and keep their old ids: the new build may misread them."""
        told = self.told
        if len(told.not_found) + len(told.no_files) == len(self.opened.kind.fields):
            yield Finding.conflict(
                "world-unread",
                "no id was found in any file",
                where=self.opened.world.folder,
                remedy="Put `fields` of the worlds in the card right.",
            )
            return
        for field in told.no_files:
            yield Finding.note("no-ids-here", field, where=self.opened.world.folder)
        for field in told.not_found:
            what = f"{field}: if the card is wrong there, ids stay as they are, and mean something else"
            if agreed == told.id:
                yield Finding.warning("ids-not-found", what, where=self.opened.world.folder)
            else:
                yield Finding.loss("ids-not-found", what, where=self.opened.world.folder)
        if len(told.damaged) * 2 > told.files:
            yield Finding.conflict(
                "world-unread",
                f"{count(len(told.damaged), 'file')} of {told.files:,} cannot be read, such as"
                f" {told.damaged[0].path}: {told.damaged[0].why}",
                where=self.opened.world.folder,
                remedy="It may be of a version that the card's layouts do not describe. Put the card right.",
            )
            return
        for each in told.damaged:
            where = self.opened.full(each.path)
            what = f"it cannot be read, and stays as it is, with its old ids: {each.why}"
            if agreed == told.id:
                yield Finding.warning("region-damaged", what, where=where)
            else:
                yield Finding.loss("region-damaged", what, where=where)

    def notes(self) -> Iterator[Finding]:
        """Yield what is worth knowing."""
        for name, found in self.told.lists.items():
            reused = sum(row.is_reused for row in found.by_name.values())
            if reused:
                yield Finding.note(
                    "ids-reused",
                    f"{count(reused, 'number')} of the list {name} mean other content in the new one; names"
                    " tell, not numbers",
                )
            for list_name, ids in (("the world's list", found.old), ("the new list", found.new)):
                for alike in ids.alike[:_SHOWN]:
                    what = f"{list_name} has names that many take for the same: {', '.join(alike)}"
                    yield Finding.warning("id-names-alike", what, where=ids.origin)
            merged = Counter(
                row.became or row.name for row in found.by_name.values() if row.new is not None
            )
            for became, many in merged.items():
                if many > 1:
                    olds = [r.name for r in found.by_name.values() if became in (r.became, r.name)]
                    yield Finding.loss(
                        "content-merged",
                        f"{' and '.join(olds)} become one, and cannot be told apart again",
                        where=became,
                        one_way=True,
                    )

    # ---- what is to be done ------------------------------------------------------------------

    def carried_out(
        self, change: Changeset, work: RemapWork, ledger: Ledger, progress: Progress
    ) -> Changeset:
        """Return the change with all its actions and books."""
        opened = self.opened
        damaged = {each.path for each in self.told.damaged}
        jobs = [path for path in opened.with_ids() if path not in damaged]
        actions: list[Action] = []
        before: Tally = Counter()
        after: Tally = Counter()
        gone_with: Tally = Counter()
        results = run_all(
            opened, self.translations, jobs, work=work, ledger=ledger, progress=progress
        )
        for done in results.done:
            before.update(tally_from(done.before))
            after.update(tally_from(done.after))
            gone_with.update(tally_from(done.gone_with))
            if done.changed:
                actions.append(self._action(done, results.source_of(done), change))
        actions += self._own_lists(change)
        lost = [
            Finding.loss(
                "removed-with-it",
                f"{many:,} go with rows that are removed: what stands in them ({kind})",
                where=self._name(name, number),
                one_way=True,
            )
            for (name, kind, number), many in sorted(gone_with.items())
        ]
        inert = self._inert()
        relations = (
            (
                WorldRemapped(
                    opened.world.folder,
                    inert,
                    self._packed(),
                    self._became(),
                    self._packed(new=True),
                ),
            )
            if actions
            else ()
        )
        files = count(len(actions), "file")
        verb = "gets" if len(actions) == 1 else "get"
        return fitted(
            replace(
                change,
                summary=f"remap {opened.name}: {files} {verb} the ids of the new list",
                actions=tuple(actions),
                statements=(self._books(before, after, gone_with),),
                findings=(*change.findings, *lost),
                relations=relations,
                clear=results.clear,
            )
        )

    def _action(self, done: FileDone, source: tuple[Place, str], change: Changeset) -> Action:
        path = self.opened.full(done.path)
        old = change.before[path]
        node = Node(FILE, done.size_bytes, done.digest, mode=old.mode)
        return Action(path, old, node, *source, "ids by the new list")

    def _own_lists(self, change: Changeset) -> Iterator[Action]:
        """Yield the actions that give a world the new lists as its own."""
        opened = self.opened
        written: dict[str, bytes] = {}
        for name, found in self.told.lists.items():
            source = opened.kind.table.lists[name].world
            path = opened.world.list_path(name)
            if source is None or path not in change.before:
                continue
            renamed = {
                row.name: row.became for row in found.rows if row.what is ContentChange.RENAMED
            }
            data = written.get(path)
            if data is None:
                data = next(iter(dict(opened.contents([source.file])).values()))
            written[path] = with_id_list(data, source, found.new, renamed)
        for path, data in written.items():
            old = change.before[path]
            node = Node(FILE, len(data), blake3(data).digest(), mode=old.mode)
            if node.digest != old.digest:
                memory = MemoryPlace({path: data})
                yield Action(path, old, node, memory, path, "the new id list")

    def _inert(self) -> tuple[Inert, ...]:
        """Return which content is to be reinstated one day."""
        return tuple(
            Inert(each.list, each.name, each.fate.to)
            for each in self.told.vanishing
            if each.fate.how == INERT
        )

    def _packed(self, *, new: bool = False) -> dict[str, bytes]:
        lists = self.told.lists
        return {name: (each.new if new else each.old).packed() for name, each in lists.items()}

    def _became(self) -> bytes:
        """Return what each name became, as a record keeps it."""
        told: dict[str, dict[str, str]] = {}
        for name, found in self.told.lists.items():
            fates = self.translations[name].fates
            told[name] = {
                row.name: (row.became or row.name) if row.new is not None else fates[row.name].to
                for row in found.by_name.values()
            }
        return compress(msgspec.json.encode(told))

    def _name(self, name: str, number: int, *, new: bool = False) -> str:
        found = self.told.lists[name]
        names = found.new.names if new else found.old.names
        none = number in self.opened.kind.table.lists[name].none
        return names.get(number) or ("nothing" if none else unknown_name(number))

    def _books(self, before: Tally, after: Tally, gone_with: Tally) -> Statement:
        """Return the account of all ids: what each was and became, counted on both sides."""
        lines: list[Line] = []
        for (name, kind, number), many in sorted(before.items()):
            item = f"{kind}: {self._name(name, number)}"
            with_row = gone_with[name, kind, number]
            if with_row:
                lines.append(
                    Line(Outcome.REMOVED, item, "it stood in a row that went", count=with_row)
                )
            if many > with_row:
                lines.append(self._line(name, kind, number, item, many - with_row))
        before_items = self._items(before, new=False)
        after_items = self._items(after, new=True)
        try:
            return Statement(f"world {self.opened.name}", "ids", tuple(lines)).balanced(
                before_items, after_items
            )
        except BooksUnbalanced as error:
            raise error.inside(self.opened.world.folder) from None

    def _items(self, tally: Tally, *, new: bool) -> dict[str, int]:
        out: Counter[str] = Counter()
        for (name, kind, number), many in tally.items():
            out[f"{kind}: {self._name(name, number, new=new)}"] += many
        return dict(out)

    def _line(self, name: str, kind: str, number: int, item: str, many: int) -> Line:
        translation = self.translations[name]
        row = translation.found.by_name.get(translation.found.old.names.get(number, ""))
        if row is None and number in self.opened.kind.table.lists[name].none:
            return Line(Outcome.UNCHANGED, item, count=many)
        if row is not None and row.new is not None:
            became = f"{kind}: {row.became}" if row.became else ""
            if row.what is ContentChange.SAME:
                return Line(Outcome.UNCHANGED, item, count=many)
            return Line(Outcome.CHANGED, item, f"{row.old} is now {row.new}", became, many)
        fate = translation.fates[self._name(name, number)]
        in_rows = any(
            field.list == name and field.table.kind == kind and field.table.remove == "row"
            for field in self.opened.kind.fields
        )
        if fate.how == REMOVE and (in_rows or not fate.to):
            return Line(Outcome.REMOVED, item, "removed", count=many)
        told = f"removed, {fate.to} is there now" if fate.how == REMOVE else fate.told
        return Line(Outcome.CHANGED, item, told, f"{kind}: {fate.to}", many)


_SHOWN = 5
_CHOOSE = (
    "Say what becomes of each: `substitutes=OLD=NEW`, `inert=NAME` until a later build has it again, or"
    " `remove=NAME`; or, if it only has another name now, `renames=OLD=NEW`."
)


def _amount(each: Vanishing) -> str:
    return f"{each.amount:,}"


def each_of(each: Vanishing) -> str:
    """Return where content is, in words: how many files, and how near the player's own."""
    told = count(len(each.by_file), "file")
    if each.nearest is not None:
        told += f", the nearest {count(each.nearest, 'tile')} from what is yours"
    return told


def id_lists(subject: Install) -> dict[str, IdList]:
    """Return the id lists of a build, out of its install or release, by name.

    Raises:
        UsageError: the card describes no worlds.
        IdListError: there is no list, or it contradicts itself.

    >>> sorted(kl.id_lists(fen_install))
    ['things']
    """
    tree = subject.place.survey()
    out: dict[str, IdList] = {}
    for kind in kinds_of(subject.card):
        out.update(kind.build_lists(subject.place, tree))
    return out
