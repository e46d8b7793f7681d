"""kindred shelf list"""

from __future__ import annotations

import click
import msgspec

from ....errors import UsageError
from ....releases import read_index, source_at
from ....suggestions import path_meant
from ... import drawing
from ...meanings import value
from ...options import session
from ...session import Session
from ...shelved import plain, plain_part


@click.command()
@click.argument("title", default="")
@value("--index")
@session
def command(session: Session, *, title: str, index: str) -> int:
    """List the releases on the shelf, or those in a release index.

    \b
    Example, in the demo's folder:
      kindred shelf list --index downloads/releases.json
    """
    if index:
        return _list_index(session, index)
    found = session.ledger.shelf.releases(title)
    if title and not found:
        titles = {release.title for release in session.ledger.shelf.releases()}
        raise UsageError(f"the shelf has no release of {title!r}", remedy=path_meant(title, titles))
    if session.json:
        return session.emit(releases=[plain(release) for release in found])
    if not found:
        session.out.print("The shelf is empty. Put a release there with: kindred shelf add PLACE")
        return 0
    rows = [
        (
            one.entry.id,
            one.name,
            one.label.date,
            ", ".join(filter(None, (one.label.channel, one.label.platform, one.label.variant))),
            f"{one.entry.files:,}",
            drawing.size(one.entry.size_bytes),
            "whole" if one.label.whole else "digests",
        )
        for one in found
    ]
    heads = ("release", "what", "date", "channel", "files", "size", "stored")
    drawing.rows(session.out, heads, rows, "    rr")
    return 0


def _list_index(session: Session, where: str) -> int:
    source = source_at(where)
    found = read_index(source.name, source.read)
    if session.json:
        indexed = [
            {**msgspec.to_builtins(each), "parts": [plain_part(part) for part in each.parts]}
            for each in found.releases
        ]
        return session.emit(title=found.title, indexed=indexed)
    drawing.heading(session.out, found.title, drawing.short(source.location))
    rows = [
        (
            f"    {one.version or '(untitled)'}",
            one.date,
            ", ".join(filter(None, (one.channel, one.platform, one.variant))),
            f"{len(one.parts)}",
            drawing.size(sum(part.size for part in one.parts)),
            one.notes,
        )
        for one in found.releases
    ]
    heads = ("    version", "date", "channel", "parts", "size", "notes")
    drawing.rows(session.out, heads, rows, "   rr")
    return 0
