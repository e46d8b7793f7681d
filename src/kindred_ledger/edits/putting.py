"""Putting edits: an edit set brought to the files of any release.

Where the release the set was made on is at hand, its files with the edits in them are *mine*, and all is as
in `reapply`, across versions of formats, too. Else both sides are made from the new file: the one says what
stood there before each edit, the other what it says now; so an edit that stands there already is superseded,
and one whose place says something else is in conflict.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import chain
from typing import Any

from blake3 import blake3
from msgspec import Struct
from msgspec.structs import replace

from ..cards import Card, Install
from ..changes import Changeset
from ..convert import format_version
from ..errors import FormatError, KindredError, UsageError
from ..finding import Finding, Severity
from ..formats import Document, Text
from ..ledger import Ledger, ReleasePlace
from ..merge import (
    ABSENT,
    Difference,
    Index,
    Named,
    are_alike,
    lines_of,
    name_of,
    put_differences,
    read_at,
    resolved,
    values_of,
    write_at,
)
from ..places import FILE, AnyPlace, Capable, MemoryPlace, Node, Place, Tree, read_bytes
from ..planning.reading import Reading, read_as
from ..progress import Progress
from .edit_set import EditedFile, EditSet, LineEdit, ValueEdit
from .reapply import ReapplyChoices, Target, card_of, reapply_sides
from .sides import Side, opened_side

__all__ = ["put_edits"]

_BESIDE = "Get the folder beside the set, too: it has the set's name, without .toml."


def put_edits(
    edits: EditSet,
    theirs: Install | AnyPlace,
    *,
    ledger: Ledger,
    old: Install | AnyPlace | None = None,
    into: Install | AnyPlace | None = None,
    card: Card | None = None,
    choices: ReapplyChoices | None = None,
    follow: bool = False,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that brings an edit set to a release: `theirs` in place, or `into` a folder.

    `old` is the release the set was made on; without it the shelf is asked. With `follow` an edit of a
    record that has another name now is made where a single record is like it.

    Raises:
        UsageError: the set is of another title, or cannot be put without its base.
        PlaceError: a side cannot be read.

    >>> edits = kl.take_edits(install, old="downloads/mossferry-1.4.zip", ledger=ledger)
    >>> change = kl.put_edits(edits, "downloads/mossferry-2.0.zip", ledger=ledger, into="new", card=card)
    >>> change.statements[0].counted_before, change.conflicts
    (2, ())
    """
    choices = choices or ReapplyChoices()
    card = card or card_of(theirs, into)
    release = theirs.release.title if isinstance(theirs, ReleasePlace) else ""
    _check_title(edits, card.title if card is not None else release)
    if lacking := [each for each in edits.findings() if each.severity is Severity.ERROR]:
        raise UsageError(lacking[0].what, where=lacking[0].where, remedy=_BESIDE)
    new = opened_side(theirs, card, ledger=ledger, progress=progress)
    base = _base(edits, old, card, ledger=ledger, progress=progress)
    made = _Sides(edits, base, new, card, follow=follow)
    for each in edits.files:
        made.file(each)
    target = Target.of(into, new, card, ledger=ledger, progress=progress)
    return reapply_sides(
        made.sides(),
        target,
        card,
        replace(choices, whole=True),
        summary=f"put {edits} onto {new.name}",
        operation="put edits",
        findings=(*made.findings, *edits.findings()),
    )


def _check_title(edits: EditSet, title: str) -> None:
    if title and edits.title and title != edits.title:
        raise UsageError(
            f"this edit set is of {edits.title}, and the release of {title}",
            remedy="Give a release of the same title.",
        )


def _base(
    edits: EditSet,
    base: Install | AnyPlace | None,
    card: Card | None,
    *,
    ledger: Ledger,
    progress: Progress | None,
) -> Side | None:
    """Return the release a set was made on: the one given, else the one on the shelf that has its files."""
    if base is not None:
        return opened_side(base, card, ledger=ledger, progress=progress)
    if card is None:
        return None
    wanted = {
        each.file.removeprefix("program/"): each.before for each in edits.files if each.before
    }
    for release in reversed(ledger.shelf.releases(card.title)):
        files = ledger.shelf.files(release)
        if wanted and all(files.get(path) == digest for path, digest in wanted.items()):
            place = ledger.shelf.place(release)
            if all(path in place.held for path in wanted):
                return opened_side(place, card, ledger=ledger, progress=progress)
    return None


