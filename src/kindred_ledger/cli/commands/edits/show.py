"""kindred edits show"""

from __future__ import annotations

import click

from ....edits import EditSet
from ....places import refusals, write_atomic
from ... import drawing
from ...meanings import value
from ...options import session
from ...session import Session, refuse_taken


@click.command()
@click.argument("edits")
@value("--out")
@session
def command(session: Session, *, edits: str, out: str) -> int:
    """List the edits of the set EDITS; with --out also as CSV.

    \b
    Example, in the demo's folder:
      kindred edits show mine.edits.toml
    """
    found = EditSet.load(edits)
    rows = found.rows()
    if out:
        refuse_taken(out)
        with refusals(out):
            write_atomic(out, found.to_csv().encode())
    if session.json:
        return session.emit(
            edits=found.to_json(), findings=[each.to_json() for each in found.findings()]
        )
    drawing.heading(session.out, str(found)[:1].upper() + str(found)[1:], edits)
    for label, text in (("by", found.by), ("note", found.note), ("made on", found.base)):
        if text:
            session.out.hang("    ", f"{label}: {text}", style="dim")
    for file in found.files:
        inside = [row for row in rows if row.file == file.file]
        session.out.print()
        session.out.print(file.file, style="bold", soft_wrap=True)
        lines = [(f"    {row.what}", row.where, row.before, row.after) for row in inside]
        drawing.rows(session.out, ("    edit", "where", "before", "after"), lines)
    drawing.findings(session.out, found.findings())
    return 0
