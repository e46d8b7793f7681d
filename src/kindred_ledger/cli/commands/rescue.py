"""kindred rescue"""

from __future__ import annotations

from typing import Any

import click

from ...convert.operations import Rescue
from ...finding import Severity, of_severity
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
    pairs = dict(pair.partition("=")[::2] for pair in names)
    change = Rescue(newer, older, group, pairs).compute(session.context)
    if not change.findings and not session.json:
        session.out.print("  ✓ nothing is missing or empty", style="green")
    status = carry_out(session, change, **options)
    return status or int(bool(of_severity(change.findings, Severity.ERROR)))
