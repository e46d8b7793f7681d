"""kindred carry"""

from __future__ import annotations

from typing import Any

import click

from ...errors import UsageError
from ...planning.operation import Operation
from ...transfers.operations import Carry, CarryFiles
from ..applying import carry_out
from ..options import placing, session, writing
from ..session import Session


@click.command()
@click.argument("source")
@click.argument("target")
@click.option(
    "--category", "categories", multiple=True, help="What to carry between installs (repeatable)."
)
@click.option("--only", multiple=True, metavar="PATTERN", help="Only paths that fit (repeatable).")
@click.option(
    "--overwrite", multiple=True, metavar="PATTERN", help="These of the target may give way."
)
@click.option("--keep", multiple=True, metavar="PATTERN", help="These of the target stay.")
@click.option("--both", multiple=True, metavar="PATTERN", help="What arrives stands beside these.")
@click.option(
    "--merge", multiple=True, metavar="PATTERN", help="Of these settings, my values by key."
)
@click.option(
    "--exact", is_flag=True, help="Of files as they are: remove what the source has no more."
)
@writing
@placing
@session("carry")
def command(
    session: Session,
    *,
    source: str,
    target: str,
    categories: tuple[str, ...],
    only: tuple[str, ...],
    exact: bool,
    **options: Any,
) -> int:
    """Bring what SOURCE holds into TARGET: categories between installs, or files as they are.

    Categories are converted where needed. Without --category both are any places: folders, archives,
    cards, servers; what changed since files last went between them is sent, and nothing else. What the
    target has already, and has otherwise, is never replaced unasked: say which of it gives way, stays,
    stands beside what arrives, or is merged with it.

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
        made = Carry(source, target, categories, only, merge=merge, **said)
    else:
        _refuse(bool(merge), "--merge")
        made = CarryFiles(source, target, only, exact=exact, **said)
    return carry_out(session, made.compute(context), **options)


def _refuse(given: bool, name: str) -> None:
    if given:
        what = "files as they are" if name == "--exact" else "categories between installs"
        raise UsageError(f"{name} is for {what}", remedy="Leave it out; see kindred carry --help.")
