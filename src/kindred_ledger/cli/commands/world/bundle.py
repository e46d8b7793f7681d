"""kindred world bundle"""

from __future__ import annotations

from typing import Any

import click

from ....places import refusals, write_atomic
from ....worlds.operations import SetInBundle
from ...applying import carry_out
from ...drawn_transplant import draw_counts
from ...meanings import value
from ...options import placing, storing, writing
from ...session import Session, refuse_taken


@click.command()
@click.argument("install")
@click.argument("bundle", default="")
@value("--save")
@value("--out")
@writing
@placing
@storing
def command(
    session: Session, *, install: str, bundle: str, save: str, out: str, **options: Any
) -> int:
    """Set what waits in BUNDLE into a save of INSTALL, as the game has it by now.

    Without BUNDLE it is what the newest transplant into that save left waiting. Links to what has moved since
    are mended; what still has no place goes on waiting, and --out writes it to a file.

    \b
    Example, in the demo's folder fleets:
      kindred world bundle new
    """
    if out:
        refuse_taken(out)
    plan = SetInBundle(install, bundle, save).plan(session.context)
    if plan.forecast.counts and not session.json:
        draw_counts(session, plan.forecast)
    status = carry_out(session, plan.change, **options)
    if out and not status and not options["dry_run"] and plan.bundle is not None:
        with refusals(out):
            write_atomic(out, plan.bundle.packed())
    return status
