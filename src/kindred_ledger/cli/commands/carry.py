"""kindred carry"""

from __future__ import annotations

from typing import Any

import click

from ...installs import carry
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
@writing
@placing
@session("carry")
def command(
    session: Session,
    source: str,
    target: str,
    categories: tuple[str, ...],
    only: tuple[str, ...],
    overwrite: tuple[str, ...],
    **options: Any,
) -> int:
    """Bring categories of the install SOURCE into the install TARGET, converted where needed.

    \b
    Example, in the demo's folder:
      kindred carry mossferry second/mossferry --category saves --dry-run
    """
    change = carry(
        session.install(source, build=""),
        session.install(target),
        categories,
        ledger=session.ledger,
        only=patterns(only),
        overwrite=patterns(overwrite) or (lambda _: False),
        progress=session.progress,
    )
    return carry_out(session, change, **options)
