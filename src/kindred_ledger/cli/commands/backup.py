"""kindred backup"""

from __future__ import annotations

import click

from ...cards import Install, unlisted
from ...errors import UsageError
from ...ledger import Tag
from ...places import Every, wanted
from .. import drawing
from ..meanings import flag, value
from ..options import categorised, placing, selecting, storing
from ..session import Session


@click.command()
@click.argument("place")
@categorised
@selecting
@value("--note")
@value("--title")
@flag("--disposable")
@flag("--pin")
@placing
@storing
def command(
    session: Session,
    *,
    place: str,
    categories: tuple[str, ...],
    only: tuple[str, ...],
    exclude: tuple[str, ...],
    disposable: bool,
    note: str,
    title: str,
    pin: bool,
) -> int:
    """Store a copy of PLACE in the ledger, under its version.

    PLACE is a folder, an archive, a URL, or an install that a card describes: then its saves and settings
    elsewhere belong to it, too. Files that the card calls disposable are left out, unless they are asked for.

    \b
    Example, in the demo's folder:
      kindred backup mossferry --note "before 2.0"
    """
    subject = session.context.subject(place)
    chosen = [asked for asked in (wanted(only, exclude),) if asked]
    if categories:
        if not isinstance(subject, Install):
            raise UsageError("categories need an install that a card describes", where=place)
        chosen.append(subject.select(categories))
    tag = None
    if title or (session.build and not isinstance(subject, Install)):
        if isinstance(subject, Install):
            raise UsageError("a card says what this is", where=place, remedy="Leave --title out.")
        tag = Tag(title, session.build, "--build")
    entry = session.ledger.backup(
        subject,
        only=Every(tuple(chosen)) if chosen else None,
        disposable=disposable,
        tag=tag,
        note=note,
        pinned=pin,
        progress=session.progress,
    )
    missed = []
    if isinstance(subject, Install):
        tree = session.ledger.tree(entry) if entry.complete else subject.place.survey()
        missed = unlisted(subject.card, tree)
    if session.json:
        plain = [{"folder": m.name, "files": m.files, "size_bytes": m.size_bytes} for m in missed]
        return session.emit(entry=entry.to_json(), uncategorised=plain)
    session.out.print(
        f"Stored as entry {entry.id}: {entry.name}, {drawing.files(entry.files, entry.size_bytes)}."
    )
    if entry.tag.version and entry.tag.read_from:
        session.out.hang("    ", f"version read from {entry.tag.read_from}", style="dim")
    fate = "backed up anyway" if entry.complete else "not in this entry"
    drawing.uncovered(session.out, missed, fate)
    drawing.findings(session.out, entry.findings)
    return 0
