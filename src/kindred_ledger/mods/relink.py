"""Relinking: references of a project that lead nowhere, put onto what they meant.

What always holds: a reference is mended only if one candidate has more to show for it than every other; the
rest is listed with what speaks for each, and asked. A path that was relative stays relative, and one that was
written with backslashes stays so. Put back onto the old place, the files are what they were, to the byte.
"""

from __future__ import annotations

import os
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence

from msgspec import Struct

from ..cards import Card
from ..changes import Changeset, fitted
from ..errors import UsageError
from ..finding import Finding
from ..ledger import Ledger
from ..places import (
    FILE,
    FilePlace,
    FolderPlace,
    Place,
    Tree,
    as_place,
    digest_of,
    folded,
    refusals,
)
from ..planning.rearranged import Rearranged
from ..progress import Progress
from ..statement import Line, Outcome, Statement
from ..suggestions import path_meant
from ..wording import count
from .declared import Declared, Wanted, open_project
from .references import Reference, put_anew, references_in

__all__ = ["Candidate", "Relinked", "find_broken", "relink"]

_FOREIGN = ("drive", "share", "variable")  # which this machine cannot follow
_SHOWN = 4
_MOST_ENTRIES = 50  # of the ledger that are asked what a file was
_NUMBERS = re.compile(r"[-_. ]?v?\d+(?:[._]\d+)*", re.I)


class Candidate(Struct, frozen=True):
    """A file that a reference may mean, and what speaks for it.

    `same_content`: it is what the ledger has of the old place; `common` is how many parts of the path agree
    from the end; `near` how many other references of the same old folder are found in its folder; `holds` the
    library that is wanted, and that it holds by its own words.
    """

    path: str
    same_content: bool = False
    common: int = 0
    near: int = 0
    other_version: bool = False
    holds: str = ""

    @property
    def weight(self) -> tuple[bool, bool, int, int]:
        """What candidates are ranked by."""
        return bool(self.holds), self.same_content, self.common, self.near

    @property
    def evidence(self) -> str:
        """What speaks for it, in words."""
        told = [f"it holds {self.holds}"] if self.holds else []
        told += ["the same content"] if self.same_content else []
        told.append("perhaps another version" if self.other_version else "the same name")
        if self.common > 1:
            told.append(f"{self.common} parts of the path agree")
        if self.near:
            told.append(f"{count(self.near, 'neighbour')} found there")
        return ", ".join(told)


class Relinked(Struct, frozen=True):
    """A reference that leads nowhere, what it may mean, and what it becomes; "" if that is not clear."""

    reference: Reference
    candidates: tuple[Candidate, ...]
    becomes: str = ""

    @property
    def why(self) -> str:
        """Why it becomes that, or nothing."""
        if self.becomes:
            chosen = self.candidates[0] if self.candidates else None
            return chosen.evidence if chosen is not None else "you said so"
        return (
            "nothing like it was found" if not self.candidates else "it is not clear which is meant"
        )


