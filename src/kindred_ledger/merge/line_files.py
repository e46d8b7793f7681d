"""Text files without a format, merged by their lines."""

from __future__ import annotations

from ..formats import Text
from ..statement import Line, Outcome, Statement
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
    lines = []
    mine, theirs = _lines(three.mine), _lines(three.theirs)
    for region, side, reason in zip(found.regions, found.takes, found.reasons, strict=True):
        said = "" if region.case is Case.UNCHANGED else reason
        if side is Side.THEIRS:
            lines += [_line(Outcome.REMOVED, mine[at], said) for at in region.mine]
            lines += [_line(Outcome.ADDED, theirs[at], said) for at in region.theirs]
        else:
            lines += [_line(Outcome.UNCHANGED, mine[at], said) for at in region.mine]
    merged = _lines(found.data)
    return Statement(name, "lines", tuple(lines)).balanced(map(_short, mine), map(_short, merged))


def _lines(data: bytes) -> list[str]:
    return [line for line, _ in lines_of(Text.decode(data).text)]


def _line(outcome: Outcome, text: str, reason: str) -> Line:
    return Line(outcome, _short(text), reason)


def _short(text: str) -> str:
    return text.strip()[:_SHOWN] or "(empty)"
