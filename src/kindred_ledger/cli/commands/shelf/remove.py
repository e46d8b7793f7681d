"""kindred shelf remove"""

from __future__ import annotations

import click

from ...options import session
from ...session import Session
from ...shelved import plain


@click.command()
@click.argument("release")
@session
def command(session: Session, *, release: str) -> int:
    """Take RELEASE off the shelf; the next ledger retire frees its space.

    \b
    Example, in the demo's folder:
      kindred shelf remove mossferry@1.4
    """
    found = session.ledger.shelf.find(release)
    session.ledger.shelf.remove(found)
    if session.json:
        return session.emit(removed=plain(found))
    session.out.print(f"{found} is off the shelf.")
    return 0
