"""Drawing: statements, tables and sizes as people read them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING

from ..finding import Finding, Severity
from ..statement import Line, Outcome, Statement
from .visible import one_line

if TYPE_CHECKING:
    from ..cards import Belonging
    from ..changes import Changeset
    from .page import Page

__all__ = [
    "balances",
    "changeset",
    "count",
    "files",
    "findings",
    "heading",
    "listed",
    "moment",
    "remark",
    "rows",
    "running",
    "size",
    "statement",
    "uncovered",
]

Which = Callable[[Line], bool] | None  # lines of a statement that are drawn one by one

_INSIDE = ("fields", "lines")  # units of what is inside files
_INDEX = re.compile(r"\[\d+\]")
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
_SIGNS = {
    Severity.ERROR: ("✗", "bright_red"),
    Severity.WARNING: ("!", "bold yellow"),
    Severity.NOTE: ("·", "dim"),
}
_EXAMPLES = 3
_MOST_GROUPS = 24
_MOST_LISTED = 12
# What a person must see first comes first.
_URGENCY = {name: at for at, name in enumerate(reversed(_STYLES))}


def size(count_bytes: int) -> str:
    """Return a number of bytes in the unit people would use."""
    amount = float(count_bytes)
    for unit in ("B", "KB", "MB", "GB"):
        if amount < 1000:
            return (
                f"{amount:.0f} {unit}" if unit == "B" or amount >= 100 else f"{amount:.1f} {unit}"
            )
        amount /= 1000
    return f"{amount:.1f} TB"


def count(number: int, noun: str) -> str:
    """Return a number with its noun in the right form.

    >>> count(1, "entry"), count(2, "entry"), count(3, "loss")
    ('1 entry', '2 entries', '3 losses')
    """
    if number == 1:
        return f"1 {noun}"
    plural = (
        f"{noun[:-1]}ies"
        if noun.endswith("y")
        else f"{noun}es"
        if noun.endswith("s")
        else f"{noun}s"
    )
    return f"{number:,} {plural}"


def files(number: int, size_bytes: int) -> str:
    """Return a number of files and their size."""
    return f"{count(number, 'file')}, {size(size_bytes)}"


def moment(when: str) -> str:
    """Return a time of the ledger as people read it (UTC)."""
    return when.replace("T", " ").rstrip("Z")


def heading(console: Page, text: str, aside: str = "") -> None:
    """Draw the head of a page."""
    console.print()
    console.assemble((text, "bold"), ("   " + aside if aside else "", "dim"))


def rows(
    console: Page, heads: Sequence[str], lines: Iterable[Sequence[str]], right: str = ""
) -> None:
    """Draw a table without rules; `right` holds the letters r for columns set to the right."""
    lines = [list(map(one_line, line)) for line in lines]
    columns = zip(heads, *lines, strict=True)
    widths = [max(map(_cell_width, column)) for column in columns]
    if console.width and sum(widths) + 2 * len(widths) > console.width:
        _folded(console, heads, lines, right)
        return
    for at, line in enumerate((heads, *lines)):
        cells = []
        for cell, width, side in zip(line, widths, right.ljust(len(widths)), strict=True):
            space = " " * (width - _cell_width(cell))
            cells.append(space + cell if side == "r" else cell + space)
        console.print("  ".join(cells).rstrip(), style="" if at else "dim", soft_wrap=True)


def _cell_width(text: str) -> int:
    """Return how many columns of a terminal a text takes."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def _folded(
    console: Page, heads: Sequence[str], lines: Iterable[Sequence[str]], right: str
) -> None:
    from rich.table import Table
    from rich.text import Text

    table = Table(box=None, pad_edge=False, header_style="dim", padding=(0, 2, 0, 0))
    for at, head in enumerate(heads):
        table.add_column(
            head, justify="right" if right[at : at + 1] == "r" else "left", overflow="fold"
        )
    for line in lines:
        table.add_row(*(Text(cell) for cell in line))
    console.print(table)


