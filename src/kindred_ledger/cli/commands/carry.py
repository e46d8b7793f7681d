"""kindred carry"""

from __future__ import annotations

from typing import Any

import click

from ...installs import CarryChoices, carry
from ..applying import carry_out
from ..options import placing, session, writing
from ..session import Session, patterns


@click.command()
@click.argument("source")
@click.argument("target")
@click.option(
    "--category", "categories", multiple=True, required=True, help="What to carry (repeatable)."
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
@writing
@placing
@session("carry")
def command(
    session: Session,
    source: str,
    target: str,
    categories: tuple[str, ...],
    only: tuple[str, ...],
    **options: Any,
) -> int:
    """Bring categories of the install SOURCE into the install TARGET, converted where needed.

    What the target has already, and has otherwise, is never replaced unasked: say which of it gives
    way, stays, stands beside what arrives, or is merged with it.

    \b
    Examples, in the demo's folder:
      kindred carry mossferry second/mossferry --category saves --dry-run
      kindred carry mossferry second/mossferry --category settings --merge "*" --dry-run
    """
    ways = {name: patterns(options.pop(name)) for name in ("overwrite", "keep", "both", "merge")}
    ways["replace"] = ways.pop("overwrite")
    choices = CarryChoices(**{name: wanted for name, wanted in ways.items() if wanted is not None})
    change = carry(
        session.install(source, build=""),
        session.install(target),
        categories,
        ledger=session.ledger,
        only=patterns(only),
        choices=choices,
        progress=session.progress,
    )
    return carry_out(session, change, **options)
