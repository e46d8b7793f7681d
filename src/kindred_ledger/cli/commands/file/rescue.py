"""kindred file rescue"""

from __future__ import annotations

from typing import Any

import click

from ....convert.operations import Rescue
from ....finding import Severity, of_severity
from ...applying import carry_out
from ...meanings import many, value
from ...options import storing, writing
from ...session import Session


@click.command()
@click.argument("newer")
@click.argument("older")
@many("--group")
@many("--renamed", "names")
@value("--card")
@writing
@storing
def command(
    session: Session,
    *,
    newer: str,
    older: str,
    group: tuple[str, ...],
    names: tuple[str, ...],
    **options: Any,
) -> int:
    """Restore fields in NEWER that another converter lost, from the OLDER file.

    What is in neither file cannot be restored and is listed first (status 1).

    \b
    Example, in the demo's folder:
      kindred file rescue mossferry/userdata/saves/midwinter.voyage kept.voyage --dry-run
    """
    pairs = dict(pair.partition("=")[::2] for pair in names)
    change = Rescue(newer, older, group, pairs).compute(session.context)
    if not change.findings and not session.json:
        session.out.print("  ✓ nothing is missing or empty", style="green")
    status = carry_out(session, change, **options)
    return status or int(bool(of_severity(change.findings, Severity.ERROR)))