def relink(
    project: str | os.PathLike[str],
    search: Sequence[str | os.PathLike[str]],
    *,
    ledger: Ledger,
    card: Card | None = None,
    choices: Mapping[str, str] | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that mends the references of a project (a folder, or one file) that lead nowhere.

    They are looked for in the folders `search`. With a `card` that describes projects the libraries they list
    are told by name and version, and ids that lead nowhere are found, too. `choices` says for a reference, or
    for a folder that several begin with, what it shall be.

    Raises:
        UsageError: there is no such file or folder, or a choice is of no reference.

    >>> project = "modding/quaywright/projects/delta"
    >>> kl.relink(project, ["modding/quaywright/libraries"], ledger=ledger).summary
    'mend 3 of 3 references of delta that lead nowhere'
    """
    place = open_project(project)
    before = ledger.scan(place, progress=progress)
    declared = Declared(place, before, card)
    references, broken = find_broken(
        place, before, search, ledger=ledger, choices=choices or {}, wanted=declared.wanted
    )
    made = Rearranged(place, before)
    by_file: dict[str, dict[Reference, str]] = {}
    for each in broken:
        if each.becomes:
            by_file.setdefault(each.reference.file, {})[each.reference] = each.becomes
    contents = {path: b"".join(blocks) for path, blocks in place.read(by_file)} if by_file else {}
    again: dict[str, list[Reference]] = {}
    for path, changes in by_file.items():
        data = put_anew(path, contents[path], changes)
        made.put(path, data, f"{count(len(changes), 'reference')} mended")
        again[path] = references_in(path, data)
    mended = sum(bool(each.becomes) for each in broken)
    name = os.path.basename(os.path.abspath(os.fspath(project)))
    told = f"mend {mended} of {count(len(broken), 'reference')} of {name} that lead nowhere"
    return fitted(
        Changeset(
            place=place,
            operation="relink",
            summary=told if broken else f"all references of {name} lead somewhere",
            before=before,
            actions=made.actions(),
            statements=(_books(name, references, broken, again),),
            findings=(*_told(broken), *declared.findings, *_not_as_listed(place, declared.wanted)),
        )
    )


def find_broken(
    place: Place,
    tree: Tree,
    search: Iterable[str | os.PathLike[str]],
    *,
    ledger: Ledger | None = None,
    choices: Mapping[str, str] = {},
    wanted: Mapping[tuple[str, str], Wanted] = {},
) -> tuple[list[Reference], list[Relinked]]:
    """Return all references of a project, and those that lead nowhere with what they may mean."""
    root = (
        place.location
        if isinstance(place, FolderPlace) and not isinstance(place, FilePlace)
        else ""
    )
    root = root or os.path.dirname(place.location)
    found = _Files(search)
    references: list[Reference] = []
    for path, blocks in place.read(tree.files):
        references += references_in(path, b"".join(blocks))
    references = [each for each in references if each.form != "name" or found.has(each.name)]
    broken = [each for each in references if not _resolves(root, each)]
    _check_choices(choices, broken)
    known = _Known(ledger)
    homes = _homes(found, broken)
    bases = _Bases(root, references)
    return references, [
        _judged(each, bases, found, known, homes, choices, wanted.get((each.file, each.field)))
        for each in broken
    ]


class _Bases:
    """From where the relative references of a project are meant: their own file, or the project's folder."""

    def __init__(self, root: str, references: Sequence[Reference]) -> None:
        self.root = root
        self._of_file = self._of_root = 0
        for each in references:
            if "/" in each.file and each.form in ("relative", "name"):
                own, top = (os.path.exists(path) for path in _meant(root, each))
                self._of_file += own and not top
                self._of_root += top and not own

    def of(self, each: Reference) -> str | None:
        """Return the folder that a reference is meant from; None if that is not clear."""
        own = os.path.join(self.root, *each.file.split("/")[:-1])
        if "/" not in each.file or (self._of_file and not self._of_root):
            return own
        if self._of_root and not self._of_file:
            return self.root
        return own if each.plain.startswith("../") and not self._of_root else None


def _check_choices(choices: Mapping[str, str], broken: Sequence[Reference]) -> None:
    texts = [each.text for each in broken]
    for old in choices:
        if not any(text == old or _below(text, old) is not None for text in texts):
            raise UsageError(
                f"no reference that leads nowhere is, or begins with, {old!r}",
                remedy=path_meant(old, texts) or "List them first, without a choice.",
            )


def _below(text: str, folder: str) -> str | None:
    """Return what follows a folder in a text; None if it does not begin with it."""
    plain, start = text.replace("\\", "/"), folder.replace("\\", "/").rstrip("/") + "/"
    return plain[len(start) :] if plain.startswith(start) else None


def _resolves(root: str, each: Reference) -> bool:
    if each.form in _FOREIGN and not (each.form == "drive" and os.name == "nt"):
        return False
    if each.form == "absolute" or each.form == "drive":
        return os.path.exists(each.text)
    return any(os.path.exists(path) for path in _meant(root, each))


def _meant(root: str, each: Reference) -> list[str]:
    """Return where a relative reference may lead: from its file, or from the project's folder."""
    folder = os.path.join(root, *each.file.split("/")[:-1])
    return [os.path.normpath(os.path.join(top, *each.plain.split("/"))) for top in (folder, root)]


class _Files:
    """The files of some folders, by name."""

    def __init__(self, folders: Iterable[str | os.PathLike[str]]) -> None:
        self._by_name: dict[str, list[str]] = {}
        self._by_stem: dict[str, list[str]] = {}
        for folder in folders:
            place = as_place(folder)
            if not isinstance(place, FolderPlace):
                raise UsageError("a folder is needed here", where=place.location)
            for path, node in place.survey().items():
                if node.kind == FILE:
                    full = os.path.join(place.root, *path.split("/"))
                    name = path.rpartition("/")[2]
                    self._add(self._by_name, folded(name), full)
                    self._add(self._by_stem, _without_numbers(name), full)

    @staticmethod
    def _add(index: dict[str, list[str]], key: str, full: str) -> None:
        if full not in index.setdefault(key, []):
            index[key].append(full)

    def has(self, name: str) -> bool:
        """Tell whether there is a file of a name."""
        return folded(name) in self._by_name

    def named(self, name: str) -> list[str]:
        """Return the files of a name."""
        return self._by_name.get(folded(name), [])

    def versions(self, name: str) -> list[str]:
        """Return the files whose name differs in numbers only."""
        same = set(self.named(name))
        return [each for each in self._by_stem.get(_without_numbers(name), ()) if each not in same]


def _without_numbers(name: str) -> str:
    stem, dot, extension = name.rpartition(".")
    return folded(_NUMBERS.sub("", stem) + dot + extension)


class _Known:
    """What the ledger knows of the files that references meant."""

    def __init__(self, ledger: Ledger | None) -> None:
        self._ledger = ledger
        self._trees: list[tuple[Mapping[str, str], Tree]] | None = None

    def digests(self, paths: Iterable[str]) -> set[bytes]:
        """Return the digests that files at some places had."""
        out = set()
        for path in paths:
            for roots, tree in self._all():
                for name, root in roots.items():
                    if path.startswith(root + os.sep):
                        inner = path[len(root) + 1 :].replace(os.sep, "/")
                        node = tree.get(f"{name}/{inner}" if name else inner)
                        if node is not None and node.digest is not None:
                            out.add(node.digest)
        return out

    def _all(self) -> list[tuple[Mapping[str, str], Tree]]:
        if self._trees is None:
            entries = self._ledger.entries() if self._ledger is not None else []
            self._trees = [
                (entry.roots, self._ledger.tree(entry))  # type: ignore[union-attr]
                for entry in reversed(entries[-_MOST_ENTRIES:])
            ]
        return self._trees


def _homes(found: _Files, broken: Sequence[Reference]) -> dict[str, Counter[str]]:
    """Return for each old folder how many of its references have a file of their name in which folder."""
    homes: dict[str, Counter[str]] = {}
    seen = set()
    for each in broken:
        old = each.plain.rpartition("/")[0]
        if (old, each.name) not in seen:
            seen.add((old, each.name))
            folders = {os.path.dirname(path) for path in found.named(each.name)}
            homes.setdefault(old, Counter()).update(folders)
    return homes


def _judged(
    each: Reference,
    bases: _Bases,
    found: _Files,
    known: _Known,
    homes: Mapping[str, Counter[str]],
    choices: Mapping[str, str],
    wanted: Wanted | None,
) -> Relinked:
    for old, new in choices.items():
        below = _below(each.text, old)
        if each.text == old or below is not None:
            return Relinked(
                each, (), new if below is None else each.with_target(f"{new.rstrip('/')}/{below}")
            )
    if each.form == "variable":
        return Relinked(each, ())
    meant = [each.text] if each.form == "absolute" else _meant(bases.root, each)
    digests = known.digests(meant)
    near = homes.get(each.plain.rpartition("/")[0], Counter())
    some = [
        Candidate(
            path,
            bool(digests) and _digest(path) in digests,
            _common(each.plain, path),
            near[os.path.dirname(path)] - 1,
            *_as_wanted(each, path, wanted),
        )
        for path in found.named(each.name)
    ]
    some.sort(key=lambda one: one.weight, reverse=True)
    if some and some[0].other_version and not some[0].same_content:
        return Relinked(each, tuple(some))
    others = [Candidate(path, other_version=True) for path in found.versions(each.name)]
    sure = bool(some) and (len(some) == 1 or some[0].weight > some[1].weight)
    candidates = (*some, *others)
    base = bases.of(each)
    if not sure or each.form in _FOREIGN or (each.form != "absolute" and base is None):
        return Relinked(each, candidates)
    return Relinked(each, candidates, _written(each, base or "", some[0].path))


def _digest(path: str) -> bytes:
    with refusals(path), open(path, "rb") as file:
        return digest_of(iter(lambda: file.read(1 << 20), b""))[0]


def _common(plain: str, path: str) -> int:
    """Return how many parts of two paths agree, from the end."""
    own = [part for part in plain.split("/") if part not in ("", ".", "..")][::-1]
    other = path.replace(os.sep, "/").split("/")[::-1]
    number = 0
    while number < min(len(own), len(other)) and folded(own[number]) == folded(other[number]):
        number += 1
    return number


def _as_wanted(each: Reference, path: str, wanted: Wanted | None) -> tuple[bool, str]:
    """Return whether a file is perhaps another version, and the library that is wanted if it holds it."""
    told = wanted.held_by(path) if wanted is not None else ""
    if told:
        return told == "other", str(wanted) if told == "right" else ""
    return not _same_numbers(each.plain, path), ""


def _not_as_listed(place: Place, wanted: Mapping[tuple[str, str], Wanted]) -> Iterator[Finding]:
    """Yield the libraries that are where a project says, and are not what it says."""
    root = place.location if not isinstance(place, FilePlace) else os.path.dirname(place.location)
    contents = {path: b"".join(blocks) for path, blocks in place.read({file for file, _ in wanted})}
    for file, data in contents.items():
        for each in references_in(file, data):
            library = wanted.get((file, each.field))
            if library is None or not _resolves(root, each):
                continue
            paths = [each.text] if each.form == "absolute" else _meant(root, each)
            there = next((path for path in paths if os.path.exists(path)), "")
            if there and library.held_by(there) == "other":
                told = f"{each.text} is there, and is not {library}"
                yield Finding.warning(
                    "reference-other-version", told, where=file, field=each.field, remedy=_SWAP
                )


_SWAP = "Relink it to the right one, or swap the library: kindred mod swap"


def _same_numbers(plain: str, path: str) -> bool:
    """Tell whether every part of a path that has a number in it stands in another path, too.

    `parts/piers-1.2/piers.parts` is not `libraries/piers-2.0/piers.parts`, whatever the names are like.
    """
    there = {folded(part) for part in path.replace(os.sep, "/").split("/")}
    numbered = [part for part in plain.split("/") if any(sign.isdigit() for sign in part)]
    return all(folded(part) in there for part in numbered)


def _written(each: Reference, base: str, path: str) -> str:
    """Return the text by which a reference names a file on disk, in the way it is written."""
    if each.form == "absolute":
        return path
    return each.with_target(os.path.relpath(path, base).replace(os.sep, "/"))


def _told(broken: Sequence[Relinked]) -> Iterator[Finding]:
    for each in broken:
        reference = each.reference
        where = {"where": reference.file, "field": reference.field}
        told = f"{reference.text} is not there"
        if each.becomes:
            continue
        if reference.form in _FOREIGN:
            what = {
                "drive": "a drive letter",
                "share": "a share of the network",
                "variable": "a variable of the system",
            }[reference.form]
            told = f"{reference.text} begins with {what}, which is not followed here"
            yield Finding.warning("reference-elsewhere", told, remedy=_say(each), **where)
        elif any(not one.other_version for one in each.candidates):
            yield Finding.warning(
                "reference-ambiguous",
                f"{told}, and may be one of several",
                remedy=_say(each),
                **where,
            )
        elif each.candidates:
            told += ", and there are other versions of it"
            yield Finding.warning("reference-other-version", told, remedy=_say(each), **where)
        else:
            told += ", and nothing like it was found"
            yield Finding.warning("reference-broken", told, remedy=_NOTHING, **where)


_NOTHING = "Search more folders, or say where it is: `choices={OLD: NEW}`."


def _say(each: Relinked) -> str:
    some = [f"{one.path} ({one.evidence})" for one in each.candidates[:_SHOWN]]
    more = f"\n… and {len(each.candidates) - _SHOWN} more" if len(each.candidates) > _SHOWN else ""
    listed = "\n".join(some)
    return f"Say which: `choices={{OLD: NEW}}`.\n{listed}{more}".rstrip()


def _books(
    name: str,
    references: Sequence[Reference],
    broken: Sequence[Relinked],
    again: Mapping[str, Sequence[Reference]],
) -> Statement:
    """Return the account of all references, read anew from the files as they will be."""
    judged = {each.reference: each for each in broken}
    lines = []
    for each in references:
        found = judged.get(each)
        if found is None:
            lines.append(Line(Outcome.UNCHANGED, each.item))
        elif found.becomes:
            became = f"{each.file}: {each.field}: {found.becomes}"
            told = f"now {found.becomes}: {found.why}"
            lines.append(Line(Outcome.CHANGED, each.item, told, became))
        else:
            lines.append(Line(Outcome.UNCHANGED, each.item, found.why))
    kept = [each for each in references if each.file not in again]
    fields = {(each.file, each.field, each.at >= 0) for each in references}
    read = [
        each
        for some in again.values()
        for each in some
        if (each.file, each.field, each.at >= 0) in fields
    ]
    after = [each.item for each in (*kept, *read)]
    return Statement(name, "references", tuple(lines)).balanced(
        [each.item for each in references], after
    )
