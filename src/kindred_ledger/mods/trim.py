"""Trimming: a pack reduced to what really differs from the original of the build it was made for.

A pack that was made by copying everything holds old originals, which win over the files of the next build.
What is the same as the original goes, by content or by meaning, and so do files of the making; what the
descriptor names stays. What always holds: a trimmed pack does in the title what the whole one did with the
build it was made for, and trimming it again changes nothing.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from difflib import get_close_matches

from msgspec import Struct

from ..cards import PROGRAM, Card, Install
from ..cards.mods import Gathered, Mod, ModKind, read_mods
from ..changes import Changeset, fitted
from ..errors import KindredError, UsageError
from ..finding import Finding
from ..formats import parse_path, values_at
from ..ledger import Ledger, ReleasePlace
from ..places import (
    FILE,
    AnyPlace,
    FilePlace,
    Patterns,
    Place,
    SubPlace,
    Tree,
    as_place,
    as_target,
    capabilities_of,
    read_bytes,
    zip_of,
)
from ..planning.modded import kind_in
from ..planning.rearranged import Rearranged
from ..progress import Progress
from ..statement import Line, Outcome, Statement
from ..versions import Version
from ..wording import count
from .contents import content_faults, set_number
from .covering import Covering
from .likeness import is_same_picture, says_the_same

__all__ = ["TrimChoices", "trim_mod"]

_SHOWN = 5
_ALIKE = 0.75  # of two names, for the one to be proposed as the new name of the other


class TrimChoices(Struct, frozen=True):
    """How to trim: folders of the pack and those of the title they stand for, what else may go, what stays.

    `covers` overrules the card; without both, the names of files tell. `drop` are patterns of files of the
    making, beside those of the card; `keep` of files that stay, whatever they are like. With `pixels`
    pictures are compared by what they show.

    >>> choices = kl.TrimChoices(covers={"": "data"}, drop=("*.draft",))
    """

    covers: Mapping[str, str] = {}
    drop: tuple[str, ...] = ()
    keep: tuple[str, ...] = ()
    pixels: bool = False


class _Title(Struct, frozen=True):
    """The unmodified files of a build."""

    name: str
    place: Place
    tree: Tree
    version: Version | None


def trim_mod(
    pack: AnyPlace,
    original: Install | AnyPlace,
    *,
    ledger: Ledger,
    target: Install | AnyPlace | None = None,
    into: str | os.PathLike[str] = "",
    card: Card | None = None,
    of: Card | None = None,
    build: str | Version = "",
    choices: TrimChoices | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that reduces a pack to what differs from `original`, the build it was made for.

    The pack is a folder or a zip archive, changed in place; or `into` is a new folder or zip. `target` is
    the build it shall work with: what it has that the pack does nothing for is told, and what the pack has
    that it does not know any more; numbers that are mere labels are set to those of the target. `card` says
    what packs of the title are like; `of` is the card of the originals' title, if that is another; `build`
    is that of the target, if nothing else tells it.

    Raises:
        UsageError: several folders of the title could be meant, or a pattern fits nothing.

    >>> change = kl.trim_mod("modding/packs/dusk", "downloads/mossferry-1.4.zip", ledger=ledger, of=card)
    >>> len(change.before.files), len(change.after.files)
    (200, 6)
    """
    choices = choices or TrimChoices()
    cards = [each for each in (of, card) if each is not None]
    before = _title(original, cards, ledger, progress)
    after = _title(target, cards, ledger, progress) if target is not None else None
    opened = as_place(pack)
    whole = ledger.scan(opened, progress=progress)
    kind = _kind(opened, whole, card)
    made = Rearranged(opened, whole)
    root = _root(kind, whole)
    trimmed = _Trimmed(made, root, kind, before, choices)
    trimmed.drop_work()
    trimmed.drop_originals(progress or Progress())
    made.remove_empty({path.rpartition("/")[0] for path in trimmed.why}, "nothing is left in it")
    mod = trimmed.mod()
    findings = [*trimmed.findings]
    if after is not None:
        findings += trimmed.coverage(after)
    wanted = build or (after.version.text if after is not None and after.version else "")
    if wanted:
        findings += trimmed.bring_to(mod, kind.parse(str(wanted)))
    if into:
        return _elsewhere(trimmed, os.fspath(into), kind, findings)
    trimmed.set_root(opened)
    return _in_place(made, findings)


