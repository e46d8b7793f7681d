"""kindred reapply"""

from __future__ import annotations

from typing import Any

import click

from ...edits.operations import Reapply
from ...errors import UsageError
from ..deciding import decide_and_carry_out
from ..meanings import flag, many, value
from ..options import placing, storing, writing
from ..session import Session


@click.command()
@click.argument("edited")
@click.argument("release")
@value("--old")
@value("--into")
@many("--mine")
@many("--theirs")
@value("--prefer")
@flag("--whole")
@flag("--part")
@flag("--agree")
@value("--resolutions")
@writing
@placing
@storing
def command(
    session: Session,
    *,
    edited: str,
    release: str,
    old: str,
    into: str,
    whole: bool,
    part: bool,
    **rest: Any,
) -> int:
    """Bring what you changed in EDITED to the files of RELEASE.

    EDITED is an install, a folder, a mod or an entry; RELEASE the new originals, changed in place unless
    --into says where the result goes. What both were made from is --old, or is looked for on the shelf.
    Inside files, changes come together record by record and field by field; where both sides changed the
    same, you decide.

    \b
    Examples, in the demo's folder:
      kindred reapply mossferry second/mossferry --old downloads/mossferry-1.4.zip --dry-run
      kindred reapply mossferry release:mossferry@2.0 --into edited-2.0 --dry-run
    """
    if whole and part:
        raise UsageError("a whole copy is no part", remedy="Say --whole or --part, not both.")
    said = {name: rest.pop(name) for name in ("mine", "theirs", "prefer", "agree", "resolutions")}
    made = Reapply(
        edited,
        release,
        old,
        into,
        session.named_title,
        whole=True if whole else False if part else None,
        **said,
    )
    return decide_and_carry_out(session, made, resolutions=said["resolutions"], **rest)
