"""Learning: what somebody did by hand in a move, and a runbook that does it again.

What always holds: only what both sides and the releases show is said; what nobody can tell (a file that is
neither as it was nor as any release has it) is named, and is in no step.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from msgspec import Struct

from ..cards import PROGRAM, Card, Install
from ..convert import format_version
from ..errors import KindredError, UsageError
from ..ledger import EntryPlace, Ledger
from ..places import Place, Tree, read_bytes, same_content
from ..planning.opened_release import opened_release
from ..progress import Progress
from ..versions import Version
from ..wording import count
from .runbook import Runbook, read_runbook
from .usual import parts_of

__all__ = ["LearnedMove", "learn_move"]

_FEW = 3  # files of a folder from which on the folder stands for them, in words


class LearnedMove(Struct, frozen=True):
    """What was done in a move, by path: of files that were there before, after, or both.

    `kept` are files of the person's that stayed over those of the release; `overwritten` edits that gave way
    to it; `converted` says of formats which version became which. `moved` has the new path of each old one;
    `reverted` are edits that were taken back although no release asked for it, `removed` files that no
    release took away, `left_over` some of the old release that only stayed because nobody removed them.
    `untold` is what nobody can tell.

    >>> kl.LearnedMove("1.4", "2.0").runbook().name
    '1.4 to 2.0'
    """

    source: str
    to: str
    updated: tuple[str, ...] = ()
    kept: tuple[str, ...] = ()
    own: tuple[str, ...] = ()
    overwritten: tuple[str, ...] = ()
    converted: Mapping[str, tuple[str, ...]] = {}
    moved: Mapping[str, str] = {}
    reverted: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    left_over: tuple[str, ...] = ()
    untold: tuple[str, ...] = ()
    parts: tuple[str, ...] = ("it starts",)

    def runbook(self) -> Runbook:
        """Return the runbook that does it again.

        >>> kl.LearnedMove("1.4", "2.0", kept=("program/data/tides.ini",)).runbook().steps[3].fields
        {'mine': ['program/data/tides.ini']}
        """
        return read_runbook(self._plain())

    def to_toml(self) -> str:
        """Return what a card says to have it done again: the runbook, and what was learnt, in words."""
        import tomli_w  # of all that is learnt, only this writes TOML

        lines = [
            f"# Learnt from a move of {self.source} to {self.to} by hand. Read it before it is used.",
            *self._told("of yours stays, over that of the release", self.kept),
            *self._told("of yours, which no release has", self.own),
            *self._told("edited before, given up for the release", self.overwritten),
            *self._told("whose edits were taken back by hand", self.reverted),
            *self._told("removed by hand", self.removed),
            *self._told("left over from the old release: the update removes them", self.left_over),
            *self._told("of which nobody can tell what was done: in no step", self.untold),
            *(f"# moved: {old} -> {new}" for old, new in sorted(self.moved.items())),
            *(
                f"# converted: {what}: {count(len(some), 'file')}"
                for what, some in self.converted.items()
            ),
            "",
        ]
        return "\n".join(lines) + tomli_w.dumps({"runbooks": [self._plain()]})

    def _plain(self) -> dict[str, Any]:
        update: dict[str, Any] = {"do": "update"}
        if self.kept:
            update["mine"] = list(self.kept)
        if self.overwritten:
            update["theirs"] = list(self.overwritten)
        steps: list[dict[str, Any]] = [{"do": "look"}, {"do": "store"}, {"do": "shelve"}, update]
        if self.converted:
            steps.append({"do": "convert"})
        if self.reverted:
            told = f"Put the files of the release back: {', '.join(_patterns(self.reverted))}"
            steps.append({"do": "wait", "name": "take back by hand", "say": told})
        if self.removed:
            told = f"Remove what was removed: {', '.join(_patterns(self.removed))}"
            steps.append({"do": "wait", "name": "remove by hand", "say": told})
        checks = ["whole", "build", "readable", "kept"]
        steps += [{"do": "check", "that": checks}, {"do": "sign off", "parts": list(self.parts)}]
        name = f"{self.source} to {self.to}"
        return {"name": name, "from": f"=={self.source}", "to": f"=={self.to}", "steps": steps}

    def _told(self, what: str, paths: tuple[str, ...]) -> list[str]:
        some = ", ".join(_patterns(paths))
        return [f"# {count(len(paths), 'file')} {what}: {some}"] if paths else []


def learn_move(
    before: EntryPlace,
    after: Install,
    *,
    ledger: Ledger,
    old: Place | None = None,
    release: Place | None = None,
    progress: Progress | None = None,
) -> LearnedMove:
    """Tell what was done between an entry of an install and the install as it is now.

    `old` and `release` are the releases before and after; without them it is only told what is known by
    the files alone.

    Raises:
        UsageError: the entry is of another title, or of the same build.
        DecisionNeeded: the build of the install is not certain.

    >>> entry = ledger.backup(install)
    >>> _ = kl.update(install, "downloads/mossferry-2.0.zip", ledger=ledger).apply(ledger)
    >>> learned = kl.learn_move(ledger.place(entry), card.open("mossferry"), ledger=ledger)
    >>> learned.source, learned.to
    ('1.4', '2.0')
    """
    card, tag = after.card, before.tag
    if tag.title != card.title:
        raise UsageError(f"entry {before.location} is of {tag.title}, not of {card.title}")
    to = after.sure_version
    source = card.build(tag.version)
    if source == to:
        raise UsageError(f"both are {to}: nothing was moved", where=before.location)
    trees = [
        opened_release(place, card, ledger=ledger, progress=progress).tree if place else None
        for place in (old, release)
    ]
    return _Comparison(before, after, ledger.scan(after.place, progress=progress), *trees).told(
        source, to
    )


class _Comparison:
    """Both sides of a move, and the releases if they are known."""

    def __init__(
        self,
        before: EntryPlace,
        after: Install,
        now: Tree,
        old: Tree | None,
        new: Tree | None,
    ) -> None:
        self.before, self.after = before, after
        self.was, self.now = before.tree, now
        self.old, self.new = old or Tree(), new or Tree()
        self.knows = old is not None and new is not None
        self.card: Card = after.card

    def told(self, source: Version, to: Version) -> LearnedMove:
        found: dict[str, list[str]] = {}
        converted: dict[str, list[str]] = {}
        moved, unclear = self._moved()
        done = {*moved, *moved.values()}
        found["untold"] = unclear
        for path in sorted({*self.was.files, *self.now.files} - done - {*unclear}):
            what = self._converted(path)
            if what:
                converted.setdefault(what, []).append(path)
            else:
                found.setdefault(self._fate(path), []).append(path)
        named = {name: tuple(found.get(name, ())) for name in _FATES}
        return LearnedMove(
            source.text,
            to.text,
            converted={what: tuple(some) for what, some in converted.items()},
            moved=moved,
            parts=parts_of(self.after),
            **named,
        )

    def _moved(self) -> tuple[dict[str, str], list[str]]:
        """Return where files went that have another name now, and those of which that cannot be told."""
        gone: dict[bytes | None, list[str]] = {}
        come: dict[bytes | None, list[str]] = {}
        for path in self.was.files:
            if path not in self.now and not self._is_program(path):
                gone.setdefault(self.was[path].digest, []).append(path)
        for path in self.now.files:
            if path not in self.was:
                come.setdefault(self.now[path].digest, []).append(path)
        moved, unclear = {}, []
        for digest, paths in gone.items():
            there = come.get(digest, [])
            if len(paths) == len(there) == 1:
                moved[paths[0]] = there[0]
            elif there:
                unclear += paths
        return moved, unclear

    def _fate(self, path: str) -> str:
        was, now = self.was.get(path), self.now.get(path)
        old, new = self.old.get(path), self.new.get(path)
        if now is not None and same_content(was, now):
            if new is None:
                if not self.knows and self._is_program(path):
                    return "same"  # whose it is only the releases say
                return "own" if old is None else "left_over"
            if same_content(now, new):
                return "same"
            return "untold" if same_content(was, old) else "kept"
        if now is not None and new is not None and same_content(now, new):
            edited = was is not None and old is not None and not same_content(was, old)
            if not edited:
                return "updated"
            return "reverted" if same_content(old, new) else "overwritten"
        if not self.knows and self._is_program(path):
            return "updated"
        if now is None:
            return "updated" if old is not None else "removed"
        if was is None and not self._is_program(path):
            return "same"  # made by the game since
        return "untold"

    def _is_program(self, path: str) -> bool:
        return path.startswith(f"{PROGRAM}/") and not self.card.protected_by(path)

    def _converted(self, path: str) -> str:
        """Return which format became another version in a file; "" if none did."""
        format = self.card.format_of(path)
        if format is None or path not in self.was or path not in self.now:
            return ""
        if same_content(self.was[path], self.now[path]):
            return ""
        try:
            old = format_version(read_bytes(self.before, path), format, name=path)
            new = format_version(read_bytes(self.after.place, path), format, name=path)
        except KindredError:
            return ""
        return f"{format.name} {old} to {new}" if old != new else ""


_FATES = ("updated", "kept", "own", "overwritten", "reverted", "removed", "left_over", "untold")


def _patterns(paths: Iterable[str]) -> list[str]:
    """Return paths, or the folder of many that share one."""
    by_folder: dict[str, list[str]] = {}
    for path in paths:
        by_folder.setdefault(path.rpartition("/")[0], []).append(path)
    out: list[str] = []
    for folder, some in sorted(by_folder.items()):
        out += [f"{folder}/"] if folder and len(some) >= _FEW else some
    return out
