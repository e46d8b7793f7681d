"""kindred card route"""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Any

import click

from ....cards import Card, Format
from ....convert import FileRoute, Hop, describe_step, hops_of, knows, route_for
from ....convert.operations import Convert
from ....errors import KindredError, UsageError
from ....finding import Severity
from ....versions import Version
from ... import drawing
from ...meanings import value
from ...options import session
from ...session import Session

_SHOWN = 6  # files of a route


@click.command()
@click.argument("what", metavar="FORMAT|FILE|FOLDER")
@value("--from-format", "source")
@value("--to-format", "target")
@value("--to", "wanted")
@value("--card")
@session
def command(session: Session, *, what: str, source: str, target: str, wanted: str) -> int:
    """Show how a format converts from one version to another, and what each step loses.

    Name a format of a card, a file of one, or a folder: an install, a pack, or a folder of files, of which
    each route is shown once. Without a target all steps of a format are shown. Status 1 if there is no route.

    \b
    Example, in the demo's folder:
      kindred card route voyage --from-format 3 --to-format 6
    """
    if os.path.isdir(what):
        return _in_folder(session, what, source, target, wanted)
    card, format = _format(session, what)
    read = format.scheme.parse
    begin = read(source) if source else _version_of(format, what)
    end = read(target) if target else format.written_by(card.build(wanted)) if wanted else None
    for asked in (source, target):
        if asked and not knows(format, asked):
            told = sorted({v for hop in hops_of(format) for v in (hop.source, hop.target)})
            raise UsageError(
                f"{format.name} has no format version {asked}",
                remedy=f"It has {', '.join(v.text for v in told)}." if told else "",
            )
    every = sorted(hops_of(format), key=lambda hop: (hop.source, hop.target))
    if begin is None or end is None:
        if session.json:
            return session.emit(**_plain(card, format, every))
        _draw_versions(session, card, format, every)
        return 0
    try:
        hops = route_for(format, begin, end)
    except KindredError as error:
        if session.json:
            return session.emit(1, **_plain(card, format, ()), no_route=error.what)
        _draw_versions(session, card, format, every)
        drawing.remark(session.out, f"{error.what}. {error.advice}", severity=Severity.WARNING)
        return 1
    if session.json:
        return session.emit(**_plain(card, format, hops))
    _draw_route(session, format, begin, hops)
    return 0


def _in_folder(session: Session, what: str, source: str, target: str, wanted: str) -> int:
    """Show each route that files in a folder take."""
    card, found = Convert(what, wanted, target, from_format=source).routes(session.context)
    status = int(any(each.fault for each in found))
    if session.json:
        plain = [_plain_in_folder(card, each) for each in found]
        return session.emit(status, title=card.title, format="", hops=[], routes=plain)
    for name in dict.fromkeys(each.format.name for each in found):
        routes = [each for each in found if each.format.name == name]
        for each in routes:
            _draw_files(session, each)
        hops = {(hop.source, hop.target): hop for each in routes for hop in each.hops}
        ordered = sorted(hops.values(), key=lambda hop: (hop.source, hop.target))
        _draw_hops(session, routes[0].format, ordered)
    return status


def _draw_files(session: Session, route: FileRoute) -> None:
    what = "pack" if route.format.is_folder else "file"
    number = drawing.count(len(route.files), what) if route.files != ("",) else "this pack"
    if route.fault:
        drawing.heading(session.out, route.format.name, number)
        drawing.remark(session.out, route.fault, severity=Severity.WARNING)
    else:
        assert route.source is not None
        _draw_ends(session, route.format, route.source, route.hops, number)
    some = ", ".join(route.files[:_SHOWN])
    more = f" and {len(route.files) - _SHOWN} more" if len(route.files) > _SHOWN else ""
    session.out.hang("    ", f"{some}{more}", style="dim")


def _plain_in_folder(card: Card, route: FileRoute) -> dict[str, Any]:
    return {
        **_plain(card, route.format, route.hops),
        "from": route.source.text if route.source is not None else None,
        "to": route.target.text,
        "files": list(route.files),
        "no_route": route.fault,
    }


