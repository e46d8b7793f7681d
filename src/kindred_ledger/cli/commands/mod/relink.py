"""kindred mod relink"""

from __future__ import annotations

from typing import Any

import click

from ....mods.operations import Relink
from ...applying import carry_out
from ...meanings import many
from ...options import placing, storing, writing
from ...session import Session


@click.command()
@click.argument("project")
@click.argument("folders", nargs=-1, required=True)
@many("--choose")
@writing
@placing
@storing
def command(
    session: Session,
    *,
    project: str,
    folders: tuple[str, ...],
    choose: tuple[str, ...],
    **options: Any,
) -> int:
    """Mend the references of PROJECT that lead nowhere, with what is found in FOLDERS.

    References are paths and names of files in any file of it: settings, records, plain text. One that may
    mean several files is listed with what speaks for each; --choose says which. A card that describes
    projects tells libraries by their names and versions, and which ids lead nowhere.

    \b
    Example, in the demo's folder modding/quaywright:
      kindred mod relink projects/delta libraries
    """
    made = Relink(project, folders, choose, session.named_title)
    return carry_out(session, made.compute(session.context), **options)
