"""kindred switch"""

from __future__ import annotations

from typing import Any

import click

from ...transfers import Begin
from ...transfers.operations import Switch
from ..applying import carry_out
from ..meanings import value
from ..options import placing, storing, writing
from ..session import Session


@click.command()
@click.argument("install")
@value("--written-by")
@value("--begin", type=click.Choice([Begin.ALONG.value, Begin.EMPTY.value]), default=None)
@writing
@placing
@storing
def command(
    session: Session, *, install: str, written_by: str, begin: str | None, **options: Any
) -> int:
    """Give INSTALL its own data in a folder that it shares with other builds.

    What is there now is kept whole, under the build that wrote it; what INSTALL last had is restored.
    Switching there and back gives the same bytes.

    \b
    Example, in the demo's folder:
      kindred switch second/mossferry --folder user=mossferry/userdata --written-by 1.4 --begin empty
    """
    made = Switch(install, written_by, Begin(begin) if begin else Begin.ASK)
    return carry_out(session, made.compute(session.context), **options)
