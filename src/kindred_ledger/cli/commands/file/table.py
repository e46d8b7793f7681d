"""kindred file table"""

from __future__ import annotations

from typing import Any

import click

from ....edits import FileTable, read_table, tables_in
from ....edits.operations import PutTable
from ....errors import UsageError
from ....places import refusals, write_atomic
from ... import drawing
from ...applying import carry_out
from ...meanings import value
from ...options import storing, writing
from ...session import Session, refuse_taken

_MOST_COLUMNS = 6  # that the list names


@click.command()
@click.argument("file")
@click.argument("table", default="")
@value("--out")
@value("--from", "rows")
@value("--card")
@writing
@storing
def command(session: Session, *, file: str, table: str, out: str, rows: str, **options: Any) -> int:
    """List the tables of FILE, write TABLE as CSV to --out, or put edited rows --from a CSV file into it.

    Any file with records will do: XML, JSON, CSV, SQLite, or a binary file with a layout. What you did not
    edit stays as it is, to the byte, also where a spreadsheet wrote it otherwise.

    \\b
    Examples, in the demo's folder:
      kindred file table server/tables.xml
      kindred file table server/tables.xml "route[*].stop" --out stops.csv
      kindred file table server/tables.xml "route[*].stop" --from stops.csv
    """
    if rows and out:
        raise UsageError("--out writes rows, --from reads them", remedy="Give one of them.")
    if rows:
        return carry_out(session, PutTable(file, rows, table).compute(session.context), **options)
    if not out:
        return _listed(session, file, tables_in(file, card=session.cards), table)
    found = read_table(file, table, card=session.cards)
    refuse_taken(out)
    with refusals(out):  # the mark in front tells spreadsheets that it is UTF-8
        write_atomic(out, found.to_csv().encode("utf-8-sig"))
    if session.json:
        return session.emit(
            tables=[_plain(found)],
            written=out,
            findings=[one.to_json() for one in found.findings()],
        )
    session.out.print(f"Wrote {found}: {out}")
    drawing.findings(session.out, found.findings())
    return 0


def _listed(session: Session, file: str, found: tuple[FileTable, ...], table: str) -> int:
    """Print which tables there are; `table` is the only one that is asked for, if it is named."""
    if table:
        found = (read_table(file, table, card=session.cards),)
    if session.json:
        return session.emit(tables=[_plain(each) for each in found], written=None, findings=[])
    drawing.heading(session.out, file, f"{len(found)} table{'' if len(found) == 1 else 's'}")
    if not found:
        session.out.print("    It holds no list of records.")
        return 0
    lines = [
        (f"    {each.name or '(the whole file)'}", f"{each.rows:,}", _columns(each))
        for each in found
    ]
    drawing.rows(session.out, ("    table", "rows", "columns"), lines)
    return 0


def _columns(table: FileTable) -> str:
    names = list(table.columns)
    more = f" +{len(names) - _MOST_COLUMNS}" if len(names) > _MOST_COLUMNS else ""
    return ", ".join(names[:_MOST_COLUMNS]) + more


def _plain(table: FileTable) -> dict[str, Any]:
    return {"name": table.name, "rows": table.rows, "columns": list(table.columns)}
