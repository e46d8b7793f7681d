"""kindred world helper"""

from __future__ import annotations

from typing import Any

import click

from ....errors import DecisionNeeded
from ....planning.helper_sequence import HelperStatus, HelperStep
from ....worlds.operations import StepHelper
from ... import drawing
from ...applying import carry_out
from ...meanings import flag, value
from ...options import placing, storing, writing
from ...session import Session
from ...speaking import as_options

_FILES = (HelperStep.PLACE, HelperStep.PUT_BACK, HelperStep.REMOVE)
_SIGNS = {"done": "✓", "skipped": "–", "next": "→", "later": " "}


@click.command()
@click.argument("install")
@click.argument("helper")
@click.argument("source", default="")
@flag("--placed")
@value("--skip")
@writing
@placing
@storing
def command(
    session: Session,
    *,
    install: str,
    helper: str,
    source: str,
    placed: bool,
    skip: str,
    **options: Any,
) -> int:
    """Go on with HELPER, content that must run once before an update of INSTALL and once after it.

    Says where it is, notes what shows a run, and takes the next step if it is one of files: placing SOURCE
    where the card says, putting it back if the update deleted it, removing it at the end. A run is yours:
    start the game, then say this again. `kindred update` waits for the first run. Who has updated already is
    led back.

    \b
    Examples, in the demo's folder fens:
      kindred world helper game bellkeeper helpers/bellkeeper
      kindred world helper game bellkeeper
      kindred world helper game bellkeeper --skip first-run
    """
    made = StepHelper(install, helper, source)
    sequence = made.sequence(session.context)
    looking = session.context.dry_run = bool(options["dry_run"])
    if placed and not looking:
        sequence.note_placed_by_hand()
    if skip and not looking:
        sequence.skip(skip)
    status = sequence.status() if looking else sequence.note_what_is_seen()
    if status.step is HelperStep.REMOVE and not looking and not _removes(made, session):
        sequence.note_over()
        status = sequence.status()
    if status.step in _FILES and (
        source or status.step is not HelperStep.PLACE or sequence.placed()
    ):
        if not session.json:
            _draw(session, status)
        return carry_out(session, made.compute(session.context), **options)
    if session.json:
        return session.emit(0 if status.step is None else 3, sequence=_plain(status))
    _draw(session, status)
    if status.step is not None:
        try:
            made.compute(session.context)
        except DecisionNeeded as error:
            session.out.print()
            if status.missed:
                session.out.hang("  ", error.what, style="default")
            for line in as_options(error.remedy).splitlines():
                session.out.hang("  ", line.strip(), style="default")
            return 3
    return 0


def _removes(made: StepHelper, session: Session) -> bool:
    """Tell whether the last step has anything to remove: what you placed stays, what is gone is gone."""
    return bool(made.compute(session.context).actions)


def _draw(session: Session, status: HelperStatus) -> None:
    told = "done" if status.step is None else f"next: {status.step}"
    drawing.heading(session.out, f"Helper {status.helper}", told)
    for each in status.steps:
        style = "bold" if each.state == "next" else "default"
        about = f"  {each.told}" if each.told and each.state == "next" else ""
        state = each.state if each.state == "skipped" else ""
        session.out.hang(
            f"  {_SIGNS[each.state]} ", f"{each.step} {state}{about}".rstrip(), style=style
        )


def _plain(status: HelperStatus) -> dict[str, Any]:
    return {
        "helper": status.helper,
        "next": status.step.value if status.step is not None else None,
        "missed": status.missed,
        "steps": [
            {"step": each.step.value, "state": each.state, "told": each.told}
            for each in status.steps
        ],
    }
