"""kindred mod suspects"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import click

from ....errors import UsageError
from ....mods.suspect_search import Part, SuspectSearch, suspects_in
from ....mods.suspects import Answer, SuspectsFound, most_trials
from ....wording import count
from ... import drawing
from ...applying import agreed
from ...meanings import flag
from ...options import placing, storing
from ...session import Session

_WAITS, _FOUND = 3, 1
_SHOWN = 12


@click.command()
@click.argument("install")
@flag("--works")
@flag("--breaks")
@flag("--unclear")
@flag("--end")
@flag("--components")
@flag("--while-running")
@flag("--yes")
@placing
@storing
def command(
    session: Session,
    *,
    install: str,
    works: bool,
    breaks: bool,
    unclear: bool,
    end: bool,
    components: bool,
    while_running: bool,
    yes: bool,
) -> int:
    """Find which mods of INSTALL break the game, with the fewest starts.

    Each time some of them are on: start the game, see whether it breaks, and say so. Mods that only break
    together are found, too, and what a mod needs is on with it. Leave it any time: every answer is stored.
    At the end all mods are as they were.

    \b
    Examples, in the demo's folder modding:
      kindred mod suspects boathouse
      kindred mod suspects boathouse --breaks
      kindred mod suspects boathouse --end
    """
    said = [a for a, is_said in zip(Answer, (works, breaks, unclear), strict=True) if is_said]
    if components and (said or end):
        raise UsageError("a search that is under way knows its parts", remedy="Leave it out.")
    if len(said) + end > 1:
        raise UsageError(
            "one answer at a time", remedy="Say one of --works, --breaks, --unclear, --end."
        )
    subject = session.context.install(install, title=session.named_title)
    ledger = session.ledger
    if said or end:
        search = SuspectSearch.open(subject, ledger)
    else:
        search = _opened(session, subject, components=components, yes=yes)
    state = search.answer(said[0]) if said else search.state()
    over = end or state.next is None
    change = search.put_back() if over else search.change()
    if change.actions:
        change.apply(
            ledger, allow_loss=bool(change.losses), while_running=while_running, group=search.id,
            progress=session.progress,
        )  # fmt: skip
    if over:
        search.end()
    status = _WAITS if not over else _FOUND if state.found or state.among else 0
    trials = len(search.trials())
    if session.json:
        return session.emit(
            status, next=sorted(state.next) if state.next is not None and not over else None,
            found=[list(each) for each in state.found], among=list(state.among), told=state.told,
            trials=trials, left=state.left, ended=over,
        )  # fmt: skip
    _draw(session, search, state, install, trials, over=over)
    return status


def _opened(session: Session, subject: Any, *, components: bool, yes: bool) -> SuspectSearch:
    """Return the search that is under way, or begin one."""
    try:
        search = SuspectSearch.open(subject, session.ledger)
    except UsageError:
        parts = suspects_in(subject, components=components)
        if not session.json:
            word = _word(parts)
            drawing.heading(
                session.out, f"Which {word}s break it?", drawing.short(subject.place.location)
            )
            most = most_trials(max(2, len(parts)), 1)
            session.out.print(
                f"{count(len(parts), word)} on: one that breaks it is found in {most} starts at most,"
                f" two that only break together in {most_trials(max(2, len(parts)), 2)}."
            )
        agreed(yes=yes, where=subject.place.location, question="Begin?")
        return SuspectSearch.begin(
            subject, session.ledger, components=components, progress=session.progress
        )
    if components and not any(part.files for part in search.parts):
        raise UsageError(
            "the search that is under way is one of mods alone",
            where=subject.place.location,
            remedy="Leave --components out, or end it first: kindred mod suspects INSTALL --end",
        )
    return search


def _word(parts: Sequence[Part]) -> str:
    """Return what the parts are called: mods, or parts where components are among them."""
    return "part" if any(part.files for part in parts) else "mod"


def _draw(
    session: Session,
    search: SuspectSearch,
    state: SuspectsFound,
    install: str,
    trials: int,
    *,
    over: bool,
) -> None:
    out = session.out
    out.print()
    if over:
        out.print(f"{state.told[:1].upper()}{state.told[1:]}.", style="bold")
        out.hang(
            "    ",
            f"{count(trials, 'start')} made. All {_word(search.parts)}s are as they were.",
            style="default",
        )
        return
    on = state.next or frozenset()
    off = [part.name for part in search.parts if part.name not in on]
    head = f"Start {trials + 1}: {len(on)} of {count(len(search.parts), _word(search.parts))} on"
    drawing.heading(out, head, state.told)
    if off and on:
        few, word = (off, "off") if len(off) < len(on) else (sorted(on), "on")
        more = f" … and {len(few) - _SHOWN} more" if len(few) > _SHOWN else ""
        out.hang(f"    {word}: ", ", ".join(few[:_SHOWN]) + more, style="default")
    out.hang(
        "    ",
        f"At most {count(state.left, 'start')} more to the next {_word(search.parts)}.",
        style="dim",
    )
    out.print("Start the game, see whether it breaks, close it, and say:", style="bold")
    for answer in Answer:
        out.hang("    ", f"kindred mod suspects {install} --{answer}", style="cyan")
