"""Merging a file that both sides changed, by what the card says is in it, across versions of its format.

If theirs is of another version, base and mine go through the card's steps first, so that what differs between
them is still exactly what the person did.
"""

from __future__ import annotations

from collections.abc import Sequence

from blake3 import blake3
from msgspec import Struct
from msgspec.structs import replace

from ..cards import Card, Format
from ..errors import KindredError, UsageError
from ..finding import Finding, Severity, Sides
from ..formats import FOLDER, Document, parse_path
from ..merge import FileMerge, How, Policy, Question, Side, Three, frozen, merge_files
from ..places import FILE, MemoryPlace, Node, Place, read_bytes
from .converter import Converted, convert_bytes, format_version

__all__ = ["MergedFile", "NotMerged", "merge_inside"]

_SHOWN = 3  # conflicts that a message names


class NotMerged(KindredError):
    """A file cannot be merged inside; `questions` are what both sides changed, if that is why.

    `answered` are the texts of rules that decided something in it; `noticed` is what should be known, too.
    """

    def __init__(
        self,
        what: str,
        questions: Sequence[Question] = (),
        answered: frozenset[str] = frozenset(),
        noticed: Sequence[Finding] = (),
    ) -> None:
        super().__init__(what)
        self.noticed = tuple(noticed)
        self.questions = tuple(questions)
        self.answered = answered

    def conflicts(self, path: str, why: str, sides: Sides, *, remedy: str) -> list[Finding]:
        """Return what has to be decided about the file at a path: each question, or the file as a whole.

        `sides` are the digests of the file.
        """
        if self.questions:
            asked = [question.finding(path, remedy=remedy) for question in self.questions]
            return [*asked, *self.noticed]
        what = f"{why}, and it cannot be merged: {self.what}"
        return [Finding.conflict("both-changed", what, where=path, remedy=remedy, sides=sides)]


class MergedFile(Struct, frozen=True):
    """A file merged inside, and what is to be said of that: what of mine is lost, how records were known.

    `source` holds it under its path. `same_as` is the side that has all of it already, if one has;
    theirs only where nothing of mine gave way.
    """

    path: str
    merge: FileMerge
    findings: tuple[Finding, ...]
    source: Place
    node: Node
    same_as: Side

    @property
    def reason(self) -> str:
        """What is to be said of it in the books."""
        return f"merged: {self.merge.counts}"

    def stays(self, who: str) -> str:
        """Return what is to be said where mine stays, as `who` brings nothing that is taken."""
        if self.merge.answered:
            return "yours stays: decided field by field"
        return f"yours stays: what {who} changed is in it, too"


def merge_inside(
    card: Card | None,
    path: str,
    sides: Sequence[tuple[Place, Node | None]],
    *,
    policy: Policy,
) -> MergedFile:
    """Merge one file of base, mine and theirs, each a place and what it has under `path`.

    Raises:
        NotMerged: a side has no such file, it is of no kind that is known, its versions cannot be brought
            together, or both sides changed the same in it.
    """
    try:
        contents = [_content(place, path, node) for place, node in sides]
        three = Three(*contents)  # type: ignore[arg-type]
        losses: tuple[Finding, ...] = ()
        how = How(path, policy=policy)
        format = card.format_of(path) if card is not None else None
        if format is not None and format.table.codec != FOLDER:
            three, losses = _of_one_version(format, three, path)
            how = replace(
                how,
                codec=format.table.codec,
                decode=format.decode,
                version_path=tuple(format.version_path),
                keys=format.record_keys,
            )
        merge = merge_files(three, how)
    except KindredError as error:
        if isinstance(error, NotMerged):
            raise
        where = f"{error.where}: " if error.where and error.where != path else ""
        raise NotMerged(f"{where}{error.what}") from error
    if merge.conflicts:
        more = len(merge.conflicts) - _SHOWN
        told = "; ".join(map(str, merge.conflicts[:_SHOWN])) + (
            f"; and {more} more" if more > 0 else ""
        )
        unfit = [each for each in merge.noticed(path) if each.severity is Severity.WARNING]
        raise NotMerged(told, merge.conflicts, merge.answered, unfit)
    mine, theirs = contents[1:]
    findings = (*losses, *merge.losses(path), *merge.noticed(path))
    gone = any(each.severity is Severity.LOSS for each in findings)
    same_as = {mine: Side.MINE, theirs: Side.BOTH if gone else Side.THEIRS}.get(
        merge.data, Side.BOTH
    )
    source = MemoryPlace({path: merge.data})
    node = source.survey()[path]._replace(mode=mode.mode if (mode := sides[1][1]) else 0)
    return MergedFile(path, merge, findings, source, node, same_as)


def _content(place: Place, path: str, node: Node | None) -> bytes | None:
    """Return the bytes of a side; None if it has none."""
    if node is None:
        return None
    if node.kind != FILE:
        raise NotMerged("it is no file on every side")
    try:
        data = read_bytes(place, path)
    except UsageError as error:  # only its digest is on the shelf
        raise NotMerged(
            f"the content the changes could be told by is not here: {error.what}"
        ) from None
    if node.digest is not None and blake3(data).digest() != node.digest:
        raise NotMerged("it changed since it was looked at; run this again")
    return data


def _of_one_version(format: Format, three: Three, path: str) -> tuple[Three, tuple[Finding, ...]]:
    """Return the sides in the version of theirs, and what of mine, not of the base, is lost by that."""
    target = format_version(three.theirs, format, name=path)
    made: list[Converted | None] = []
    for side in (three.base, three.mine):
        converted = None
        if side is not None and (source := format_version(side, format, name=path)) != target:
            converted = convert_bytes(side, format, target, name=path, source=source)
        made.append(converted)
    base, mine = made
    lost = mine.losses if mine is not None else ()
    if lost and three.base is not None:
        before, after = format.decode(three.base), format.decode(three.mine)
        lost = tuple(each for each in lost if not _same_there(before, after, each.field))
    return (
        Three(
            base.data if base is not None else three.base,
            mine.data if mine is not None else three.mine,
            three.theirs,
        ),
        lost,
    )


def _same_there(base: Document, mine: Document, item: str) -> bool:
    """Tell whether I left alone what a step drops: then it is no loss of mine."""
    try:
        pattern = parse_path(item)
        one, other = ([side.get(path) for path in side.find(pattern)] for side in (base, mine))
    except KindredError:
        return False
    return bool(one) and frozen(one) == frozen(other)
