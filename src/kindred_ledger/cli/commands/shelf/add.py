"""kindred shelf add"""

from __future__ import annotations

import click

from ....cards import card_of_release
from ....ledger import ReleaseTag
from ....places import open_place
from ....releases import shelve
from ...meanings import flag, value
from ...options import storing
from ...session import Session
from ...shelved import labelled, tell


@click.command()
@click.argument("parts", nargs=-1, required=True, metavar="PART…")
@value("--build")
@value("--title")
@value("--date")
@flag("--digests")
@value("--note")
@value("--card")
@labelled
@storing
def command(
    session: Session,
    *,
    parts: tuple[str, ...],
    title: str,
    date: str,
    digests: bool,
    note: str,
    channel: str,
    platform: str,
    variant: str,
) -> int:
    """Put the unmodified release in PART (a folder, zip or tar) on the shelf, or several parts.

    A version that its own files contradict is refused.

    \b
    Example, in the demo's folder:
      kindred shelf add downloads/mossferry-1.4.zip --digests
    """
    places = [open_place(part) for part in parts]
    done = shelve(
        places,
        session.context.card_of(title) if title else card_of_release(places, session.cards),
        ledger=session.ledger,
        version=session.build,
        label=ReleaseTag(channel or ReleaseTag().channel, date, platform, variant),
        digests_only=digests,
        note=note,
        progress=session.progress,
    )
    return tell(session, done)