class _Sides:
    """Base and mine, made of an edit set for one release; all that has no edits is as in the release."""

    def __init__(
        self, edits: EditSet, base: Side | None, theirs: Side, card: Card | None, *, follow: bool
    ) -> None:
        self._edits, self._base, self._theirs, self._card = edits, base, theirs, card
        self._follow = follow
        self._old: dict[str, bytes] = {}
        self._new: dict[str, bytes] = {}
        self._nodes: tuple[dict[str, Node | None], dict[str, Node | None]] = ({}, {})
        self.findings: list[Finding] = []
        if base is not None:
            self.findings.append(Finding.note("compared-with", f"made on {base.name}"))

    def sides(self) -> tuple[Side, Side, Side]:
        """Return base, mine and theirs."""
        made = []
        for name, contents, nodes in zip(
            ("the base", "your edits"), (self._old, self._new), self._nodes, strict=True
        ):
            place = _Made(contents, self._theirs.place)
            tree = dict(self._theirs.tree.items())
            for path, node in nodes.items():
                if node is None:
                    tree.pop(path, None)
                else:
                    tree[path] = node
            made.append(Side(name, place, Tree(tree), Tree(tree)))
        return made[0], made[1], self._theirs

    def file(self, each: EditedFile) -> None:
        """Make both sides of one file."""
        path = each.file
        there = self._theirs.tree.get(path)
        if each.kind == "added":
            self._put(path, None, self._edits.contents.get(each.after), each.after)
            return
        if each.kind in ("removed", "whole"):
            was = self._content(path, each.before)
            after = None if each.kind == "removed" else each.after
            self._put(path, was, self._edits.contents.get(each.after), after, before=each.before)
            return
        base = self._content(path, each.before, of_base=True)
        if base is None and (there is None or there.kind != FILE):
            what = "it is not among the new originals, so its edits have no place"
            self.findings.append(
                Finding.conflict("file-missing", what, where=path, remedy=_DROP.format(path=path))
            )
            return
        try:
            old, new = self._rebuilt(each, base)
        except KindredError as error:
            where = f"{error.where}: " if error.where and error.where != path else ""
            what = f"its edits cannot be put here: {where}{error.what}"
            self.findings.append(
                Finding.conflict(
                    "cannot-be-put",
                    what,
                    where=path,
                    remedy=error.remedy or _DROP.format(path=path),
                )
            )
            return
        self._put(path, old, new, blake3(new).hexdigest())

    def _content(self, path: str, digest: str, *, of_base: bool = False) -> bytes | None:
        """Return a content by its digest, from the base or, if that will do, the release itself."""
        sides = [self._base] if of_base else [self._base, self._theirs]
        for side in sides:
            node = side.tree.get(path) if side is not None else None
            here = node.digest.hex() if node is not None and node.digest is not None else ""
            if side is not None and here == digest != "":
                return read_bytes(side.place, path)
        return None

    def _put(
        self,
        path: str,
        old: bytes | None,
        new: bytes | None,
        after: str | None,
        *,
        before: str = "",
    ) -> None:
        for contents, nodes, data, digest in (
            (self._old, self._nodes[0], old, before),
            (self._new, self._nodes[1], new, after or ""),
        ):
            if data is not None:
                contents[path] = data
                nodes[path] = Node(FILE, len(data), blake3(data).digest())
            elif digest:  # it was something, and its content is not here
                nodes[path] = Node(FILE, 0, bytes.fromhex(digest))
            else:
                nodes[path] = None

    def _rebuilt(self, each: EditedFile, base: bytes | None) -> tuple[bytes, bytes]:
        """Return the file before and after the edits; without the base both made from the new one."""
        path = each.file
        start = base if base is not None else read_bytes(self._theirs.place, path)
        if each.kind == "lines":
            edits = [one for one in self._edits.lines if one.file == path]
            return start if base is not None else _lines(start, edits, back=True), _lines(
                start, edits, back=False
            )
        reading = read_as(path, (start,), self._card)
        if each.codec and reading.codec != each.codec:
            raise FormatError(f"it was read as {each.codec}, and is {reading.codec} here")
        if base is None:
            _check_format(each, reading, start)
        values = [one for one in self._edits.values if one.file == path]
        found = self._found(values, values_of(reading.decode(start)), at_base=base is not None)
        return (
            start if base is not None else _with(reading, start, found, "before"),
            _with(reading, start, found, "after"),
        )

    def _found(
        self, values: Sequence[ValueEdit], here: Any, *, at_base: bool
    ) -> list[Difference | _Whole]:
        """Return the edits as differences of what is here: of a record that is gone, the record whole."""
        known = {record.at: record.content for record in self._edits.records}
        gone: dict[str, list[Difference]] = {}
        index: Index = {}
        out: list[Difference | _Whole] = []
        for each in (value.difference() for value in values):
            record = _record(each)
            if at_base or record is None or resolved(here, record, index) is not None:
                out.append(each)
                continue
            moved = self._likely(values[0].file, record, known.get(write_at(record)), here)
            if moved is not None:
                out.append(replace(each, at=(*moved, *each.at[len(record) :])))
            else:
                gone.setdefault(write_at(record), []).append(each)
        for text, some in gone.items():
            if text not in known:
                raise FormatError("the record it lies in is not there", where=text)
            out.append(_whole(text, known[text], some))
        return out

    def _likely(self, path: str, record: tuple[Any, ...], content: Any, here: Any) -> Any:
        """Return the place of the only record that is like one that is gone, if it may be taken."""
        listed = resolved(here, record[:-1])
        if listed is None or not isinstance(content, dict):
            return None
        value = here
        for part in listed:
            try:
                value = value[part]
            except (KeyError, IndexError, TypeError):
                return None
        named = record[-1]
        if not isinstance(value, list):
            return None
        found = [
            one
            for one in value
            if isinstance(one, dict) and named.field in one and are_alike(content, one, named.field)
        ]
        if len(found) != 1:
            return None
        other = found[0][named.field]
        other = other[0] if isinstance(other, list) and len(other) == 1 else other
        moved = (*record[:-1], Named(named.field, other))
        told = f"{name_of(record)} is not there any more; {name_of(moved)} is like it"
        if self._follow:
            self.findings.append(Finding.note("found-by-likeness", told, where=path))
            return moved
        self.findings.append(
            Finding.warning(
                "like-another", told, where=path, remedy="To edit that one: `follow=True`"
            )
        )
        return None


