"""kindred rescue"""

from __future__ import annotations

import os
from typing import Any

import click

from ...cards import Card, Format
from ...convert import Rescue, rescue_file
from ...errors import UsageError
from .. import drawing
from ..applying import carry_out
from ..options import session, writing
from ..session import Session


@click.command()
@click.argument("newer")
@click.argument("older")
@click.option(
    "--group", multiple=True, metavar="PATH", help="Look at this, not at what is required."
)
@click.option(
    "--from", "names", multiple=True, metavar="NEW=OLD", help="Its name in the older file."
)
@click.option("--card", default="", metavar="FILE", help="The card that describes the title.")
@writing
@session("rescue")
def command(
    session: Session,
    *,
    newer: str,
    older: str,
    group: tuple[str, ...],
    names: tuple[str, ...],
    **options: Any,
) -> int:
    """Fill the groups of fields that are empty in NEWER, as another program left it, from OLDER.

    What is in neither is beyond rescue, and said first. Status 1 if there is such.

    \b
    Example, in the demo's folder:
      kindred rescue mossferry/userdata/saves/midwinter.voyage kept.voyage --dry-run
    """
    card, format = _format(session, newer)
    with open(older, "rb") as file:
        before = file.read()
    done = rescue_file(
        newer,
        before,
        format,
        ledger=session.ledger,
        title=card.title,
        groups=group,
        names=dict(pair.partition("=")[::2] for pair in names),
        progress=session.progress,
    )
    if not session.json:
        _draw(session, done.found)
    status = carry_out(session, done.change, **options)
    return status or int(bool(done.found.findings))


def _format(session: Session, path: str) -> tuple[Card, Format]:
    if not os.path.isfile(path):
        raise UsageError("there is no such file", where=path, remedy="Check the path.")
    for card in session.cards:
        for format in card.formats.values():
            if format.fits_name(path):
                return card, format
    raise UsageError("no card has a format for this file", where=path)


def _draw(session: Session, found: Rescue) -> None:
    drawing.findings(session.out, found.findings)
    for group, reason in found.filled:
        session.out.print(f"  ✓ {group} {reason}", style="green", soft_wrap=True)
    if not found.filled and not found.findings:
        session.out.print("  ✓ nothing is missing or empty", style="green")
    if found.findings and not found.filled:
        session.out.print("  nothing can be filled, so nothing would be written", style="dim")
