"""kindred recover"""

from __future__ import annotations

import click
from msgspec.structs import asdict

from ...changes import recover
from ..options import session
from ..session import Session


@click.command()
@click.option("--back", is_flag=True, help="Take everything back rather than finish it.")
@session("recover")
def command(session: Session, back: bool) -> int:
    """Finish or unwind changes that were cut off by a crash or a power cut.

    \b
    Example, in the demo's folder:
      kindred recover
    """
    done = recover(session.ledger, back=back)
    if session.json:
        return session.emit(recovered=[asdict(one) for one in done])
    if not done:
        session.out.print("Nothing was cut off.")
    for one in done:
        places = " + ".join(one.places)
        session.out.print(
            f"Change {one.id} of {places}: {one.outcome}; {one.reason}.", soft_wrap=True
        )
    return 0