def _title(
    what: Install | AnyPlace, cards: Sequence[Card], ledger: Ledger, progress: Progress | None
) -> _Title:
    """Open originals: as a release of a title whose card is known, else as the files they are."""
    install = what if isinstance(what, Install) else None
    for card in cards if install is None else ():
        place = as_place(what)  # type: ignore[arg-type]
        version = place.release.version if isinstance(place, ReleasePlace) else ""
        with contextlib.suppress(UsageError):
            install = card.open_release(place, version=version)
            break
    place = install.place if install is not None else as_place(what)  # type: ignore[arg-type]
    tree = ledger.scan(place, progress=progress)
    if install is not None:
        inner = tree.under(PROGRAM)
        name = f"{install.card.name} {install.version or ''}".strip()
        return _Title(name, SubPlace(place, PROGRAM), inner, install.version)
    name = os.path.basename(place.location)
    tops = {path.partition("/")[0] for path in tree}
    if len(tops) == 1 and not tree.keys() & set(tree.files) & tops:  # all of it in one folder
        top = tops.pop()
        return _Title(name, SubPlace(place, top), tree.under(top), None)
    return _Title(name, place, tree, None)


def _kind(place: Place, tree: Tree, card: Card | None) -> ModKind:
    if card is not None and not card.mods:
        raise UsageError(
            f"the card of {card.name} describes no mods",
            where=card.path,
            remedy="Add a table [mods.NAME] to it; see docs/cards.md.",
        )
    return kind_in(place, tree, card)


def _root(kind: ModKind, tree: Tree) -> str:
    """Return the folder in a pack that its descriptor lies in, with a slash; "" for its top."""
    found = Gathered(kind, "", tree).descriptors
    folder = found[0].rpartition("/")[0] if found else ""
    return f"{folder}/" if folder else ""


