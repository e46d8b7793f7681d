"""kindred mod swap"""

from __future__ import annotations

from typing import Any

import click

from ....mods.operations import SwapLibrary
from ...applying import carry_out
from ...options import placing, storing, writing
from ...session import Session


@click.command()
@click.argument("project")
@click.argument("old")
@click.argument("new")
@writing
@placing
@storing
def command(session: Session, *, project: str, old: str, new: str, **options: Any) -> int:
    """Have PROJECT, a file or a folder of such, use the library file NEW instead of OLD.

    OLD is what the projects call the library now. Values, positions and links stay; what the new version
    has no place for is noted in the project; what has no successor is held, and stays with the old version.

    \b
    Example, in the demo's folder modding, after its references are mended:
      kindred mod swap quaywright/projects piers-1.2 quaywright/libraries/piers-2.0/piers.parts
    """
    made = SwapLibrary(project, old, new, session.named_title)
    return carry_out(session, made.compute(session.context), **options)
