"""Merging texts line by line: what the two sides changed in different places comes together.

Line ends, encoding and byte-order mark are theirs'; lines that differ in their ends only are equal. Whether
the last line has an end is decided like a value.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from itertools import chain
from typing import NamedTuple

from msgspec import Struct

from ..errors import FormatError
from ..formats import Text
from .policy import Choice, Rule
from .sequences import Region, merged_regions
from .sides import Question, Side, case_of

__all__ = ["LineMerge", "Lines", "lines_of", "merge_lines"]

_LINE = re.compile(r"([^\n\r]*)(\r\n|\n|\r|\Z)")


class LineMerge(Struct, frozen=True):
    """The merged bytes, empty while there are conflicts; the regions of the three texts, and whose is taken.

    `overruled` are lines of mine that a rule let go for theirs.
    """

    data: bytes
    conflicts: tuple[Question, ...]  # `where` is the number of the first line in mine, from 1
    regions: tuple[Region, ...]
    takes: tuple[Side, ...] = ()
    reasons: tuple[str, ...] = ()
    overruled: tuple[Question, ...] = ()


def merge_lines(
    base: bytes,
    mine: bytes,
    theirs: bytes,
    *,
    asked: Callable[[Question], Rule | None] = lambda question: None,
) -> LineMerge:
    r"""Merge three texts; `asked` is asked whose lines count where both changed some.

    >>> merge_lines(b"a\nb\nc\n", b"A\nb\nc\n", b"a\nb\nc\nd\n").data
    b'A\nb\nc\nd\n'

    Raises:
        FormatError: one of them is no text, or they are in encodings that cannot be told apart.
    """
    texts = [Text.decode(data) for data in (base, mine, theirs)]
    _check(texts)
    sides = [lines_of(text.text) for text in texts]
    old, here, there = (side.lines for side in sides)
    regions = merged_regions(old, here, there)
    takes = [region.case.changed_by for region in regions]
    reasons = [region.case.said for region in regions]
    conflicts, overruled = [], []
    for number, region in enumerate(regions):
        if not region.case.is_conflict:
            continue
        question = _question(region, (old, here, there))
        rule = asked(question)
        if rule is None or rule.choice not in (Choice.MINE, Choice.THEIRS):
            conflicts.append(question)
            continue
        takes[number], reasons[number] = Side(rule.choice.value), rule.said
        if takes[number] is Side.THEIRS:
            overruled.append(question)
    if conflicts:
        return LineMerge(b"", tuple(conflicts), tuple(regions))
    newline = texts[2].newline if there else texts[1].newline
    lines: list[str] = []
    ends: list[str] = []
    for region, side in zip(regions, takes, strict=True):
        if side is Side.MINE:
            lines += here[region.mine.start : region.mine.stop]
            ends += [newline] * len(region.mine)
        else:
            taken = slice(region.theirs.start, region.theirs.stop)
            lines += there[taken]
            ends += [end or newline for end in sides[2].ends[taken]]
    if lines and not _last_has_end(*(bool(side.ends and side.ends[-1]) for side in sides)):
        ends[-1] = "" if lines[-1] else newline
    text = "".join(chain.from_iterable(zip(lines, ends, strict=True)))
    if lines_of(text).lines != lines:
        raise FormatError("the merged lines do not read back")
    data = texts[2].encode(text)
    return LineMerge(data, (), tuple(regions), tuple(takes), tuple(reasons), tuple(overruled))


def _question(region: Region, sides: Sequence[list[str]]) -> Question:
    """Return a region that both changed as a question, named by its first line in mine."""
    parts = (region.base, region.mine, region.theirs)
    texts = (
        "\n".join(lines[part.start : part.stop]) for lines, part in zip(sides, parts, strict=True)
    )
    return Question(f"line {region.mine.start + 1}", region.case, *texts)


class Lines(NamedTuple):
    """The lines of a text, and the end of each; the last may have none."""

    lines: list[str]
    ends: list[str]


def lines_of(text: str) -> Lines:
    r"""Return the lines of a text, and how each ends.

    >>> lines_of("tide = 1\r\nwind = 2")
    Lines(lines=['tide = 1', 'wind = 2'], ends=['\r\n', ''])
    """
    if "\r" in text:
        found = [match for match in _LINE.finditer(text) if match[0]]
        return Lines([match[1] for match in found], [match[2] for match in found])
    *lines, last = text.split("\n")
    ends = ["\n"] * len(lines)
    return Lines([*lines, last], [*ends, ""]) if last else Lines(lines, ends)


def _last_has_end(base: bool, mine: bool, theirs: bool) -> bool:
    case = case_of(base, mine, theirs, same=lambda one, other: bool(one == other))
    return mine if case.changed_by is Side.MINE else theirs


def _check(texts: list[Text]) -> None:
    for text in texts:
        if "\0" in text.text:
            raise FormatError("this is no text file", where=f"character {text.text.index(chr(0))}")
    # Latin-1 is what is left when nothing else fits; beside another encoding it is a guess.
    odd = {text.encoding for text in texts if not text.text.isascii()}
    if "latin-1" in odd and len(odd) > 1:
        raise FormatError("the texts are in different encodings, and one of them names none")
