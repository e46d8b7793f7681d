"""kindred world baked"""

from __future__ import annotations

import shlex

import click

from ....worlds.operations import Transplant
from ...drawn_transplant import draw_baked, draw_ways, plain_forecast
from ...meanings import value
from ...options import placing, session
from ...session import Session


@click.command()
@click.argument("old")
@click.argument("new")
@value("--save")
@value("--fresh")
@placing
@session
def command(session: Session, *, old: str, new: str, save: str, fresh: str) -> int:
    """Say why a long game of OLD does not show what the build of NEW brought, and what can be done.

    Lists the values that a save keeps from the build it was begun in, beside those of a fresh save of NEW,
    and three ways on with what each costs. Nothing is changed. Status 1 if something differs.

    \b
    Example, in the demo's folder fleets:
      kindred world baked old new
    """
    told = Transplant(old, new, save, fresh).forecast(session.context)
    status = 1 if any(group.differing for group in told.baked) else 0
    if session.json:
        return session.emit(status, forecast=plain_forecast(told))
    draw_baked(session, told)
    words = ["kindred", "world", "transplant", old, new]
    words += ["--save", save] if save else []
    words += ["--fresh", fresh] if fresh else []
    draw_ways(session, told, shlex.join(words))
    return status
