"""kindred convert"""

from __future__ import annotations

import click

from ...convert import convert_install
from ..applying import carry_out
from ..options import placing, session, writing
from ..session import Session, patterns


@click.command()
@click.argument("install")
@click.option(
    "--to", default="", metavar="BUILD", help="Formats of this build (default: the install's)."
)
@click.option("--only", multiple=True, metavar="PATTERN", help="Only paths that fit (repeatable).")
@click.option(
    "--leave", multiple=True, metavar="PATTERN", help="These may stay if they cannot convert."
)
@writing
@placing
@session("convert")
def command(
    session: Session,
    install: str,
    to: str,
    only: tuple[str, ...],
    leave: tuple[str, ...],
    **options: bool,
) -> int:
    """Bring the saves and settings of INSTALL into the formats its build writes, or another does.

    \b
    Example, in the demo's folder:
      kindred convert mossferry --to 2.0 --dry-run
    """
    found = session.install(install)
    change = convert_install(
        found,
        found.card.scheme.parse(to) if to else None,
        ledger=session.ledger,
        only=patterns(only),
        leave=patterns(leave),
        progress=session.progress,
    )
    return carry_out(session, change, **options)
