"""Drawing: headings, tables and findings as people read them."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from ..finding import Finding, Severity
from ..wording import count, size
from .speaking import as_options
from .visible import one_line

if TYPE_CHECKING:
    from ..cards import Belonging
    from .page import Page

__all__ = [
    "NARROW",
    "count",
    "examples",
    "files",
    "findings",
    "heading",
    "here",
    "listed",
    "local",
    "moment",
    "remark",
    "rows",
    "short",
    "size",
    "uncovered",
]

_INDEX = re.compile(r"\[\d+\]")
_SIGNS = {
    Severity.ERROR: ("✗", "bright_red"),
    Severity.WARNING: ("!", "bold yellow"),
    Severity.NOTE: ("·", "dim"),
}
_EXAMPLES = 3
_MOST_LISTED = 12
NARROW = 70  # columns; below, numbers and short cells stand in no column
_NARROWEST = 16  # columns a folded cell needs


def files(number: int, size_bytes: int) -> str:
    """Return a number of files and their size."""
    return f"{count(number, 'file')}, {size(size_bytes)}"


def moment(when: str) -> str:
    """Return a time of the ledger (ISO 8601, UTC) as people read it: by the clock of this machine."""
    return f"{datetime.fromisoformat(when).astimezone():%Y-%m-%d %H:%M:%S}"


def short(path: str) -> str:
    """Return a path as it is shown: relative where it lies below the working folder."""
    if not os.path.isabs(path) or not here():
        return path
    inner = os.path.relpath(path)
    return path if inner.startswith("..") else inner


def here() -> str:
    """Return the working folder; "" if it was deleted meanwhile."""
    try:
        return os.getcwd()
    except OSError:
        return ""


def local(text: str) -> str:
    """Return a text in the words of the command line: its options, and paths as seen from here."""
    inside = os.path.join(here(), "")
    return as_options(text.replace(inside, "") if len(inside) > 1 else text)


def heading(console: Page, text: str, aside: str = "") -> None:
    """Draw the head of a page; where both do not fit, what stands aside comes below it."""
    console.print()
    if console.width and len(text) + len(aside) + 3 > console.width:
        console.hang("", one_line(text), style="bold")
        if aside:
            console.hang("    ", one_line(aside), style="dim")
        return
    console.assemble((text, "bold"), ("   " + aside if aside else "", "dim"))


def rows(
    console: Page, heads: Sequence[str], lines: Iterable[Sequence[str]], right: str = ""
) -> None:
    """Draw a table without rules; `right` holds the letters r for columns set to the right."""
    lines = [list(map(one_line, line)) for line in lines]
    columns = zip(heads, *lines, strict=True)
    widths = [max(map(_cell_width, column)) for column in columns]
    if console.width and sum(widths) + 2 * len(widths) > console.width:
        _folded(console, heads, lines, widths, right)
        return
    for at, line in enumerate((heads, *lines)):
        console.print(_aligned(line, widths, right), style="" if at else "dim", soft_wrap=True)


def _aligned(line: Sequence[str], widths: Sequence[int], right: str) -> str:
    """Return the cells of a line in columns."""
    cells = []
    for cell, width, side in zip(line, widths, right.ljust(len(widths)), strict=True):
        space = " " * (width - _cell_width(cell))
        cells.append(space + cell if side == "r" else cell + space)
    return "  ".join(cells).rstrip()


def _cell_width(text: str) -> int:
    """Return how many columns of a terminal a text takes."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def _folded(
    console: Page,
    heads: Sequence[str],
    lines: Sequence[Sequence[str]],
    widths: Sequence[int],
    right: str,
) -> None:
    """Draw a table that is wider than the terminal: its widest column is folded, if that is enough; else each
    line becomes a block. Ids, dates and numbers are never broken."""
    widest = max(range(len(widths)), key=widths.__getitem__)
    room = console.width - sum(widths) + widths[widest] - 2 * (len(widths) - 1)
    if room < _NARROWEST:
        _as_blocks(console, heads, lines)
        return
    room_for = [*widths[:widest], room, *widths[widest + 1 :]]
    for at, line in enumerate((heads, *lines)):
        for part, cell in enumerate(console.folded(line[widest], room)):
            shown = [""] * len(line) if part else [*line]
            shown[widest] = cell
            drawn = _aligned(shown, room_for, right)
            console.print(drawn, style="" if at else "dim", soft_wrap=True)


def _as_blocks(console: Page, heads: Sequence[str], lines: Sequence[Sequence[str]]) -> None:
    """Draw each line of a table as a block: its first cell, and below it what each other cell is."""
    for line in lines:
        console.hang("", line[0].strip(), style="bold")
        for head, cell in zip(heads[1:], line[1:], strict=True):
            if cell:
                console.hang("    ", f"{head}: {cell}" if head else cell, style="default")


def findings(console: Page, found: Iterable[Finding]) -> None:
    """Draw what was found: what needs a decision, what would be lost, errors, warnings, notes."""
    of = {severity: [each for each in found if each.severity is severity] for severity in Severity}
    conflicts, losses = of[Severity.CONFLICT], of[Severity.LOSS]
    if conflicts:
        head = f"{count(len(conflicts), 'decision')} needed"
        listed(console, head, list(map(str, conflicts)), "yellow")
        for remedy in dict.fromkeys(conflict.remedy for conflict in conflicts):
            console.hang("    ", local(remedy), style="default")
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
                console.hang("      ", local(line), style="dim")


def remark(console: Page, text: str, *, severity: Severity = Severity.NOTE) -> None:
    """Draw what a person should know, by how much it matters."""
    sign, style = _SIGNS[severity]
    console.hang(f"  {sign} ", local(text), style=style)


def _in_a_line(alike: Sequence[Finding]) -> str:
    """Return findings that differ in nothing but their place as one line."""
    if len(alike) == 1:
        return str(alike[0])
    return f"{alike[0].what} ({len(alike):,}): {examples([each.place for each in alike])}"


def listed(console: Page, head: str, items: Sequence[str], style: str) -> None:
    """Draw a head and some items below it, the first of many."""
    console.print()
    console.print(f"  {head}", style=f"bold {style}")
    for item in items[:_MOST_LISTED]:
        console.hang("    - ", one_line(local(item)), style=style)
    if len(items) > _MOST_LISTED:
        console.print(f"    … and {len(items) - _MOST_LISTED} more", style=style)


def uncovered(console: Page, folders: Sequence[Belonging], fate: str) -> None:
    """Say which of the user's files no category lists, and what becomes of them."""
    listed = [f"{one.name} ({files(one.files, one.size_bytes)})" for one in folders]
    if listed:
        shown = ", ".join(listed[:_EXAMPLES]) + (" …" if len(listed) > _EXAMPLES else "")
        remark(console, f"uncategorised: {shown}; {fate}")


def examples(items: Sequence[str]) -> str:
    """Return the first of some items; those that differ only in an index count as one."""
    names = list(dict.fromkeys(_INDEX.sub("[*]", item) for item in items))
    more = f" +{len(names) - _EXAMPLES}" if len(names) > _EXAMPLES else ""
    return ", ".join(names[:_EXAMPLES]) + more