def statement(console: Page, books: Statement, *, lines: Which = None) -> None:
    """Draw the account of an operation: both sides, the balance, and what happened why.

    `lines` tells which lines are drawn one by one; None draws what happened for one reason as one.
    """
    totals = books.totals()
    total_before = sum(totals[name] for name in _BEFORE)
    total_after = sum(totals[name] for name in _AFTER)
    heading(console, books.subject, books.unit)
    for left, right in zip(_BEFORE, (*_AFTER, "", ""), strict=True):
        if totals[left] or (right and totals[right]):
            console.print(_side(left, totals[left]), end="")
            console.print(_side(right, totals[right]) if right else "")
    console.print(f"    {'─' * 20}    {'─' * 20}", style="dim")
    console.print(_side("before", total_before) + _side("after", total_after), end="")
    counted = books.counted_before == total_before and books.counted_after == total_after
    balance = "    counted: the books balance" if counted else "    preview"
    console.print(balance, style="green" if counted else "dim")
    if lines is not None:
        _every_line(console, filter(lines, books.lines))
    else:
        _groups(console, books.lines)


def changeset(console: Page, change: Changeset, *, lines: Which = None) -> None:
    """Draw what a changeset would do."""
    heading(console, change.summary)
    if not change.actions:
        console.print("    nothing would change")
    fields = change.statements[change.offered is not None :]
    books = (change.preview(every=lines is not None), *fields)
    for number, one in enumerate(_summed(books, lines is not None)):
        statement(console, one, lines=lines)
        if number == 0 and change.offered is not None:  # it belongs to the place
            _groups(console, change.statements[0].of(Outcome.LEFT_ALONE))
    findings(console, change.findings)


def findings(console: Page, found: Iterable[Finding]) -> None:
    """Draw what was found: what needs a decision, what would be lost, errors, warnings, notes."""
    of = {severity: [each for each in found if each.severity is severity] for severity in Severity}
    conflicts, losses = of[Severity.CONFLICT], of[Severity.LOSS]
    if conflicts:
        head = f"{count(len(conflicts), 'decision')} needed"
        listed(console, head, list(map(str, conflicts)), "yellow")
        for remedy in dict.fromkeys(conflict.remedy for conflict in conflicts):
            console.print(f"    {remedy}", soft_wrap=True)
    if losses:
        kinds = ", ".join(dict.fromkeys(loss.code for loss in losses))
        head = f"{count(len(losses), 'loss')} ({kinds}), kept in the ledger all the same"
        listed(console, head, list(map(str, losses)), "bright_red")
    for severity in _SIGNS:
        alike: dict[tuple[str, str], list[Finding]] = {}
        for each in of[severity]:
            alike.setdefault((each.what, each.remedy), []).append(each)
        for (_, remedy), some in alike.items():
            remark(console, _in_a_line(some), severity=severity)
            for line in remedy.splitlines():
                console.print(f"      {line}", style="dim", soft_wrap=True)


def remark(console: Page, text: str, *, severity: Severity = Severity.NOTE) -> None:
    """Draw what a person should know, by how much it matters."""
    sign, style = _SIGNS[severity]
    console.hang(f"  {sign} ", text, style=style)


def _in_a_line(alike: Sequence[Finding]) -> str:
    """Return findings that differ in nothing but their place as one line."""
    if len(alike) == 1:
        return str(alike[0])
    return f"{alike[0].what} ({len(alike):,}): {_examples([each.place for each in alike])}"


def listed(console: Page, head: str, items: Sequence[str], style: str) -> None:
    """Draw a head and some items below it, the first of many."""
    console.print()
    console.print(f"  {head}", style=f"bold {style}")
    for item in items[:_MOST_LISTED]:
        console.print(f"    - {one_line(item)}", style=style, soft_wrap=True)
    if len(items) > _MOST_LISTED:
        console.print(f"    … and {len(items) - _MOST_LISTED} more", style=style)


