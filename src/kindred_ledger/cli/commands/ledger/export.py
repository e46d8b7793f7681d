"""kindred ledger export"""

from __future__ import annotations

import click

from ....ledger import export
from ....places import OTHER
from ... import drawing
from ...options import entry_argument, session
from ...session import Session


@click.command()
@entry_argument("entry")
@click.argument("out")
@session
def command(session: Session, *, entry: str, out: str) -> int:
    """Write an ENTRY to the archive OUT, a .zip or .tar.zst that opens without kindred.

    \b
    Example, in the demo's folder:
      kindred ledger export mossferry@1.4 mossferry-kept.tar.zst
    """
    found = session.ledger.entry(entry)
    written = export(found, out, ledger=session.ledger, progress=session.progress)
    left_out = [
        path
        for path, node in session.ledger.tree(found).items()
        if node.kind != OTHER and path not in written
    ]
    if session.json:
        return session.emit(entry=found.id, out=out, files=len(written.files), left_out=left_out)
    size = drawing.files(len(written.files), written.size_bytes)
    session.out.print(f"Exported {found.name} to {out}: {size}, read back and the same.")
    why = "a zip holds no links, nor names that are not valid text"
    if left_out:
        drawing.remark(session.out, f"{why}; left out: {', '.join(left_out)}")
    return 0