class _Trimmed:
    """A pack as it would be, with what became of each of its files."""

    def __init__(
        self, made: Rearranged, root: str, kind: ModKind, original: _Title, choices: TrimChoices
    ) -> None:
        self.made, self.root, self._kind = made, root, kind
        self._original, self._choices = original, choices
        self._keep = Patterns(choices.keep) if choices.keep else None
        files = [path[len(root) :] for path in made.tree.files if path.startswith(root)]
        covers = choices.covers or kind.table.covers
        self._covering = (
            Covering({key: _in_program(value) for key, value in covers.items()})
            if covers
            else Covering.guess(files, original.tree.files)
        )
        self.why: dict[str, str] = {}  # what goes, by its path in the pack
        self.findings: list[Finding] = []
        folders = self._covering.folders
        if folders:
            told = ", ".join(f"{k or 'the pack'} for {v or 'all'}" for k, v in folders.items())
            what = f"compared with {original.name}; it stands in: {told}"
            self.findings.append(Finding.note("compared-with", what))
        else:
            what = f"no file of it has the name of one of {original.name}, so nothing was compared"
            self.findings.append(Finding.warning("not-compared", what, remedy=_SAY_WHERE))

    def mod(self) -> Mod:
        """Read the pack's descriptor as it would be."""
        folder = self.root.rstrip("/")
        inner = self.made.tree.under(folder) if folder else self.made.tree
        return read_mods(self.made, [Gathered(self._kind, folder, inner)])[0]

    def drop_work(self) -> None:
        """Have files of the making go."""
        more = Patterns(self._choices.drop) if self._choices.drop else None
        if more is not None:
            more.check_selected([path[len(self.root) :] for path in self.made.tree.files])
        named = self._named()
        for path in self.made.tree.files:
            inner = path[len(self.root) :]
            if path in named or self._kept(inner):
                continue
            if self._kind.is_work(inner) or (more is not None and more(inner)):
                self._drop(path, "a file of the making, which no pack needs")

    def drop_originals(self, progress: Progress) -> None:
        """Have everything go that is as in the original."""
        named = self._named()
        nodes = self._original.tree
        doubtful: list[tuple[str, str]] = []
        for path in self.made.tree.files:
            inner = path[len(self.root) :]
            twin = self._covering.original(inner) if path.startswith(self.root) else ""
            there = nodes.get(twin)
            if there is None or there.kind != FILE or path in named or self._kept(inner):
                continue
            own = self.made.node(path)
            if there.digest is not None and own is not None and there.digest == own.digest:
                self._drop(path, f"as in {self._original.name}")
            elif there.digest is not None:
                doubtful.append((path, twin))
        with progress.task("comparing", total=len(doubtful)) as task:
            for path, twin in doubtful:
                self._compare(path, twin)
                task.advance()

    def _kept(self, inner: str) -> bool:
        return self._keep is not None and self._keep(inner)

    def _compare(self, path: str, twin: str) -> None:
        """Drop a file that says the same in other bytes."""
        is_picture = self._choices.pixels and path.lower().endswith((".png", ".bmp", ".gif"))
        if not is_picture and not _may_be_text(path):
            return
        try:
            one, other = read_bytes(self.made, path), read_bytes(self._original.place, twin)
        except KindredError as odd:  # only its digest is on the shelf
            told = f"it could not be compared by its meaning: {odd.what}"
            self.findings.append(Finding.note("not-compared", told, where=path))
            return
        if is_picture and is_same_picture(one, other):
            self._drop(path, f"the same pixels as in {self._original.name}")
        elif kind := says_the_same(path, one, other):
            self._drop(path, f"says the same as in {self._original.name} ({kind})")

    def _named(self) -> set[str]:
        """Return what stays whatever it is like: the descriptor, what it names, the picture."""
        mod = self.mod()
        table = self._kind.table
        names = [mod.descriptor, table.picture.file if table.picture is not None else ""]
        keys = [*table.parts, *([table.picture.key] if table.picture and table.picture.key else ())]
        for key in keys:
            names += [v for v in values_at(mod.values, parse_path(key)) if isinstance(v, str)]
        return {self.root + name.replace("\\", "/") for name in names if name}

    def _drop(self, path: str, why: str) -> None:
        self.why[path] = why
        self.made.remove(path, why)

    def bring_to(self, mod: Mod, build: Version) -> Iterator[Finding]:
        """Set the numbers that are mere labels to those of the target; yield what does not fit it."""
        if not mod.descriptor:
            return
        for number in self._kind.table.numbers:
            wanted = self._kind.values_of(number, build)
            if not (number.label and wanted):
                continue
            found = list(values_at(mod.values, parse_path(number.key)))
            if found and found[0] != wanted[0]:
                self._set(mod, number.key, wanted[0])
        again = self.mod()
        folder = self.root.rstrip("/")
        inner = self.made.tree.under(folder) if folder else self.made.tree
        each = Gathered(self._kind, folder, inner)
        for fault in content_faults(each, again, self.made, build):
            if fault.finding.code.startswith("number-"):
                yield fault.finding
        if again.builds is not None and build not in again.builds:
            told = f"it says that it is for {again.builds}, and {build} is not among them"
            yield Finding.warning(
                "mod-unfit",
                told,
                where=self.root + again.descriptor,
                remedy="Say so once you have tried it.",
            )

    def _set(self, mod: Mod, key: str, value: int) -> None:
        path = self.root + mod.descriptor
        set_number(self.made, path, self._kind.table.codec, key, value)

    def coverage(self, target: _Title) -> Iterator[Finding]:
        """Yield what the target has that the pack does nothing for, and what the pack has for nothing."""
        old, new = self._original.tree, target.tree
        own = {
            path: twin
            for path in self.made.tree.files
            if path.startswith(self.root)
            and (twin := self._covering.original(path[len(self.root) :]))
        }
        twins = set(own.values())
        arrived = [
            path
            for path in new.files
            if path not in old and self._covering.covers(path) and path not in twins
        ]
        if arrived:
            told = (
                f"{target.name} has {count(len(arrived), 'file')} more, for which it does nothing:"
            )
            yield Finding.note("not-covered", f"{told} {_by_folder(arrived)}")
        changed = [
            path
            for path, twin in own.items()
            if twin in old and twin in new and old[twin].digest != new[twin].digest
        ]
        for path in changed:
            told = f"the original of it changed in {target.name}, and yours would hide that"
            yield Finding.warning("original-changed", told, where=path, remedy=_REAPPLY)
        gone = [path for path, twin in own.items() if twin in old and twin not in new]
        for path in gone:
            likely = _new_names(own[path], old, new, arrived)
            told = f"{target.name} does not know {own[path]} any more, so it does nothing"
            if likely:
                told += f"; likely new names: {', '.join(likely)}"
            yield Finding.warning("not-known-any-more", told, where=path, remedy=_RENAME)

    def set_root(self, place: Place) -> None:
        """Have an archive hold the pack where it is looked for: at the top, or in one folder."""
        if not capabilities_of(place).is_archive:
            return
        wanted = _stem(place) + "/" if self._kind.table.wrapped else ""
        if self.root == wanted:
            return
        if self.root:
            self.made.move(self.root.rstrip("/"), wanted.rstrip("/"), "packed as it is looked for")
        else:
            for top in sorted({path.partition("/")[0] for path in self.made.tree}):
                self.made.move(top, f"{wanted}{top}", "packed as it is looked for")
        self.root = wanted


