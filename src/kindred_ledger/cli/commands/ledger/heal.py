"""kindred ledger heal"""

from __future__ import annotations

import click
import msgspec

from ....ledger import heal
from ....places import open_place
from ... import health
from ...meanings import many
from ...options import session
from ...session import Session


@click.command()
@many("--mirror", "mirrors")
@many("--look")
@session
def command(session: Session, *, mirrors: tuple[str, ...], look: tuple[str, ...]) -> int:
    """Repair what is damaged in the ledger, from mirrors or from files still on disk.

    Damaged files that no mirror replaces are moved to the ledger's folder `damaged`.

    \b
    Example, in the demo's folder:
      kindred ledger heal --mirror second-disk/ledger
    """
    done = heal(
        session.ledger,
        mirrors=[session.open_ledger(path, create=False) for path in mirrors],
        places=list(map(open_place, look)) if look else None,
        progress=session.progress,
    )
    status = health.status_of(done.after)
    if session.json:
        return session.emit(status, **msgspec.to_builtins(done))
    if not done.before.findings and not done.before.costs:
        session.out.print("Nothing is damaged.")
        return status
    health.faults(session.out, done.before)
    for line in done.mended:
        session.out.hang("  ✓ ", line, style="green")
    session.out.print()
    health.verified(session.out, done.after, lines=False)
    if done.after.costs and not mirrors:
        session.out.print(
            "If there is a second copy: kindred ledger heal --mirror LEDGER", style="dim"
        )
    return status
