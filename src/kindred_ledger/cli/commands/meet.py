"""kindred meet"""

from __future__ import annotations

from typing import Any

import click

from ...planning.deciding import note_conflicts
from ...transfers.operations import Meet
from ..applying import carry_out
from ..options import placing, session, writing
from ..session import Session


@click.command()
@click.argument("install")
@click.argument("entry", default="")
@click.option("--category", "categories", multiple=True, help="Only this category (repeatable).")
@click.option(
    "--mine", multiple=True, metavar="PATTERN[:FIELD]", help="Yours stays where both changed."
)
@click.option("--theirs", multiple=True, metavar="PATTERN[:FIELD]", help="Theirs comes there.")
@click.option("--both", multiple=True, metavar="PATTERN", help="Theirs stands beside yours.")
@click.option(
    "--resolutions",
    default="",
    metavar="FILE",
    help="Decide by this file; conflicts that are open are put into it.",
)
@writing
@placing
@session("meet")
def command(
    session: Session,
    *,
    install: str,
    entry: str,
    categories: tuple[str, ...],
    mine: tuple[str, ...],
    theirs: tuple[str, ...],
    both: tuple[str, ...],
    resolutions: str,
    **options: Any,
) -> int:
    """Take in what another machine did to the data of INSTALL, from the ENTRY it kept in this ledger.

    Without ENTRY it is the newest that another machine, or place, kept. What only one side changed
    since they last met is taken over; what both changed is a question.

    \b
    Example, in the demo's folder:
      kindred meet mossferry --dry-run
    """
    made = Meet(install, entry, categories, mine, theirs, both, resolutions)
    change = made.compute(session.context)
    if resolutions:
        note_conflicts(resolutions, change)
    return carry_out(session, change, **options)
