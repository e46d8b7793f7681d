"""Sets of edits: putting several together, and taking some edits out."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from fnmatch import fnmatchcase
from itertools import chain

from msgspec.structs import replace

from ..errors import UsageError
from ..finding import Finding
from ..merge import ABSENT, At, name_of, read_at, same
from ..places import Patterns
from ..suggestions import path_meant
from .edit_set import EditSet, LineEdit, ValueEdit

__all__ = ["combine_edits", "drop_edits"]

_DEPTH = 2  # parts of a place by which edits are looked up: a list, and a record of it
_DECIDE = "Drop one of them (kindred edits drop), or say whose counts: `prefer_set=SET`."


def combine_edits(
    sets: Mapping[str, EditSet], *, prefer_set: str = ""
) -> tuple[EditSet, tuple[Finding, ...]]:
    """Put edit sets together, by their names; return them as one, and where they clash.

    Edits of one place that say the same are one. Of those that do not, that of `prefer_set` counts; without
    it the clash is a conflict, and the place is left out.

    Raises:
        UsageError: they are of different titles.

    >>> edits = kl.take_edits(install, old="downloads/mossferry-1.4.zip", ledger=ledger)
    >>> both, clashes = kl.combine_edits({"mine": edits, "again": edits})
    >>> both.size, clashes
    (2, ())
    """
    titles = {each.title for each in sets.values() if each.title}
    if len(titles) > 1:
        raise UsageError(f"these sets are of different titles: {', '.join(sorted(titles))}")
    order = [name for name in sets if name != prefer_set] + [prefer_set] * (prefer_set in sets)
    made = _Combined()
    for name in order:
        made.add(name, sets[name], wins=name == prefer_set)
    first = next(iter(sets.values()), EditSet())
    alike = {(each.base, each.version) for each in sets.values()}
    base, version = next(iter(alike)) if len(alike) == 1 else ("", "")
    whole = replace(
        first,
        base=base,
        version=version,
        by=" + ".join(dict.fromkeys(each.by for each in sets.values() if each.by)),
        note="; ".join(dict.fromkeys(each.note for each in sets.values() if each.note)),
        files=tuple(made.files.values()),
        values=tuple(made.values.values()),
        lines=tuple(made.lines),
        records=tuple({(r.file, r.at): r for each in sets.values() for r in each.records}.values()),
        contents={d: data for each in sets.values() for d, data in each.contents.items()},
    )
    whole = whole.only(
        lambda file, field: file not in made.clashed and (file, field) not in made.open
    )
    return whole, tuple(made.findings)


class _Combined:
    """The edits put together so far, by where they are."""

    def __init__(self) -> None:
        self.files: dict[str, object] = {}
        self.values: dict[tuple[str, str], ValueEdit] = {}
        self.lines: list[LineEdit] = []
        self.findings: list[Finding] = []
        self.clashed: set[str] = set()  # files that two sets tell in ways that do not go together
        self.open: set[tuple[str, str]] = set()  # places of which two sets say different things
        self._by: dict[object, str] = {}
        self._places: dict[tuple[str, At], dict[tuple[str, str], None]] = {}

    def add(self, name: str, edits: EditSet, *, wins: bool) -> None:
        """Add one set; what is there already and differs is a clash, unless it `wins`."""
        for file in edits.files:
            other = self.files.get(file.file)
            told = (
                ("kind", "after")
                if file.kind in ("whole", "added", "removed")
                else ("kind", "codec")
            )
            if other is not None and any(getattr(other, n) != getattr(file, n) for n in told):
                self._clash(file.file, "", self._by[file.file], name, wins=wins)
                if not wins:
                    self.clashed.add(file.file)
                    continue
            self.files[file.file] = file
            self._by[file.file] = name
        for each in edits.values:
            self._value(name, each, wins=wins)
        for line in edits.lines:
            self._line(name, line, wins=wins)

    def _value(self, name: str, each: ValueEdit, *, wins: bool) -> None:
        key, at = (each.file, each.at), read_at(each.at)
        for there in [*self._near(each.file, at)]:
            other = self.values.get(there)
            if other is None or not _touch(read_at(there[1]), at):
                continue
            if there == key and _alike(other, each):
                return
            field = name_of(at)
            self._clash(each.file, field, self._by[there], name, wins=wins)
            if wins:
                del self.values[there]
            else:
                self.open.add((each.file, field))
                self.open.add((each.file, name_of(read_at(there[1]))))
        self.values[key] = each
        self._by[key] = name
        self._places.setdefault((each.file, at[:_DEPTH]), {})[key] = None

    def _near(self, file: str, at: At) -> Iterable[tuple[str, str]]:
        """Return where edits stand that may touch a place: those that begin as it does, or lie around it."""
        if len(at) < _DEPTH:
            return (key for key in self.values if key[0] == file)
        heads = (at[:depth] for depth in range(_DEPTH + 1))
        return chain.from_iterable(self._places.get((file, head), ()) for head in heads)

    def _line(self, name: str, each: LineEdit, *, wins: bool) -> None:
        if each in self.lines:
            return
        for other in [one for one in self.lines if _meet(one, each)]:
            self._clash(each.file, _first(each), self._by[other], name, wins=wins)
            self.lines.remove(other)
            if not wins:
                return
        self.lines.append(each)
        self._by[each] = name

    def _clash(self, file: str, field: str, one: str, other: str, *, wins: bool) -> None:
        what = f"{one} and {other} say different things of it"
        if wins:
            made = Finding.note("clash-decided", f"{what}; {other} counts", where=file, field=field)
        else:
            made = Finding.conflict("edits-clash", what, where=file, field=field, remedy=_DECIDE)
        self.findings.append(made)


def _meet(one: LineEdit, other: LineEdit) -> bool:
    """Tell whether two runs of lines are about the same ones, or come to the same place."""
    if one.file != other.file:
        return False
    if one.before and other.before:
        return bool({*one.before} & {*other.before} - {""}) or one.before == other.before
    return one.above[-1:] == other.above[-1:] and one.below[:1] == other.below[:1]


def _first(each: LineEdit) -> str:
    return next(iter((*each.before, *each.after)), "").strip()[:40]


def _alike(one: ValueEdit, other: ValueEdit) -> bool:
    if ABSENT in (one.after, other.after):
        return one.after is other.after
    return same(one.after, other.after)


def _touch(one: At, other: At) -> bool:
    short = min(len(one), len(other))
    return one[:short] == other[:short]


def drop_edits(edits: EditSet, patterns: Iterable[str]) -> EditSet:
    """Return a set without the edits that match: of files by `PATTERN`, of fields by `PATTERN:FIELD`.

    In a field, `*` is any text.

    Raises:
        UsageError: a pattern matches no edit.

    >>> edits = kl.take_edits(install, old="downloads/mossferry-1.4.zip", ledger=ledger)
    >>> kl.drop_edits(edits, ["*.ini:Tides.*"]).size
    0
    """
    for text in patterns:
        pattern, colon, field = text.partition(":")
        files = Patterns((pattern,))
        files.check()
        after = edits.only(_others(files, field.replace("[", "[[]") if colon else ""))
        if after.size == edits.size:
            names = [each.file for each in edits.files]
            raise UsageError(
                f"{text!r} matches no edit",
                remedy=path_meant(pattern, names) or "See them: kindred edits show SET",
            )
        edits = after
    return edits


def _others(files: Patterns, field: str) -> Callable[[str, str], bool]:
    """Return what picks the edits that are not of these files, or not of these fields in them."""

    def stays(file: str, name: str) -> bool:
        return not files(file) or bool(field and not (name and fnmatchcase(name, field)))

    return stays
