"""Files of a known format, merged by what is in them: settings, tables, projects, packs."""

from __future__ import annotations

from collections.abc import Hashable, Iterator
from typing import Any

from ..formats import Path, format_path
from ..statement import Line, Outcome, Statement
from .documents import merge_documents
from .keys import Keys, frozen
from .outcome import FileMerge, How, Three, count
from .policy import Rule
from .sides import Case
from .values import Decided, ValueMerge, record_name

__all__ = ["merge"]

_TEXTS = frozenset(("json", "ini", "toml", "yaml", "xml", "csv"))


def merge(three: Three, how: How) -> FileMerge:
    """Merge a file by its values; see `merge_documents`.

    Raises:
        FormatError: one side is damaged, or the result cannot be written.
    """
    assert how.decode is not None

    def by_policy(path: Path, case: Case, mine: Any, theirs: Any) -> Rule | None:
        return how.policy.for_field(how.name, path, case)

    found = merge_documents(
        *three,
        decode=how.decode,
        keys=Keys(how.keys),
        asked=how.asked or by_policy,
        skip=how.version_path,
        known=how.known,
        is_text=how.codec in _TEXTS,
    )
    if found.questions:
        return FileMerge(b"", conflicts=found.questions, named_by=found.merge.named_by)
    before = dict(_leaves(found.mine, "", found.merge))
    after = dict(_leaves(found.result, "", found.merge))
    lines = _lines(before, after, {each.where: each for each in found.decided})
    return FileMerge(
        found.data,
        count(
            [
                (each.case.changed_by, each.takes, each.case in (Case.AGREED, Case.BOTH_REMOVED))
                for each in found.decided
            ]
        ),
        Statement(how.name, "fields", tuple(lines)).balanced(list(before), list(after)),
        lost=found.lost,
        notes=found.merge.notes,
        named_by=found.merge.named_by,
    )


def _lines(
    before: dict[str, tuple[Hashable, str]],
    after: dict[str, tuple[Hashable, str]],
    decided: dict[str, Decided],
) -> Iterator[Line]:
    """Yield a line for each field of mine and of the result, by its name on every side."""
    for name in [*before, *(name for name in after if name not in before)]:
        was, now = before.get(name), after.get(name)
        known = decided.get((was or now or ("", ""))[1])
        reason = "" if known is None or known.reason == Case.UNCHANGED.said else known.reason
        if was is None:
            yield Line(Outcome.ADDED, name, reason)
        elif now is None:
            yield Line(Outcome.REMOVED, name, reason)
        else:
            same = was[0] == now[0]
            yield Line(Outcome.UNCHANGED if same else Outcome.CHANGED, name, reason)


def _leaves(
    value: Any, name: str, merge: ValueMerge, unit: str = ""
) -> Iterator[tuple[str, tuple[Hashable, str]]]:
    """Yield every field by its name, with its value and the name of the part that was decided as one."""
    unit = unit or (name if name in merge.units else "")
    if isinstance(value, dict) and value:
        for key, inner in value.items():
            part = format_path((key,))
            yield from _leaves(inner, f"{name}.{part}" if name else part, merge, unit)
    elif isinstance(value, list) and value and name in merge.named_by:
        for record in value:
            yield from _leaves(record, record_name(name, merge.named_by[name], record), merge, unit)
    elif isinstance(value, list) and value and name not in merge.whole:
        for at, member in enumerate(value):
            yield from _leaves(member, f"{name}[{at}]", merge, unit)
    else:
        yield name or "the value", (frozen(value), unit)
