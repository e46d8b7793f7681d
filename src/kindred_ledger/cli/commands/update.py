"""kindred update"""

from __future__ import annotations

from typing import Any

import click

from ...installs import update
from ..applying import carry_out
from ..options import placing, session, writing
from ..session import Session, patterns


@click.command()
@click.argument("install")
@click.argument("release")
@click.option("--old", default="", metavar="RELEASE", help="The release the install was made from.")
@click.option(
    "--mine", multiple=True, metavar="PATTERN", help="Keep yours where both changed a file."
)
@click.option("--theirs", multiple=True, metavar="PATTERN", help="Take the release's there.")
@writing
@placing
@session("update")
def command(
    session: Session,
    install: str,
    release: str,
    old: str,
    mine: tuple[str, ...],
    theirs: tuple[str, ...],
    **options: Any,
) -> int:
    """Bring INSTALL to RELEASE (a folder or zip), over the top.

    What the card protects stays. With --old it is known what you changed yourself and what the
    old release left behind.

    \b
    Example, in the demo's folder:
      kindred update mossferry downloads/mossferry-2.0.zip --old downloads/mossferry-1.4.zip
    """
    mine_install = session.install(install)
    card = mine_install.card
    change = update(
        mine_install,
        card.open_release(release),
        ledger=session.ledger,
        old=card.open_release(old) if old else None,
        mine=patterns(mine) or (lambda _: False),
        theirs=patterns(theirs) or (lambda _: False),
        progress=session.progress,
    )
    return carry_out(session, change, **options)
