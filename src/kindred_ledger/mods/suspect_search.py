"""SuspectSearch: a search for the parts that break an install, that can be left and gone on with.

Each trial is a change that switches parts off and on: mods by the list that says what is on, where the title
has one, else by taking their folders away; optional components by taking their files away. What they are is
stored before, so that all comes back.

What always holds: an answer is taken only while the parts are as its trial wants them; at the end everything
is as it was when the search began.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import msgspec
from msgspec import Struct

from ..cards import PROGRAM, Install
from ..changes import Changeset, fitted
from ..errors import DecisionNeeded, UsageError
from ..ledger import EntryPlace, Ledger, Mark
from ..places import Patterns, Tree, parents, roots_of
from ..planning.modded import modded
from ..planning.rearranged import Rearranged
from ..progress import Progress
from ..wording import count
from .core import edit_list
from .suspects import Answer, SuspectsFound, Trial, next_trial

__all__ = ["OPERATION", "Part", "SuspectSearch"]

OPERATION = "try suspects"
_BEGUN, _NOTE = "suspects", "suspects trial"


class Part(Struct, frozen=True):
    """A part that can be switched off: its name, the path it lies at, what it needs.

    `listed` is the kind of mods whose list says whether it is on; "" if it is off without its files. `files`
    are the patterns of a component, which has no `path`.
    """

    name: str
    path: str
    needs: tuple[str, ...] = ()
    listed: str = ""
    files: tuple[str, ...] = ()

    def among(self, paths: Iterable[str], *, any_case: bool = False) -> list[str]:
        """Return the paths that belong to it."""
        if not self.files:
            return [path for path in paths if path == self.path or path.startswith(f"{self.path}/")]
        covered = Patterns(self.files, any_case=any_case)
        return [path for path in paths if covered(path)]


class _Begun(Struct, frozen=True):
    install: str
    entry: str
    parts: tuple[Part, ...]


class _Noted(Struct, frozen=True, omit_defaults=True):
    """A trial that was answered; or, with `ended`, the end of the search and what it found."""

    on: tuple[str, ...] = ()
    answer: str = ""
    ended: str = ""


class SuspectSearch:
    """A search of an install that was begun; see the module.

    >>> from kindred_ledger.mods.suspect_search import Part
    >>> Part("reedlight", "program/mods/reedlight").needs
    ()
    """

    def __init__(self, install: Install, ledger: Ledger, mark: Mark) -> None:
        self.install, self.ledger, self.id = install, ledger, mark.id
        begun = msgspec.json.decode(mark.note, type=_Begun)
        self.entry, self.parts = begun.entry, begun.parts

    @staticmethod
    def begin(
        install: Install,
        ledger: Ledger,
        *,
        components: bool = False,
        progress: Progress | None = None,
    ) -> SuspectSearch:
        """Begin a search among the mods that are on: store them, and note that it begins.

        With `components` the optional components that are there are suspects, too.

        Raises:
            UsageError: there are less than two, or the card describes no mods.
            DecisionNeeded: a search of this install is under way.
        """
        if _last(install, ledger) is not None:
            raise DecisionNeeded(
                "a search of this install is under way",
                where=install.place.location,
                remedy="Go on with it, or end it: kindred mod suspects INSTALL --end",
            )
        parts = suspects_in(install, components=components)
        if len(parts) < 2:
            raise UsageError(
                f"there is nothing to search among: {count(len(parts), 'part')} on",
                where=install.place.location,
            )
        files = _list_files(install, parts)
        tree = install.place.survey()
        stored = {
            path
            for part in parts
            if not part.listed
            for path in part.among(tree, any_case=install.card.any_case)
        }
        entry = ledger.backup(
            install,
            only=lambda path: path in files or path in stored,
            note="before a search for what breaks it",
            pinned=True,
            progress=progress,
        )
        program = roots_of(install.place)[PROGRAM]
        note = msgspec.json.encode(_Begun(program, entry.id, parts)).decode()
        return SuspectSearch(install, ledger, ledger.mark(_BEGUN, program, note=note))

    @staticmethod
    def open(install: Install, ledger: Ledger) -> SuspectSearch:
        """Open the search that is under way.

        Raises:
            UsageError: none is.
        """
        mark = _last(install, ledger)
        if mark is None:
            raise UsageError(
                "no search of this install is under way",
                where=install.place.location,
                remedy="To begin one: kindred mod suspects INSTALL",
            )
        return SuspectSearch(install, ledger, mark)

    def trials(self) -> tuple[Trial, ...]:
        """Return the trials that were answered, in their order."""
        return tuple(
            Trial(frozenset(note.on), Answer(note.answer))
            for note in _notes(self.ledger, self.id)
            if note.answer
        )

    def state(self) -> SuspectsFound:
        """Say what is to be tried next, or what was found."""
        names = [part.name for part in self.parts]
        return next_trial(names, {part.name: part.needs for part in self.parts}, self.trials())

    def change(self, *, progress: Progress | None = None) -> Changeset:
        """Compute the change that has the parts as the next trial wants them; all on, if none is left."""
        state = self.state()
        wanted = state.next
        everything = wanted is None
        return self._switched(
            {part.name for part in self.parts} if wanted is None else wanted,
            "put all parts back as they were"
            if everything
            else f"try {_of(wanted or (), self.parts)}",
            progress=progress,
        )

    def put_back(self, *, progress: Progress | None = None) -> Changeset:
        """Compute the change that puts all parts back as they were when the search began."""
        every = {part.name for part in self.parts}
        return self._switched(every, "put all parts back as they were", progress=progress)

    def answer(self, answer: Answer) -> SuspectsFound:
        """Note what came of the trial that is set up now, and say what is next.

        Raises:
            UsageError: nothing is to be tried any more.
            DecisionNeeded: the parts are not as the trial wants them.
        """
        state = self.state()
        if state.next is None:
            raise UsageError(
                "nothing is to be tried any more",
                where=self.install.place.location,
                remedy="See what was found, and have all as it was: kindred mod suspects INSTALL",
            )
        waiting = [each for each in self.change().actions if each.before != each.after]
        if waiting:
            raise DecisionNeeded(
                "the parts are not as this trial wants them, so an answer says nothing",
                where=self.install.place.location,
                remedy="Set the trial up first: kindred mod suspects INSTALL",
            )
        noted = _Noted(tuple(sorted(state.next)), str(answer))
        self.ledger.mark(_NOTE, self.id, note=msgspec.json.encode(noted).decode())
        return self.state()

    def end(self) -> None:
        """Note that the search is over; the parts must be put back before."""
        told = self.state().told
        noted = msgspec.json.encode(_Noted(ended=told)).decode()
        self.ledger.mark(_NOTE, self.id, note=noted)

    def _switched(self, on: Iterable[str], summary: str, *, progress: Progress | None) -> Changeset:
        """Compute the change after which these parts are on, and the others off."""
        wanted = {*on}
        now = self.ledger.scan(self.install.place, progress=progress)
        stored = self.ledger.place(self.ledger.entry(self.entry))
        tree = stored.tree
        made = Rearranged(self.install.place, now)
        for part in self.parts:
            if part.listed:
                continue
            any_case = self.install.card.any_case
            if part.name not in wanted:
                there = part.among(now, any_case=any_case)
                off = f"{part.name} is off in this trial"
                for path in [part.path] if there and part.path else there:
                    made.remove(path, off)
                made.remove_empty({path.rpartition("/")[0] for path in there if part.files}, off)
                continue
            paths = part.among(tree, any_case=any_case)
            folders = {each for path in paths for each in parents(path) if each in tree}
            for path in sorted({*folders, *paths}):
                if now.get(path) != tree[path]:
                    made.put_from(path, tree[path], stored, path, f"{part.name} is on")
        self._switch_in_lists(made, stored, now, wanted)
        return fitted(
            Changeset(
                place=self.install.place,
                operation=OPERATION,
                summary=summary,
                before=now,
                actions=made.actions(),
                tag=self.install.tag,
            )
        )

    def _switch_in_lists(
        self, made: Rearranged, stored: EntryPlace, now: Tree, wanted: set[str]
    ) -> None:
        """Have the lists name what is on: those that were there at the begin, without what is off."""
        tree = stored.tree
        kinds = self.install.card.mods
        off: dict[str, list[str]] = {}
        for part in self.parts:
            if part.listed:
                off.setdefault(part.listed, [])
                if part.name not in wanted:
                    off[part.listed].append(part.name)
        for name, gone in off.items():
            table = kinds[name].table.on
            assert table is not None
            path = table.file.strip("/")
            if not gone:
                if now.get(path) != tree[path]:
                    made.put_from(path, tree[path], stored, path, "all are on")
                continue
            trial = Rearranged(stored, tree)
            for id in gone:
                edit_list(trial, kind=kinds[name], add="", drop=id, order=(), seen=None)
            data = b"".join(b"".join(blocks) for _, blocks in trial.read([path]))
            there = b"".join(b"".join(blocks) for _, blocks in self.install.place.read([path]))
            if data != there:
                made.put(path, data, f"{count(len(gone), 'part')} off in this trial")


def suspects_in(install: Install, *, components: bool = False) -> tuple[Part, ...]:
    """Return what can be switched off: the mods of an install that are on, and its optional components.

    Raises:
        UsageError: the card describes no mods, and components are not wanted.
    """
    mods = () if components and not install.card.mods else _mods_in(install)
    return (*mods, *_components_in(install, mods)) if components else mods


def _components_in(install: Install, mods: Sequence[Part]) -> tuple[Part, ...]:
    """Return the optional components that are there, but none that has files of a mod, which is a part."""
    files = install.place.survey().files
    any_case = install.card.any_case
    taken = {path for mod in mods for path in mod.among(files)}
    names = {mod.name for mod in mods}
    parts = []
    for component in install.card.updates.components.values():
        name = component.name if component.name not in names else f"component {component.name}"
        part = Part(name, "", files=tuple(install.card.file.components[component.name].include))
        there = part.among(files, any_case=any_case)
        if component.optional and there and taken.isdisjoint(there):
            parts.append(part)
    return tuple(parts)


def _mods_in(install: Install) -> tuple[Part, ...]:
    found = modded(install)
    parts = []
    names: set[str] = set()
    known = {mod.id for mod in found.mods if mod.id}
    for mod in found.mods:
        kind = found.kinds[mod.kind]
        on = found.listed(kind)
        if on is not None and mod.id not in on:
            continue  # it is off already
        name = mod.id if mod.id and mod.id not in names else mod.path.rpartition("/")[2]
        names.add(name)
        needs = tuple(link.id for link in mod.needs if not link.optional and link.id in known)
        parts.append(Part(name, mod.path, needs, kind.name if on is not None else ""))
    return tuple(parts)


def _list_files(install: Install, parts: Sequence[Part]) -> set[str]:
    files = set()
    for part in parts:
        table = install.card.mods[part.listed].table.on if part.listed else None
        if table is not None:
            files.add(table.file.strip("/"))
    return files


def _last(install: Install, ledger: Ledger) -> Mark | None:
    """Return the mark of the search of an install that is under way."""
    program = roots_of(install.place)[PROGRAM]
    marks = [mark for mark in ledger.marks(_BEGUN) if mark.subject == program]
    if not marks or any(note.ended for note in _notes(ledger, marks[-1].id)):
        return None
    return marks[-1]


def _notes(ledger: Ledger, id: str) -> list[_Noted]:
    return [
        msgspec.json.decode(mark.note, type=_Noted)
        for mark in ledger.marks(_NOTE)
        if mark.subject == id
    ]


def _of(on: Iterable[str], parts: Sequence[Part]) -> str:
    many = len({*on})
    return f"{many:,} of {count(len(parts), 'part')}"
