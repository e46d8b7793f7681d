"""kindred carry"""

from __future__ import annotations

from typing import Any

import click

from ...errors import UsageError
from ...planning.operation import Operation
from ...transfers.operations import Carry, CarryFiles
from ..applying import carry_out
from ..meanings import flag, many
from ..options import categorised, placing, selecting, storing, writing
from ..session import Session


@click.command()
@click.argument("source")
@click.argument("target")
@categorised
@selecting
@many("--overwrite")
@many("--keep")
@many("--both")
@many("--merge")
@flag("--exact")
@writing
@placing
@storing
def command(
    session: Session,
    *,
    source: str,
    target: str,
    categories: tuple[str, ...],
    only: tuple[str, ...],
    exclude: tuple[str, ...],
    exact: bool,
    **options: Any,
) -> int:
    """Copy what SOURCE holds to TARGET: categories between installs, or files as they are.

    With --category, between installs, files are converted where needed. Without it SOURCE and TARGET are
    any places (folders, archives, memory cards, servers), and only what changed since the last time is
    sent. Files of the target that differ are never replaced unasked: choose with --overwrite, --keep,
    --both or --merge.

    \b
    Examples, in the demo's folder:
      kindred carry mossferry second/mossferry --category saves --dry-run
      kindred carry mossferry second/mossferry --category settings --merge "*" --dry-run
      kindred carry handheld server --only "*.pocket" --dry-run
    """
    said = {name: options.pop(name) for name in ("overwrite", "keep", "both")}
    merge = options.pop("merge")
    context = session.context
    made: Operation
    if categories or (context.is_install(source) and context.is_install(target)):
        _refuse(exact, "--exact")
        made = Carry(source, target, categories, only, merge=merge, exclude=exclude, **said)
    else:
        _refuse(bool(merge), "--merge")
        made = CarryFiles(source, target, only, exact=exact, exclude=exclude, **said)
    return carry_out(session, made.compute(context), **options)


def _refuse(given: bool, name: str) -> None:
    if given:
        what = "files as they are" if name == "--exact" else "categories between installs"
        raise UsageError(f"{name} is for {what}", remedy="Leave it out; see kindred carry --help.")
