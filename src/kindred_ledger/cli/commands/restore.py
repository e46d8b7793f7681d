"""kindred restore"""

from __future__ import annotations

from typing import Any

import click

from ...planning.reverting import Restore
from ..applying import carry_out
from ..options import placing, session, writing
from ..session import Session


@click.command()
@click.argument("entry")
@click.option(
    "--into", default="", metavar="PLACE", help="Another place than the one it came from."
)
@click.option("--category", "categories", multiple=True, help="Only this category (repeatable).")
@click.option("--only", multiple=True, metavar="PATTERN", help="Only paths that fit (repeatable).")
@click.option("--exact", is_flag=True, help="Also remove what the entry does not hold.")
@click.option(
    "--second-names",
    is_flag=True,
    help="Files whose names differ only in case: restore all, under other names where needed.",
)
@writing
@placing
@session("restore")
def command(
    session: Session,
    *,
    entry: str,
    into: str,
    categories: tuple[str, ...],
    only: tuple[str, ...],
    exact: bool,
    second_names: bool,
    **options: Any,
) -> int:
    """Bring an ENTRY back: whole, by category or by path, where it was or elsewhere.

    \b
    Example, in the demo's folder:
      kindred restore mossferry@1.4 --category saves --dry-run
    """
    session.context.dry_run = bool(options["dry_run"])
    made = Restore(entry, into, categories, only, exact, second_names)
    return carry_out(session, made.compute(session.context), **options)
