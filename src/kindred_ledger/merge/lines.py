"""Merging texts line by line: what the two sides changed in different places comes together.

Line ends, encoding and byte-order mark are theirs'; lines that differ in their ends only are equal. Whether
the last line has an end is decided like a value.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from msgspec import Struct

from ..errors import FormatError
from ..formats import Text
from .policy import Choice, Rule
from .sequences import Region, merged_regions
from .sides import Question, Side, case_of

__all__ = ["LineMerge", "lines_of", "merge_lines"]

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
    old, here, there = ([line for line, _ in side] for side in sides)
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
    merged: list[tuple[str, str]] = []
    for region, side in zip(regions, takes, strict=True):
        if side is Side.MINE:
            merged += ((here[at], newline) for at in region.mine)
        else:
            merged += (
                (line, end or newline) for line, end in (sides[2][at] for at in region.theirs)
            )
    ends = [bool(side and side[-1][1]) for side in sides]
    if merged and not _last_has_end(*ends):
        line, _ = merged[-1]
        merged[-1] = (line, "") if line else (line, newline)
    text = "".join(line + end for line, end in merged)
    if [line for line, _ in lines_of(text)] != [line for line, _ in merged]:
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


def lines_of(text: str) -> list[tuple[str, str]]:
    """Return the lines of a text, each with its end; the last may have none."""
    if "\r" in text:
        return [(match[1], match[2]) for match in _LINE.finditer(text) if match[0]]
    *lines, last = text.split("\n")
    return [*((line, "\n") for line in lines), *([(last, "")] if last else [])]


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
