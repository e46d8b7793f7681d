"""kindred compare"""

from __future__ import annotations

from collections import Counter
from typing import Any

import click

from ...cards import select_categories
from ...formats import FieldDifference
from ...ledger import Tag
from ...places import Every, refusals, wanted, write_atomic
from ...planning import Comparison, compare
from ...planning.compare import largest_first, relative_change
from .. import drawing
from ..meanings import flag, value
from ..options import categorised, entry_argument, placing, selecting, session
from ..session import Session, refuse_taken

_MOST = 30  # differences listed one by one; beyond, folders are summed up
_FEW = 3
_LONGEST = 48  # characters of a value, unless all is asked for
_FILES, _FIELDS = 3, 5  # looked into, and shown of each, unless all are asked for


@click.command()
@entry_argument("before")
@entry_argument("after")
@categorised
@selecting
@flag("--lines", "show_all")
@value("--out")
@placing
@session
def command(
    session: Session,
    *,
    before: str,
    after: str,
    categories: tuple[str, ...],
    only: tuple[str, ...],
    exclude: tuple[str, ...],
    show_all: bool,
    out: str,
) -> int:
    """List what differs between two places, entries or releases.

    Files are compared by content, never by size or time; inside files of a known kind, record by record and
    field by field. With --out the result is written as a table (.csv) or a figure (.png, .svg, .pdf), too.
    Status 1 if anything differs.

    \b
    Examples, in the demo's folder:
      kindred compare mossferry@1.4 mossferry
      kindred compare downloads/mossferry-1.4.zip downloads/mossferry-2.0.zip --out changes.csv
    """
    sides = [session.context.subject(text) for text in (before, after)]
    tags = [tag for side in sides if isinstance(tag := getattr(side, "tag", None), Tag)]
    titles = {session.named_title, *(tag.title for tag in tags)} - {""}
    card = next((card for card in session.cards if card.title in titles), None)
    if out:
        refuse_taken(out)
    chosen = [asked for asked in (wanted(only, exclude),) if asked]
    if categories:
        known = next((tag.categories for tag in tags if tag.categories), {})
        chosen.append(select_categories(known, categories))
    found = compare(
        *sides,
        ledger=session.known_ledger(),
        card=card,
        only=Every(tuple(chosen)) if chosen else None,
        progress=session.progress,
    )
    status = 1 if found.differences else 0
    if out:
        _write(found, out, f"{before} to {after}")
    if session.json:
        return session.emit(status, same=found.same, differences=_plain(found))
    if not found.differences:
        session.out.print(
            f"No difference: {drawing.count(found.same, 'file')} hold the same, byte for byte."
        )
        return status
    totals = Counter(d.status for d in found.differences)
    parts = ", ".join(f"{number:,} {name}" for name, number in sorted(totals.items()))
    drawing.heading(session.out, f"{before} → {after}", f"{parts}, {found.same:,} the same")
    one_by_one = show_all or len(found.differences) <= _MOST
    lines = _lines(found) if one_by_one else _by_folder(found)
    if 0 < session.out.width < drawing.NARROW:
        for what, path, belongs in lines:
            session.out.hang(f"{what:<13}", path, style="default", aside=belongs)
    else:
        drawing.rows(session.out, ("    status", "path", "belongs to"), lines)
    _draw_fields(session, found, show_all=show_all)
    if out:
        session.out.print(f"Wrote what differs inside files: {out}")
    return status


def _write(found: Comparison, out: str, title: str) -> None:
    """Write a comparison as a table or a figure, by the name of the file."""
    if out.lower().endswith(".csv"):
        with refusals(out):
            write_atomic(out, found.to_csv().encode())
        return
    from ...planning.figures import draw_comparison

    draw_comparison(found, out, title=title)


def _plain(found: Comparison) -> list[dict[str, Any]]:
    return [
        {"path": d.path, "status": d.status, "category": found.categories.get(d.path)}
        | (
            {
                "fields": [
                    {"field": f.name, "before": f.before, "after": f.after}
                    for f in found.fields[d.path]
                ]
            }
            if d.path in found.fields
            else {}
        )
        for d in found.differences
    ]


def _lines(found: Comparison) -> list[tuple[str, str, str]]:
    return [
        (f"    {d.status}", d.path, found.categories.get(d.path, "")) for d in found.differences
    ]


def _by_folder(found: Comparison) -> list[tuple[str, str, str]]:
    """Return the differences as lines, those of one kind in one folder as one."""
    groups: dict[tuple[str, str], list[tuple[str, str, str]]] = {}
    for line in _lines(found):
        groups.setdefault((line[0], line[1].rpartition("/")[0]), []).append(line)
    lines = []
    for (status, folder), some in groups.items():
        if len(some) <= _FEW:
            lines += some
        else:
            lines.append((status, f"{folder}/ ({len(some):,} files)", some[0][2]))
    return lines


def _draw_fields(session: Session, found: Comparison, *, show_all: bool) -> None:
    files = list(found.fields.items())
    for path, fields in files if show_all else files[:_FILES]:
        drawing.heading(session.out, f"inside {path}", drawing.count(len(fields), "field"))
        shown = largest_first(fields)[: None if show_all else _FIELDS]
        lines = [
            (f"    {f.name}", _shown(f.before, show_all), _shown(f.after, show_all), _grown(f))
            for f in shown
        ]
        if lines and any(line[3] for line in lines):
            drawing.rows(session.out, ("    field", "before", "after", "change"), lines, "   r")
        elif lines:
            drawing.rows(
                session.out, ("    field", "before", "after"), [line[:3] for line in lines]
            )
        else:
            session.out.print("    the fields are the same; what differs lies between them")
        if len(fields) > len(shown):
            session.out.print(
                f"    … and {len(fields) - len(shown)} more; --lines shows them", style="dim"
            )
    if len(files) > _FILES and not show_all:
        more = drawing.count(len(files) - _FILES, "more file")
        session.out.print(f"\nFields of {more} differ; --lines shows them.", style="dim")
    for path, why in found.unread.items():
        session.out.print(f"    {path}: its fields cannot be compared: {why}", style="dim")


def _grown(field: FieldDifference) -> str:
    """Return how much a number changed, of what it was: `+50%`; "" for what is no number."""
    change = relative_change(field)
    return "" if change is None else f"{100 * change:+,.0f}%"


def _shown(text: str | None, whole: bool) -> str:
    if text is None:
        return "(none)"
    return text if whole or len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"
