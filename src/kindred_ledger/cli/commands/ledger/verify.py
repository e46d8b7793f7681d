"""kindred ledger verify"""

from __future__ import annotations

import click
import msgspec

from ....ledger import verify
from ... import health
from ...meanings import flag, value
from ...options import session
from ...session import Session


@click.command()
@value("--share", type=click.FloatRange(0, 100, min_open=True), default=100)
@flag("--lines")
@session
def command(session: Session, *, share: float, lines: bool) -> int:
    """Check every byte of the ledger for corruption.

    Says which of its files are damaged, and which entries and paths are lost by that (status 5).

    \b
    Example, in the demo's folder:
      kindred ledger verify
    """
    found = verify(session.ledger, share=share / 100, progress=session.progress)
    status = health.status_of(found)
    if session.json:
        return session.emit(status, **msgspec.to_builtins(found))
    health.verified(session.out, found, lines=lines)
    return status
