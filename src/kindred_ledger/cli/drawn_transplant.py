"""What commands about long games draw: counts by kind, what is baked in, and the ways on."""

from __future__ import annotations

from typing import Any

from msgspec import to_builtins

from ..finding import Severity, of_severity
from ..worlds import TransplantForecast
from . import drawing
from .session import Session

__all__ = ["draw_baked", "draw_counts", "draw_each", "draw_ways", "plain_forecast"]

_VALUES = 12  # of a group that are listed


def draw_counts(session: Session, told: TransplantForecast) -> None:
    """Draw how many things of each kind move, are matched, wait and stay behind."""
    drawing.heading(session.out, f"{_name(told.old)} into {_name(told.new)}", f"rules {told.rules}")
    rows = [
        (f"    {each.kind}", *(f"{n:,}" if n else "" for n in (
            each.count, each.moved, each.matched, each.bundled, each.stays)))
        for each in told.counts
    ]  # fmt: skip
    heads = ("    things", "in all", "move", "matched", "wait", "stay behind")
    drawing.rows(session.out, heads, rows)
    if told.links_left:
        links = drawing.count(told.links_left, "link")
        session.out.print(f"  {links} of what moves will lead nowhere, see below", style="yellow")
    session.out.print()


def draw_each(session: Session, told: TransplantForecast) -> None:
    """Draw every thing that gets another place, and every link that will lead nowhere."""
    if told.places:
        session.out.print("\nOther places", style="bold")
        rows = [(f"    {p.kind}", p.name, f"{p.x:g}, {p.z:g}") for p in told.places]
        drawing.rows(session.out, ("    things", "name", "now at"), rows)
    if told.left:
        session.out.print("\nLinks that will lead nowhere", style="bold")
        left = [(f"    {link.kind}", link.name, link.field, link.why) for link in told.left]
        drawing.rows(session.out, ("    things", "name", "link", "why"), left)


def draw_baked(session: Session, told: TransplantForecast) -> None:
    """Draw what is baked into the old save, old and new."""
    differing = sum(len(group.differing) for group in told.baked)
    what = (
        f"{differing} values differ from the new build" if differing else "all as in the new build"
    )
    session.out.print(f"Baked into {_name(told.old)} when it was begun: {what}", style="bold")
    for group in told.baked:
        source = (
            f"new values from {group.source}" if group.source else "the new values are not known"
        )
        session.out.hang(
            f"  {group.name}: ", f"{group.why}; {source}".lstrip("; "), style="default"
        )
        rows = [
            (f"    {each.name}", each.old or "not there", each.new or "not there")
            for each in group.differing[:_VALUES]
        ]
        if rows:
            drawing.rows(session.out, ("    value", "in your save", "in the new build"), rows)
        if len(group.differing) > _VALUES:
            session.out.print(f"    and {len(group.differing) - _VALUES} more", style="dim")
    if not told.baked:
        session.out.print("  the card names nothing", style="dim")


def draw_ways(session: Session, told: TransplantForecast, command: str) -> None:
    """Draw the three ways on, with what each costs."""
    conflicts = of_severity(told.findings, Severity.CONFLICT)
    if conflicts:
        session.out.print("\nA transplant needs a decision first:", style="bold")
        drawing.findings(session.out, conflicts)
    session.out.print("\nThree ways on:", style="bold")
    for number, (name, costs) in enumerate(_ways(told), 1):
        session.out.hang(f"  {number}. {name}: ", costs, style="default")
    if told.counts:
        session.out.print(f"     {command}", style="cyan")


def _ways(told: TransplantForecast) -> list[tuple[str, str]]:
    yours = [(each.kind, each.moved + each.bundled) for each in told.counts]
    lost = ", ".join(f"{many:,} {kind}" for kind, many in yours if many)
    differing = sum(len(group.differing) for group in told.baked)
    moves = f"{told.moved:,} things move"
    if told.waiting:
        moves += f", {told.waiting:,} wait in a bundle until the new game can hold them"
    if told.links_left:
        moves += f", {drawing.count(told.links_left, 'link')} will lead nowhere"
    if not told.counts:
        lost = "all that is yours"
        moves = "look above" if told.new else "begin a game in the new build and save it first"
    return [
        ("a new game", f"you begin without {lost or 'anything'}"),
        (
            "go on with the old one",
            f"it plays, and {drawing.count(differing, 'value')} stay as the old build had them",
        ),
        ("a transplant", moves),
    ]


def plain_forecast(told: TransplantForecast) -> dict[str, Any]:
    """Return what a transplant would do as plain values."""
    return {
        "rules": told.rules,
        "old": told.old,
        "new": told.new,
        "counts": [to_builtins(each) for each in told.counts],
        "links_left": told.links_left,
        "baked": [to_builtins(each) for each in told.baked],
        "findings": [each.to_json() for each in told.findings],
        "places": [to_builtins(each) for each in told.places],
        "left": [to_builtins(each) for each in told.left],
    }


def _name(path: str) -> str:
    return path.rpartition("/")[2]
