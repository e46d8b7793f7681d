"""kindred mod relink"""

from __future__ import annotations

from typing import Any

import click

from ....mods.operations import Relink
from ...applying import carry_out
from ...meanings import many
from ...options import storing, writing
from ...session import Session


@click.command()
@click.argument("project")
@click.argument("folders", nargs=-1, required=True)
@many("--choose")
@writing
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
    mean several files is listed with what speaks for each; --choose says which.

    \b
    Example, in the demo's folder modding/quaywright:
      kindred mod relink projects/delta libraries
    """
    made = Relink(project, folders, choose)
    return carry_out(session, made.compute(session.context), **options)
