"""kindred edits put"""

from __future__ import annotations

from typing import Any

import click

from ....edits.operations import PutEdits
from ...deciding import decide_and_carry_out
from ...meanings import flag, many, value
from ...options import placing, storing, writing
from ...session import Session


@click.command()
@click.argument("edits")
@click.argument("release")
@value("--old")
@value("--into")
@many("--mine")
@many("--theirs")
@value("--prefer")
@flag("--follow")
@flag("--agree")
@value("--resolutions")
@writing
@placing
@storing
def command(session: Session, *, edits: str, release: str, old: str, into: str, **rest: Any) -> int:
    """Bring the edit set EDITS to the files of RELEASE, in place or --into a folder.

    Edits that are in the release already are told; where it changed the same place, you decide.

    \b
    Example, in the demo's folder:
      kindred edits put mine.edits.toml downloads/mossferry-2.0.zip --into edited-2.0
    """
    names = ("mine", "theirs", "prefer", "follow", "agree", "resolutions")
    said = {name: rest.pop(name) for name in names}
    made = PutEdits(edits, release, old, into, session.named_title, **said)
    return decide_and_carry_out(session, made, resolutions=said["resolutions"], **rest)
