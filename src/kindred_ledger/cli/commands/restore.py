"""kindred restore"""

from __future__ import annotations

from typing import Any

import click

from ...planning.reverting import Restore
from ..applying import carry_out
from ..meanings import flag, value
from ..options import categorised, entry_argument, placing, selecting, session, writing
from ..session import Session


@click.command()
@entry_argument("entry")
@value("--into")
@categorised
@selecting
@flag("--exact")
@flag("--second-names")
@writing
@placing
@session
def command(
    session: Session,
    *,
    entry: str,
    into: str,
    categories: tuple[str, ...],
    only: tuple[str, ...],
    exclude: tuple[str, ...],
    exact: bool,
    second_names: bool,
    **options: Any,
) -> int:
    """Restore an ENTRY: all of it, by category or by path, where it was or elsewhere.

    \b
    Example, in the demo's folder:
      kindred restore mossferry@1.4 --category saves --dry-run
    """
    session.context.dry_run = bool(options["dry_run"])
    made = Restore(entry, into, categories, only, exact, second_names, exclude)
    return carry_out(session, made.compute(session.context), **options)