_SAY_WHERE = "Say which folder of the title it stands for: `covers=FOLDER`."
_REAPPLY = "Make yours anew from the new original, or bring your edits to it: kindred reapply"
_RENAME = "Give it the new name, or take it out."


def _in_program(folder: str) -> str:
    return folder.strip("/").removeprefix(PROGRAM).strip("/")


def _may_be_text(path: str) -> bool:
    return path.lower().endswith(
        (".json", ".jsonc", ".xml", ".ini", ".cfg", ".toml", ".yaml", ".yml")
    )


def _by_folder(paths: Sequence[str]) -> str:
    folders: dict[str, int] = {}
    for path in paths:
        folder = path.rpartition("/")[0]
        folders[folder] = folders.get(folder, 0) + 1
    told = [f"{folder or '(top)'} ({number})" for folder, number in folders.items()]
    more = f" and {len(told) - _SHOWN} more folders" if len(told) > _SHOWN else ""
    return ", ".join(told[:_SHOWN]) + more


def _new_names(path: str, old: Tree, new: Tree, arrived: Iterable[str]) -> list[str]:
    """Return what a file of the original may be called in the target: the same content, or a name alike."""
    same = [each for each in arrived if new[each].digest == old[path].digest]
    if same:
        return [f"{each} (the same content)" for each in same[:_SHOWN]]
    end = path.rpartition(".")[2]
    some = [each for each in arrived if each.rpartition(".")[2] == end]
    return get_close_matches(path, some, 2, _ALIKE)


def _stem(place: Place) -> str:
    return os.path.basename(place.location).rpartition(".")[0]


def _in_place(made: Rearranged, findings: Sequence[Finding]) -> Changeset:
    """Return the change of the pack itself."""
    place = made.base
    summary = _summary(made)
    return fitted(
        Changeset(place, "trim", summary, made.before, made.actions(), findings=tuple(findings))
    )


def _elsewhere(
    trimmed: _Trimmed, into: str, kind: ModKind, findings: Sequence[Finding]
) -> Changeset:
    """Return the change that makes the trimmed pack in a new folder or archive."""
    made = trimmed.made
    inside = {
        path[len(trimmed.root) :]: path
        for path in made.tree
        if path.startswith(trimmed.root) and path != trimmed.root.rstrip("/")
    }
    if into.lower().endswith(".zip"):
        file = FilePlace(into)
        start = f"{file.name.rpartition('.')[0]}/" if kind.table.wrapped else ""
        packed = {start + inner: path for inner, path in inside.items()}
        tree = Tree({name: made.tree[path] for name, path in packed.items()})
        new = Rearranged(file, file.survey())
        data = zip_of(tree, lambda name: [read_bytes(made, packed[name])])
        new.put(file.name, data, "the trimmed pack")
    else:
        folder = as_target(into)
        new = Rearranged(folder, folder.survey())
        for inner, path in inside.items():
            new.put_from(inner, made.tree[path], made, path, "differs from the original")
    return fitted(
        Changeset(
            new.base,
            "trim",
            f"{_summary(made)}, into {into}",
            new.before,
            new.actions(),
            statements=(_books(trimmed),),
            findings=tuple(findings),
        )
    )


def _summary(made: Rearranged) -> str:
    name, kept = os.path.basename(made.location), len(made.tree.files)
    return f"trim {name} from {count(len(made.before.files), 'file')} to {kept}"


def _books(trimmed: _Trimmed) -> Statement:
    """Return the account of the pack: what of it stays and what goes, with the reason."""
    made = trimmed.made
    lines = []
    for path in made.before.leaves:
        if path in trimmed.why:
            lines.append(Line(Outcome.REMOVED, path, trimmed.why[path]))
        else:
            same = made.tree.get(path) == made.before[path]
            lines.append(Line(Outcome.UNCHANGED if same else Outcome.CHANGED, path))
    whole = Statement(os.path.basename(made.location), "files", tuple(lines))
    return whole.balanced(made.before.leaves, made.tree.leaves)
