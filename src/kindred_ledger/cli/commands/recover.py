"""kindred recover"""

from __future__ import annotations

from typing import Any

import click
from msgspec.structs import asdict

from ...changes import recover
from ...convert.bulk import clear_finished
from ...ledger.tidying import tidy
from .. import drawing
from ..meanings import flag
from ..options import session
from ..session import Session


@click.command()
@flag("--back")
@session
def command(session: Session, *, back: bool) -> int:
    """Finish or take back changes that a crash or a power cut interrupted.

    \b
    Example, in the demo's folder:
      kindred recover
    """
    done = recover(session.ledger, back=back)
    left = tidy(session.ledger.root)
    taken = clear_finished(session.ledger)
    if taken:
        left.append(drawing.count(taken, "result") + " of a conversion that was finished")
    if session.json:
        more: dict[str, Any] = {"left_overs": left} if left else {}
        return session.emit(recovered=[asdict(one) for one in done], **more)
    for name in left:
        session.out.print(f"Removed a left-over of a command that was cut off: {name}")
    if not (done or left):
        session.out.print("Nothing was cut off.")
    for one in done:
        places = " + ".join(one.places)
        session.out.print(
            f"Change {one.id} of {places}: {one.outcome}; {one.reason}.", soft_wrap=True
        )
    return 0
