"""kindred redo"""

from __future__ import annotations

from typing import Any

import click

from ...planning.reverting import Redo
from ..applying import carry_out
from ..options import change_argument, session, writing
from ..session import Session


@click.command()
@change_argument
@writing
@session
def command(session: Session, *, change: str, **options: Any) -> int:
    """Make a CHANGE again that was taken back (default: the one that was undone last).

    \b
    Example, in the demo's folder:
      kindred redo --dry-run
    """
    return carry_out(session, Redo(change).compute(session.context), **options)
