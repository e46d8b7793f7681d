"""Previews: what a change would do, read from the top, and what one did.

First one sentence and the numbers; then what needs the person (decisions, losses, programs that run); what
stays theirs; the rest by reason; notes; and last the books.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from itertools import zip_longest

from ..changes import Applied, Changeset
from ..changes.unkept import NOT_RECORDED
from ..finding import Severity, of_severity
from ..statement import Line, Outcome, Statement
from ..wording import count
from . import drawing
from .drawing import NARROW
from .page import Page

__all__ = ["Which", "draw_done", "draw_preview"]

Which = Callable[[Line], bool] | None  # lines of a statement that are drawn one by one

_EDITS = "edits"  # the unit of what one side changed
_FATES = {
    "applied": "green",
    "in conflict": "bold yellow",
    "left out": "yellow",
    "overridden": "yellow",
}
_INSIDE = ("fields", "lines", "elements", "references")  # units of what is inside files
_BEFORE = ("unchanged", "changed", "removed", "left alone", "conflict")
_AFTER = ("unchanged", "changed", "added")
_STYLES = {
    "unchanged": "default",
    "changed": "cyan",
    "added": "green",
    "removed": "bright_red",
    "left alone": "yellow",
    "conflict": "bold red",
}
_URGENCY = {name: at for at, name in enumerate(reversed(_STYLES))}  # the urgent first
_SAME = (Outcome.UNCHANGED,)  # told only if there is a reason to tell
_TWO_COLUMNS = 80  # that both sides of an account and what is said of them take
_MOST_GROUPS, _MOST_SHOWN = 24, 3
_URGENT = (Severity.CONFLICT, Severity.LOSS, Severity.ERROR, Severity.WARNING)


def draw_preview(
    page: Page,
    change: Changeset,
    *,
    running: Sequence[object] = (),
    lines: Which = None,
    books: bool = False,
    balance: bool = True,
) -> None:
    """Draw what a change would do.

    `running` are programs that are in its way. `lines` tells which lines of the books are drawn one by one;
    None draws what happens for one reason as one. `books` draws both sides of them in columns, `balance` as
    sums.
    """
    every = lines is not None
    place = change.preview(every=every)
    inside = _summed(change.statements[change.offered is not None :], singly=every)
    _draw_head(page, change, place)
    drawing.findings(page, of_severity(change.findings, *_URGENT))
    if running:
        more = " …" if len(running) > _MOST_SHOWN else ""
        shown = "; ".join(map(str, running[:_MOST_SHOWN])) + more
        drawing.remark(page, f"in use by {shown}. Close it first.", severity=Severity.WARNING)
    offered = change.statements[:1] if change.offered is not None else ()
    apart = [line for one in (*offered, place) for line in one.of(Outcome.LEFT_ALONE)]
    rest = [line for line in place.lines if line.outcome is not Outcome.LEFT_ALONE]
    told = [line for line in (*apart, *rest) if every or line.reason or line.outcome not in _SAME]
    if told:
        page.print()
    if every:
        _draw_lines(page, filter(lines, told))
    else:
        _draw_groups(page, told)
    by_edits = any(one.unit == _EDITS for one in inside)  # which tell what happens inside files
    for one in (each for each in inside if each.lines):
        if by_edits and one.unit != _EDITS and not every:
            continue
        drawing.heading(page, _head(one, singly=every))
        if one.unit == _EDITS:
            _draw_edits(page, one, None if lines is None else filter(lines, one.lines))
        elif every:
            _draw_lines(page, filter(lines, one.lines))
        else:
            _draw_groups(page, one.lines)
    notes = of_severity(change.findings, Severity.NOTE)
    if notes:
        page.print()
        drawing.findings(page, notes)
    if books or balance:
        page.print()
        for one in (place, *inside):
            (_draw_account if books else _draw_balance)(page, one)


def draw_done(page: Page, done: Applied, change: Changeset) -> None:
    """Draw what a change did: where the old state is, what takes it back, what to do next, the books."""
    page.print()
    drawing.findings(page, [each for each in done.findings if each not in change.findings])
    if NOT_RECORDED in done.findings:
        page.print("Done. Nothing was there before.", style="bold")
    else:
        page.print(f"Done: change {done.record.id}.", style="bold")
        page.hang(
            "    ", f"What was there before is kept as entry {done.record.entry}.", style="default"
        )
        back = "make it again: kindred redo" if done.record.operation == "undo" else (
            f"take it back: kindred undo {done.record.id}"
        )  # fmt: skip
        page.hang("    ", f"To {back}", style="default")
    for step in dict.fromkeys(
        each.remedy for each in of_severity(change.findings, Severity.NOTE) if each.remedy
    ):
        page.hang("    ", f"Next: {drawing.local(step)}", style="default")
    page.print()
    for one in _summed(done.statements, singly=False):
        _draw_balance(page, one)


def _draw_head(page: Page, change: Changeset, place: Statement) -> None:
    """Draw one sentence with what would happen, and the numbers."""
    where = drawing.short(change.place.location)
    summary = drawing.local(change.summary[:1].upper() + change.summary[1:])
    drawing.heading(page, summary, "" if where in summary else where)
    totals = place.totals()
    said = [
        text
        for number, text in (
            (totals["changed"], f"{count(totals['changed'], 'file')} changed"),
            (totals["added"], f"{totals['added']:,} added"),
            (totals["removed"], f"{totals['removed']:,} removed"),
            (totals["conflict"], f"{totals['conflict']:,} in conflict"),
            (totals["unchanged"], f"{totals['unchanged']:,} unchanged"),
        )
        if number
    ]
    page.print(", ".join(said) + "." if change.actions and said else "Nothing would change.")


def _draw_groups(page: Page, lines: Iterable[Line]) -> None:
    """Draw lines that happened for one reason as one, the most urgent first."""
    groups: dict[tuple[Outcome, str], list[Line]] = {}
    for line in lines:
        if line.reason or line.outcome not in _SAME:
            groups.setdefault((line.outcome, line.reason), []).append(line)
    ordered = sorted(groups.items(), key=lambda group: _URGENCY[group[0][0].value])
    wide = _widest(of_one for _, of_one in ordered[:_MOST_GROUPS])
    for (outcome, reason), of_one in ordered[:_MOST_GROUPS]:
        number = sum(line.count for line in of_one)
        names = drawing.examples([line.item for line in of_one])
        start, style = f"  {outcome.value:<10}{number:>{wide},}  ", _STYLES[outcome.value]
        if 0 < page.width < NARROW:
            start = f"  {number:,} {outcome.value}: "
        if reason.startswith("moved to "):  # a sentence
            page.hang(start, f"{names} {reason}", style=style, aside="")
        else:
            page.hang(start, reason, style=style, aside=names)
    if len(groups) > _MOST_GROUPS:
        page.print(f"  … {len(groups) - _MOST_GROUPS} more reasons; --lines shows all", style="dim")


def _head(books: Statement, *, singly: bool) -> str:
    """Return the head of an account: of a file by its name, else as it is called."""
    if books.unit not in _INSIDE or (books.subject.startswith("inside ") and not singly):
        return f"{books.subject[:1].upper()}{books.subject[1:]}"
    return f"Inside {books.subject}"


def _draw_edits(page: Page, books: Statement, singly: Iterable[Line] | None) -> None:
    """Draw what became of edits: those of one fate as one, or each of them."""
    if singly is not None:
        for line in singly:
            page.hang(f"  {_fate(line):<12} ", line.item, style="default", aside=_why(line))
        return
    groups: dict[str, list[Line]] = {}
    for line in books.lines:
        groups.setdefault(line.reason, []).append(line)
    wide = _widest(groups.values())
    for some in groups.values():
        number = sum(line.count for line in some)
        names = drawing.examples([line.item for line in some])
        start = f"  {_fate(some[0]):<12}{number:>{wide},}  "
        page.hang(start, _why(some[0]), style=_FATES.get(_fate(some[0]), "default"), aside=names)


def _widest(groups: Iterable[list[Line]]) -> int:
    """Return how wide the numbers of groups are, so that they stand below each other."""
    return max([6, *(len(f"{sum(line.count for line in each):,}") for each in groups)])


def _fate(line: Line) -> str:
    return line.reason.partition(":")[0]


def _why(line: Line) -> str:
    return line.reason.partition(": ")[2]


def _draw_lines(page: Page, lines: Iterable[Line]) -> None:
    for line in lines:
        became = f" → {line.became}" if line.became else ""
        reason = f"   {line.reason}" if line.reason else ""
        many = f"  ({line.count:,} values)" if line.count > 1 else ""
        page.print(
            f"  {line.outcome.value:<11} {line.item}{became}{many}{reason}",
            style=_STYLES[line.outcome.value],
            soft_wrap=True,
        )


def _draw_balance(page: Page, books: Statement) -> None:
    """Draw both sides of an account as sums, a line each."""
    if books.unit == _EDITS:
        _draw_fates(page, books)
        return
    totals = books.totals()
    sides = []
    for name, outcomes in (("before", _BEFORE), ("after", _AFTER)):
        parts = [f"{totals[each]:,} {each}" for each in outcomes if totals[each]]
        number = count(sum(totals[each] for each in outcomes), books.unit.removesuffix("s"))
        sides.append(f"{name} {number}{' = ' if parts else ''}{' + '.join(parts)}")
    style = "green" if _is_counted(books) else "dim"
    told = "counted, they balance" if _is_counted(books) else "preview"
    subject = f"{drawing.short(books.subject)}:"
    if 0 < page.width < NARROW:
        page.hang("  ", subject, style=style)
        page.hang("      ", f"{sides[0]};", style=style)
    else:
        page.hang("  ", f"{subject} {sides[0]};", style=style)
    page.hang("      ", f"{sides[1]} ({told})", style=style)


def _draw_fates(page: Page, books: Statement) -> None:
    """Draw an account of edits as one sum."""
    fates: dict[str, int] = {}
    for line in books.lines:
        fates[_fate(line)] = fates.get(_fate(line), 0) + line.count
    total = sum(fates.values())
    parts = " + ".join(f"{number:,} {fate}" for fate, number in fates.items())
    told = "counted, they balance" if _is_counted(books) else "preview"
    text = f"{books.subject}: {total:,}{' = ' if parts else ''}{parts} ({told})"
    page.hang("  ", text, style="green" if _is_counted(books) else "dim")


def _draw_account(page: Page, books: Statement) -> None:
    """Draw both sides of an account in two columns, on a narrow terminal one below the other."""
    totals = books.totals()
    drawing.heading(page, drawing.short(books.subject), books.unit)
    columns = []
    for name, outcomes in (("before", _BEFORE), ("after", _AFTER)):
        lines = [_side(each, totals[each]) for each in outcomes if totals[each]]
        columns.append((lines, _side(name, sum(totals[each] for each in outcomes))))
    style = "green" if _is_counted(books) else "dim"
    told = "counted: the books balance" if _is_counted(books) else "preview"
    rule = f"    {'─' * 20}"
    if 0 < page.width < _TWO_COLUMNS:
        for lines, end in columns:
            for line in (*lines, rule, end):
                page.print(line)
        page.print(f"    {told}", style=style)
        return
    (left, left_end), (right, right_end) = columns
    for pair in zip_longest(left, right, fillvalue=" " * len(rule)):
        page.print("".join(pair).rstrip())
    page.print(rule * 2, style="dim")
    page.print(f"{left_end}{right_end}    {told}", style=style)


def _is_counted(books: Statement) -> bool:
    return books.counted_before is not None and books.counted_after is not None


def _side(name: str, number: int) -> str:
    return f"    {name:<11}{number:>9,}"


def _summed(books: Sequence[Statement], *, singly: bool) -> list[Statement]:
    """Return accounts of what is inside files as one a unit, unless they are wanted singly."""
    shown = [one for one in books if singly or one.unit not in _INSIDE]
    for unit in () if singly else _INSIDE:
        inside = [one for one in books if one.unit == unit]
        if len(inside) > 1:
            inside = [Statement.together(f"inside {len(inside)} files", inside)]
        shown += inside
    return shown
