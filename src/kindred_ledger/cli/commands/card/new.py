"""kindred card new"""

from __future__ import annotations

import os

import click

from ....cards import draft_card
from ....places import open_place, refusals
from ...meanings import value
from ...options import session
from ...session import Session


@click.command()
@click.argument("place")
@value("--out")
@session
def command(session: Session, *, place: str, out: str) -> int:
    """Draft a card from PLACE, the folder or archive of an install, and print it.

    \b
    Example, in the demo's folder:
      kindred card new second/mossferry
    """
    opened = open_place(place)
    name = os.path.basename(os.path.normpath(os.path.abspath(place)))
    text = draft_card(opened, name)
    if out:
        with refusals(out), open(out, "x", encoding="utf-8") as file:
            file.write(text)
    if session.json:
        return session.emit(card=text, written=out)
    session.out.print(f"The draft is in {out}." if out else text, soft_wrap=True)
    return 0
