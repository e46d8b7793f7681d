"""kindred card symptoms"""

from __future__ import annotations

from typing import Any

import click

from ....errors import KindredError, UsageError
from ....migrate import Remedy, symptom, symptoms_of
from ....wording import count
from ... import drawing
from ...applying import carry_out
from ...meanings import value
from ...options import placing, storing, writing
from ...session import Session


@click.command()
@click.argument("install")
@click.argument("name", default="")
@value("--try", "number", default=0)
@writing
@placing
@storing
def command(session: Session, *, install: str, name: str, number: int, **options: Any) -> int:
    """List what the card knows about something odd in INSTALL, and what helps, the cheapest first.

    NAME is a symptom, or a part of its name. --try carries out one of its remedies: like any change it is
    shown first, kept, and can be undone.

    \b
    Examples, in the demo's folder:
      kindred card symptoms mossferry
      kindred card symptoms mossferry black
      kindred card symptoms mossferry black --try 2
    """
    subject = session.context.install(install, title=session.named_title)
    if not name:
        if number:
            raise UsageError("which symptom?", remedy="Name it, or a part of it.")
        known = symptoms_of(subject)
        if session.json:
            return session.emit(symptoms=[{"name": each.name, "why": each.why,
                "remedies": [one.told for one in each.remedies]} for each in known])  # fmt: skip
        told = count(len(known), "symptom")
        drawing.heading(session.out, f"What the card of {subject.card.name} knows: {told}")
        for each in known:
            remedies = [one.told for one in each.remedies]
            session.out.hang("  ", each.name, style="bold")
            session.out.hang(
                "      ", f"{count(len(remedies), 'remedy')}: {remedies[0]}", style="dim"
            )
        return 0
    found = symptom(subject, name)
    if number:
        return carry_out(session, found.remedy(number).change(session.context, subject), **options)
    plain = {"name": found.name, "why": found.why, "remedies": [one.told for one in found.remedies]}
    if session.json:
        return session.emit(symptoms=[plain])
    drawing.heading(session.out, found.name, found.why)
    for one in found.remedies:
        aside = _would(session, one, subject)
        session.out.hang(f"  {one.number}  ", one.told, style="default", aside=aside)
    session.out.print()
    told = f'To try one: kindred card symptoms {install} "{name}" --try N'
    session.out.hang("    ", told, style="default")
    return 0


def _would(session: Session, remedy: Remedy, subject: Any) -> str:
    """Say in short what a remedy would change now."""
    if remedy.step is None:
        return "yours to do"
    try:
        change = remedy.change(session.context, subject)
    except KindredError as error:
        return f"not now: {error.what}"
    return count(len(change.actions), "file") if change.actions else "nothing would change"