_DROP = "Leave its edits out: kindred edits drop SET {path}"


class _Whole(Struct, frozen=True):
    """A record that is gone, as it was before and after the edits of its fields."""

    difference: Difference


def _whole(at: str, content: Any, some: Sequence[Difference]) -> _Whole:
    """Return a record before and after some edits inside it."""
    place = read_at(at)
    after = _deep(content)
    for each in some:
        _put_into(after, each.at[len(place) :], each.after)
    return _Whole(Difference(place, content, after))


def _deep(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _deep(inner) for key, inner in value.items()}
    return [_deep(inner) for inner in value] if isinstance(value, list) else value


def _put_into(value: Any, at: Sequence[Any], wanted: Any) -> None:
    *before, last = at
    for part in before:
        value = value.setdefault(part, {}) if isinstance(value, dict) else value[part]
    if wanted is not ABSENT:
        value[last] = wanted
    elif isinstance(value, dict):
        value.pop(last, None)
    else:
        del value[last]


def _record(each: Difference) -> tuple[Any, ...] | None:
    """Return the place of the innermost record that a value lies in; None if it is one itself."""
    if each.is_record:
        return None
    for number in range(len(each.at) - 1, -1, -1):
        if isinstance(each.at[number], Named):
            return each.at[: number + 1]
    return None


def _check_format(each: EditedFile, reading: Reading, data: bytes) -> None:
    if reading.format is None or not each.format:
        return
    here = str(format_version(data, reading.format, name=each.file))
    if here != each.format:
        raise UsageError(
            f"its edits were made in format {each.format}, and here it is of format {here}",
            remedy="Put the release they were made on onto the shelf (kindred shelf add FILE), or name it:"
            " `old=WHERE`; then they are converted.",
        )


def _with(reading: Reading, data: bytes, found: Iterable[Difference | _Whole], side: str) -> bytes:
    """Return a file in which each place says what it did before or after the edits."""
    document: Document = reading.decode(data)
    plain = [each.difference if isinstance(each, _Whole) else each for each in found]
    wholes = {each.difference.at for each in found if isinstance(each, _Whole)}
    value = values_of(document)
    put_differences(document, value, plain, lambda each: getattr(each, side), records=wholes)
    return document.encode()


def _lines(data: bytes, edits: Sequence[LineEdit], *, back: bool) -> bytes:
    """Return a text with the lines after the edits, or before them (`back`), wherever either stands."""
    text = Text.decode(data)
    lines, ends = lines_of(text.text)
    for each in edits:
        start, stop = _place_of(lines, each)
        wanted = each.before if back else each.after
        lines[start:stop] = wanted
        ends[start:stop] = [text.newline] * len(wanted)
    return text.encode("".join(chain.from_iterable(zip(lines, ends, strict=True))))


def _place_of(lines: list[str], each: LineEdit) -> tuple[int, int]:
    """Return where the lines of an edit stand, before or after it.

    Raises:
        FormatError: they stand nowhere, or in several places.
    """
    for context in range(max(len(each.above), len(each.below)), -1, -1):
        above = each.above[len(each.above) - context :] if context else ()
        below = each.below[:context]
        for inner in (each.after, each.before):
            run = [*above, *inner, *below]
            starts = [
                number
                for number, line in enumerate(lines)
                if run and line == run[0] and lines[number : number + len(run)] == run
            ]
            if len(starts) == 1:
                at = starts[0] + len(above)
                return at, at + len(inner)
    shown = next(iter((*each.before, *each.after)), "")
    raise FormatError(
        f"the lines around {shown.strip()[:40]!r} are not found, or stand more than once"
    )


class _Made(Capable):
    """Contents that were made, over those of a release."""

    def __init__(self, contents: dict[str, bytes], otherwise: Place) -> None:
        self._made = MemoryPlace(contents)
        self._contents = contents
        self._otherwise = otherwise

    @property
    def location(self) -> str:
        return "your edits"

    def survey(self, *, seen: Any = None) -> Tree:
        """Return what was made."""
        return self._made.survey()

    def read(self, paths: Iterable[str]) -> Any:
        """Yield contents, of what was made first."""
        wanted = list(paths)
        yield from self._made.read(path for path in wanted if path in self._contents)
        rest = [path for path in wanted if path not in self._contents]
        if rest:
            yield from self._otherwise.read(rest)
