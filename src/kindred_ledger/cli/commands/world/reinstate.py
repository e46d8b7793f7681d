"""kindred world reinstate"""

from __future__ import annotations

from typing import Any

import click

from ....worlds.operations import Reinstate
from ...applying import carry_out
from ...meanings import flag, value
from ...options import placing, storing, writing
from ...session import Session


@click.command()
@click.argument("install")
@value("--world")
@flag("--anyway")
@writing
@placing
@storing
def command(session: Session, *, install: str, world: str, anyway: bool, **options: Any) -> int:
    """Put back what inert content of a world of INSTALL was, if the build has it again.

    The ledger knows what stood where before the world was remapped. What no longer is where it was put is
    left alone and counted. Where that is most of it, --anyway says that it is the same world all the same.

    \b
    Example, in the demo's folder fens:
      kindred world reinstate game
    """
    return carry_out(session, Reinstate(install, world, anyway).compute(session.context), **options)
