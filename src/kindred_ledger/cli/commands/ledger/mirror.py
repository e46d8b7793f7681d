"""kindred ledger mirror"""

from __future__ import annotations

import click
import msgspec

from ....ledger import mirror
from ... import drawing, health
from ...meanings import flag
from ...options import storing
from ...session import Session


@click.command()
@click.argument("other")
@flag("--bring")
@storing
def command(session: Session, *, other: str, bring: bool) -> int:
    """Copy to the ledger OTHER what it lacks; nothing there is changed.

    OTHER is a folder, or a URL: sftp://, ftps://, ftp://, s3:// (docs/remotes.md).

    \b
    Example, in the demo's folder:
      kindred ledger mirror second-disk/ledger
    """
    here, there = session.ledger, session.open_ledger(other, create=not bring)
    source, target = (there, here) if bring else (here, there)
    done = mirror(source, target, progress=session.progress)
    status = health.DAMAGED if done.not_copied else 0
    if session.json:
        return session.emit(status, **msgspec.to_builtins(done))
    if done.size_bytes:
        session.out.print(
            f"Copied to {target.location}: {drawing.count(done.packs, 'pack')}, "
            f"{drawing.count(done.entries, 'entry')}, {drawing.count(done.changes, 'change')} "
            f"({drawing.size(done.size_bytes)})."
        )
    elif not done.not_copied:
        session.out.print(f"{target.location} has everything already.")
    for line in done.not_copied:
        session.out.hang("  ✗ not copied: ", line, style="red")
    if done.not_copied:
        session.out.print("\nTo see what is damaged: kindred ledger verify")
    return status
