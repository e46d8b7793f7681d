"""kindred update"""

from __future__ import annotations

from typing import Any

import click

from ...errors import UsageError
from ...planning.operation import Operation
from ...updates.operations import InstallBeside, Reinstall, Update
from ..deciding import decide_and_carry_out
from ..meanings import flag, many, value
from ..options import placing, storing, writing
from ..session import Session


@click.command()
@click.argument("install")
@click.argument("release")
@value("--old")
@many("--mine")
@many("--theirs")
@many("--component", "components")
@many("--with", "also")
@flag("--clean")
@many("--keep")
@flag("--beside")
@value("--into")
@value("--resolutions")
@writing
@placing
@storing
def command(
    session: Session,
    *,
    install: str,
    release: str,
    old: str,
    clean: bool,
    keep: tuple[str, ...],
    beside: bool,
    into: str,
    **rest: Any,
) -> int:
    """Bring INSTALL to RELEASE: over the top, --clean, or --beside.

    RELEASE is a folder, an archive, or release:TITLE@VERSION from the shelf. What the card protects stays.
    With the old release (--old, or from the shelf) your own edits are recognised and kept, and what only
    the old release had is removed.

    \b
    Examples, in the demo's folder:
      kindred update mossferry downloads/mossferry-2.0.zip --old downloads/mossferry-1.4.zip
      kindred update mossferry downloads/mossferry-2.0.zip --beside --dry-run
    """
    said = {name: rest.pop(name) for name in ("mine", "theirs", "components", "also")}
    resolutions = rest.pop("resolutions")
    _check_style(clean, beside, keep, into, said)
    made: Operation
    if beside:
        made = InstallBeside(install, release, into)
    elif clean:
        made = Reinstall(install, release, old, keep)
    else:
        made = Update(install, release, old, resolutions=resolutions, **said)
    return decide_and_carry_out(session, made, resolutions=resolutions, **rest)


def _check_style(
    clean: bool,
    beside: bool,
    keep: tuple[str, ...],
    into: str,
    said: dict[str, tuple[str, ...]],
) -> None:
    if clean and beside:
        raise UsageError("--clean and --beside are two different things", remedy="Say one of them.")
    if (keep and not clean) or (into and not beside):
        option, style = ("--keep", "--clean") if keep else ("--into", "--beside")
        raise UsageError(f"{option} goes with {style}", remedy=f"Add {style}, or leave it out.")
    if (said["components"] or said["also"]) and (clean or beside):
        raise UsageError("single parts are brought over the top", remedy="Leave out the style.")
