"""kindred undo"""

from __future__ import annotations

from typing import Any

import click

from ...planning.reverting import Undo
from ..applying import carry_out
from ..options import session, writing
from ..session import Session


@click.command()
@click.argument("change", default="latest")
@writing
@session("undo")
def command(session: Session, *, change: str, **options: Any) -> int:
    """Take back one CHANGE of the history (default: the latest); undo that to do it again.

    \b
    Example, in the demo's folder:
      kindred undo latest --dry-run
    """
    return carry_out(session, Undo(change).compute(session.context), **options)