def _format(session: Session, what: str) -> tuple[Card, Format]:
    """Return the format that is named, or that a file is of."""
    named = [(card, card.formats[what]) for card in session.cards if what in card.formats]
    if named:
        return named[0]
    if os.path.isfile(what):
        for card in session.cards:
            for format in card.formats.values():
                if format.fits_name(what):
                    return card, format
        raise UsageError("no card has a format for this file", where=what)
    known = [name for card in session.cards for name in card.formats]
    raise UsageError(f"there is no file and no format {what!r}",
                     remedy=f"Formats of the cards here: {', '.join(known) or 'none'}.")  # fmt: skip


def _version_of(format: Format, what: str) -> Version | None:
    if not os.path.isfile(what):
        return None
    with open(what, "rb") as file:
        return format.version_of(format.decode(file.read()), what)


def _draw_versions(session: Session, card: Card, format: Format, hops: Sequence[Hop]) -> None:
    drawing.heading(session.out, f"{card.name}: {format.name}", "format versions")
    builds = format.table.builds
    versions = {each for hop in hops for each in (hop.source, hop.target)}
    versions |= {format.scheme.parse(v) for row in builds for v in (row.writes, *row.reads)}
    lines = []
    for version in sorted(versions):
        writes = [row.builds for row in builds if row.writes == version.text]
        reads = [row.builds for row in builds if version.text in row.reads]
        reads += [
            other.name
            for other in session.cards
            if version in (other.reads_of(card) or {}).get(format.name, ())
        ]
        lines.append((version.text, " or ".join(writes) or "-", " or ".join(reads) or "-"))
    drawing.rows(session.out, ("version", "written by builds", "read by"), lines)
    session.out.print()
    for hop in hops:
        _draw_head(session, format, hop)
    if not hops:
        session.out.print("    no steps lead from one to another", style="dim")


def _draw_route(session: Session, format: Format, begin: Version, hops: Sequence[Hop]) -> None:
    _draw_ends(session, format, begin, hops, "")
    _draw_hops(session, format, hops)


def _draw_ends(
    session: Session, format: Format, begin: Version, hops: Sequence[Hop], number: str
) -> None:
    """Draw where a route leads, and what it loses; `number` says how many files take it."""
    losing = sum(hop.loses for hop in hops)
    told = f"{losing} with a loss" if losing else "nothing is lost"
    names = " → ".join([begin.text, *(hop.target.text for hop in hops)])
    aside = (
        f"{drawing.count(len(hops), 'hop')}, {told}" if hops else "it is in that version already"
    )
    drawing.heading(
        session.out, f"{format.name}: {names}", ", ".join(filter(None, (number, aside)))
    )


def _draw_hops(session: Session, format: Format, hops: Sequence[Hop]) -> None:
    for number, hop in enumerate(hops):
        if number:
            session.out.print()
        _draw_hop(session, format, hop)


def _draw_hop(session: Session, format: Format, hop: Hop) -> None:
    """Draw what one hop does."""
    _draw_head(session, format, hop)
    for each in describe_step(format, hop):
        style = "bright_red" if each.loses else "default"
        sign = "✗" if each.loses else "·"
        session.out.hang(f"        {sign} ", each.text, style=style)
    if hop.number >= 0 and format.table.steps[hop.number].note:
        note = format.table.steps[hop.number].note
        session.out.hang("        ! ", note, style="yellow")


def _draw_head(session: Session, format: Format, hop: Hop) -> None:
    told = describe_step(format, hop)
    losing = sum(each.loses for each in told)
    changes = sum(not each.is_condition for each in told)
    what = drawing.count(changes, "change") if changes else "nothing changes but the number"
    lost = f", {drawing.count(losing, 'loss')}" if losing else ""
    session.out.assemble(
        (f"    {hop.source.text} → {hop.target.text}", "bold"),
        (f"   {what}{lost}", "default"),
        ("" if hop.number >= 0 else "   by the layout alone", "dim"),
    )


def _plain(card: Card, format: Format, hops: Sequence[Hop]) -> dict[str, Any]:
    return {
        "title": card.title,
        "format": format.name,
        "hops": [
            {
                "from": hop.source.text,
                "to": hop.target.text,
                "loses": hop.loses,
                "by_layout": hop.number < 0,
                "does": [
                    {"text": each.text, "loses": each.loses} for each in describe_step(format, hop)
                ],
            }
            for hop in hops
        ],
    }
