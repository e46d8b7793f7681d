"""kindred ledger import"""

from __future__ import annotations

import click
from msgspec.structs import replace

from ....cards import Install
from ....ledger import Tag
from ... import drawing
from ...meanings import value
from ...options import placing, storing
from ...session import Session


@click.command()
@click.argument("place")
@value("--title")
@value("--note")
@placing
@storing
def command(session: Session, *, place: str, title: str, note: str) -> int:
    """Make an entry of a folder, zip or tar that was kept by hand.

    Its version is read by a card, or given with --build.

    \b
    Example, in the demo's folder:
      kindred ledger import downloads/mossferry-1.4.zip --note "the release I began with"
    """
    subject = session.context.subject(place)
    found = subject.place if isinstance(subject, Install) else subject
    tag = getattr(subject, "tag", Tag())
    version = session.build
    if title or version:
        tag = replace(
            tag,
            title=title or tag.title,
            version=version or tag.version,
            read_from="--build" if version else tag.read_from,
        )
    entry = session.ledger.backup(found, tag=tag, note=note, progress=session.progress)
    if session.json:
        return session.emit(entry=entry.to_json())
    size = drawing.files(entry.files, entry.size_bytes)
    session.out.print(f"Stored as entry {entry.id}: {entry.name}, {size}.")
    if not entry.tag.version:
        what = "its version is not known; give it with --build"
        drawing.remark(session.out, what)
    return 0