def running(console: Page, programs: Sequence[object], advice: str) -> None:
    """Warn of programs that run from a place."""
    if programs:
        more = " …" if len(programs) > _EXAMPLES else ""
        shown = "; ".join(map(str, programs[:_EXAMPLES])) + more
        remark(console, f"in use by {shown}. {advice}", severity=Severity.WARNING)


def uncovered(console: Page, folders: Sequence[Belonging], fate: str) -> None:
    """Say which of the user's files no category lists, and what becomes of them."""
    listed = [f"{one.name} ({files(one.files, one.size_bytes)})" for one in folders]
    if listed:
        shown = ", ".join(listed[:_EXAMPLES]) + (" …" if len(listed) > _EXAMPLES else "")
        remark(console, f"in no category of the card: {shown}; {fate}")


def balances(console: Page, books: Sequence[Statement]) -> None:
    """Draw the balance of each account after the change, a line each."""
    console.print()
    for one in _summed(books, False):
        parts = [f"{number:,} {name}" for name, number in one.totals().items() if number]
        known = one.counted_before is not None and one.counted_after is not None
        sides = (
            f"{one.counted_before:,} {one.unit} before, {one.counted_after:,} after"
            if known
            else "not counted"
        )
        text = f"  {one.subject}: {sides}: {', '.join(parts)}"
        console.print(text, style="green", soft_wrap=True)


def _side(name: str, number: int) -> str:
    return f"    {name:<11}{number:>9,}"


def _summed(books: Sequence[Statement], lines: bool) -> list[Statement]:
    """Return accounts of what is inside files as one a unit: a page has room for few."""
    shown = [one for one in books if lines or one.unit not in _INSIDE]
    for unit in () if lines else _INSIDE:
        inside = [one for one in books if one.unit == unit]
        if len(inside) > 1:
            inside = [Statement.together(f"inside {len(inside)} files", inside)]
        shown += inside
    return shown


def _groups(console: Page, lines: Iterable[Line]) -> None:
    """Draw lines that happened for one reason as one, the most urgent first."""
    groups: dict[tuple[Outcome, str], list[Line]] = {}
    for line in lines:
        if line.reason or line.outcome is not Outcome.UNCHANGED:
            groups.setdefault((line.outcome, line.reason), []).append(line)
    ordered = sorted(groups.items(), key=lambda group: _URGENCY[group[0][0].value])
    for (outcome, reason), of_one in ordered[:_MOST_GROUPS]:
        items = [line.item for line in of_one]
        number = sum(line.count for line in of_one)
        console.assemble(
            (f"    {outcome.value:<11}", _STYLES[outcome.value]),
            (f"{number:>6,}  {reason or ''}", "default"),
            (f"  {_examples(items)}", "dim"),
        )
    if len(groups) > _MOST_GROUPS:
        console.print(
            f"    … {len(groups) - _MOST_GROUPS} more reasons; --lines shows all", style="dim"
        )


def _examples(items: Sequence[str]) -> str:
    """Return the first of some items; those that differ only in an index count as one."""
    names = list(dict.fromkeys(_INDEX.sub("[*]", item) for item in items))
    more = f" +{len(names) - _EXAMPLES}" if len(names) > _EXAMPLES else ""
    return ", ".join(names[:_EXAMPLES]) + more


def _every_line(console: Page, lines: Iterable[Line]) -> None:
    for line in lines:
        became = f" → {line.became}" if line.became else ""
        reason = f"   {line.reason}" if line.reason else ""
        many = f"  ({line.count:,} values)" if line.count > 1 else ""
        console.print(
            f"    {line.outcome.value:<11} {line.item}{became}{many}{reason}",
            style=_STYLES[line.outcome.value],
            soft_wrap=True,
        )
