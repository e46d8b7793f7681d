"""kindred undo"""

from __future__ import annotations

from typing import Any

import click

from ...planning.reverting import Undo
from ..applying import carry_out
from ..options import change_argument, session, writing
from ..session import Session


@click.command()
@change_argument
@writing
@session
def command(session: Session, *, change: str, **options: Any) -> int:
    """Take back one CHANGE (default: the last one that still applies).

    Undoing twice goes back two changes; redo goes forward again.

    \b
    Example, in the demo's folder:
      kindred undo --dry-run
    """
    return carry_out(session, Undo(change).compute(session.context), **options)
