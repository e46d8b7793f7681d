"""kindred import"""

from __future__ import annotations

import click
from msgspec.structs import replace

from ...cards import Install
from ...ledger import Tag
from .. import drawing
from ..options import placing, session
from ..session import Session


@click.command()
@click.argument("place")
@click.option("--title", default="", help="The title it is of, where no card tells.")
@click.option("--version", default="", help="The version it is of, where no evidence tells.")
@click.option("--note", default="", help="Why; shown in the list of entries.")
@placing
@session("import")
def command(session: Session, *, place: str, title: str, version: str, note: str) -> int:
    """Take in a folder, zip or tar that was kept by hand, under a version that is read or given.

    \b
    Example, in the demo's folder:
      kindred import downloads/mossferry-1.4.zip --note "the release I began with"
    """
    subject = session.context.subject(place)
    found = subject.place if isinstance(subject, Install) else subject
    tag = getattr(subject, "tag", Tag())
    if title or version:
        tag = replace(
            tag,
            title=title or tag.title,
            version=version or tag.version,
            read_from="given by the caller",
        )
    entry = session.ledger.backup(found, tag=tag, note=note, progress=session.progress)
    if session.json:
        return session.emit(entry=entry.to_json())
    size = drawing.files(entry.files, entry.size_bytes)
    session.out.print(f"Taken in as entry {entry.id}: {entry.name}, {size}.")
    if not (entry.tag.title and entry.tag.version):
        what = "nothing tells title and version; give them with --title and --version"
        drawing.remark(session.out, what)
    return 0
