"""Text files without a format, merged by their lines."""

from __future__ import annotations

from operator import itemgetter

from ..formats import Text
from ..statement import ALL_OTHERS, MANY, Line, Outcome, Statement
from .lines import LineMerge, lines_of, merge_lines
from .outcome import FileMerge, How, Three, count
from .policy import Rule
from .sides import Case, Question, Side

__all__ = ["merge"]

_SHOWN = 60  # characters of a line


def merge(three: Three, how: How) -> FileMerge:
    """Merge a text by its lines; see `merge_lines`.

    Raises:
        FormatError: one side is no text.
    """
    answered: set[str] = set()

    def by_policy(question: Question) -> Rule | None:
        rule = how.policy.for_field(how.name, (), question)
        if rule is not None:
            answered.add(rule.text)
        return rule

    found = merge_lines(three.base or b"", three.mine, three.theirs, asked=by_policy)
    if found.conflicts:
        return FileMerge(b"", conflicts=found.conflicts, answered=frozenset(answered))
    decided = [
        (
            region.case.changed_by,
            side,
            region.case in (Case.AGREED, Case.BOTH_REMOVED),
        )
        for region, side in zip(found.regions, found.takes, strict=True)
        if region.case is not Case.UNCHANGED
        for _ in range(max(len(region.base), len(region.mine), len(region.theirs)))
    ]
    return FileMerge(
        found.data,
        count(decided),
        _books(found, three, how.name),
        overruled=found.overruled,
        answered=frozenset(answered),
    )


def _books(found: LineMerge, three: Three, name: str) -> Statement:
    """Account for every line of mine, and of the result as it reads."""
    lines: list[Line] = []
    alike: list[str] = []
    mine, theirs, merged = map(_lines, (three.mine, three.theirs, found.data))
    for region, side, reason in zip(found.regions, found.takes, found.reasons, strict=True):
        own = mine[region.mine.start : region.mine.stop]
        if region.case is Case.UNCHANGED:
            alike += own
        elif side is Side.THEIRS:
            lines += [Line(Outcome.REMOVED, text, reason) for text in own]
            new = theirs[region.theirs.start : region.theirs.stop]
            lines += [Line(Outcome.ADDED, text, reason) for text in new]
        else:
            lines += [Line(Outcome.UNCHANGED, text, reason) for text in own]
    # Of many, those that stay as they are have one line, but for what is told of elsewhere, too.
    named = {line.item for line in lines} if len(mine) >= MANY else set(alike)
    apart = [text for text in alike if text in named]
    lines += [Line(Outcome.UNCHANGED, text) for text in apart]
    if len(apart) < len(alike):
        lines.append(Line(Outcome.UNCHANGED, ALL_OTHERS, count=len(alike) - len(apart)))
    return Statement(name, "lines", tuple(lines)).balanced(mine, merged)


def _lines(data: bytes) -> list[str]:
    """Return the lines of a text as they stand in books: short, without the spaces around them."""
    found = lines_of(Text.decode(data).text).lines
    short = map(itemgetter(slice(_SHOWN)), map(str.strip, found))
    return [line or "(empty)" for line in short]
