"""kindred verify"""

from __future__ import annotations

import click
import msgspec

from ...ledger import verify
from .. import health
from ..options import session
from ..session import Session


@click.command()
@click.option(
    "--share",
    type=click.FloatRange(0, 100, min_open=True),
    default=100,
    metavar="PERCENT",
    help="Only so much of the packs: those not checked for the longest.",
)
@click.option("--lines", is_flag=True, help="Show every path that is lost.")
@session("verify")
def command(session: Session, *, share: float, lines: bool) -> int:
    """Hold every byte of the ledger against the digests it was written with.

    Says which files of the ledger are damaged, and what that costs by entry and path.

    \b
    Example, in the demo's folder:
      kindred verify
    """
    found = verify(session.ledger, share=share / 100, progress=session.progress)
    status = health.status_of(found)
    if session.json:
        return session.emit(status, **msgspec.to_builtins(found))
    health.verified(session.out, found, lines=lines)
    return status
