"""kindred sync meet"""

from __future__ import annotations

from typing import Any

import click

from ....transfers.operations import Meet
from ...deciding import decide_and_carry_out
from ...meanings import many, value
from ...options import categorised, entry_argument, placing, storing, writing
from ...session import Session


@click.command()
@click.argument("install")
@entry_argument("entry", default="")
@categorised
@many("--mine")
@many("--theirs")
@many("--both")
@value("--resolutions")
@writing
@placing
@storing
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
    """Merge what another machine did to the data of INSTALL, from the ENTRY it stored in this ledger.

    Without ENTRY the newest of another machine is taken. What only one side changed is taken over; what
    both changed is a question.

    \b
    Example, in the demo's folder:
      kindred sync meet mossferry --dry-run
    """
    made = Meet(install, entry, categories, mine, theirs, both, resolutions)
    return decide_and_carry_out(session, made, resolutions=resolutions, **options)
