"""kindred card layout draft"""

from __future__ import annotations

import click

from .....formats.layouts import draft_layout
from ....meanings import value
from ....options import session
from ....session import Session, file_bytes


@click.command()
@click.argument("samples", nargs=-1, required=True)
@value("--name", default="drafted")
@session
def command(session: Session, *, samples: tuple[str, ...], name: str) -> int:
    """Propose a layout from SAMPLES that differ in known ways.

    Name its fields, add what you know, and go on with file dump and card layout check.

    \b
    Example, in the demo's folder:
      kindred card layout draft mossferry/data/tuning.bin server/data/tuning.bin
    """
    text = draft_layout([file_bytes(path) for path in samples], name, names=samples)
    if session.json:
        return session.emit(layout=text)
    session.out.print(text.rstrip("\n"), soft_wrap=True)
    return 0
