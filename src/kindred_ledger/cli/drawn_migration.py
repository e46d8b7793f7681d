"""A migration on a terminal: its plan, what came of each step, what it waits for, the checklist."""

from __future__ import annotations

import sys
from collections.abc import Callable

import click

from ..finding import Severity
from ..migrate import (
    Migration,
    MigrationConsents,
    MigrationPlan,
    MigrationRun,
    MigrationStatus,
    PlannedStep,
    ResultState,
    StepResult,
    read_runbook,
)
from ..migrate.steps import RunbookStep, SignOff
from ..statement import Statement
from ..wording import count, size
from . import drawing
from .session import Session

__all__ = ["ask_person", "draw_end", "draw_plan", "draw_result", "draw_status"]

_SIGNS = {
    ResultState.DONE: ("✓", "green"),
    ResultState.WAITS: ("→", "bold yellow"),
    ResultState.DECIDE: ("!", "bold yellow"),
    ResultState.FAILED: ("✗", "bold red"),
}
_LEAST_SECONDS = 1.0
_LATER = "l"
_STATES = {"done": "✓", "next": "→", "later": " "}


def draw_plan(
    session: Session, plan: MigrationPlan, title: str, consents: MigrationConsents
) -> None:
    """Draw what will happen in which order, how long it takes, what is lost, and how to go back."""
    out = session.out
    drawing.heading(
        out, f"Migrate {title} from {plan.source} to {plan.to}", drawing.short(plan.install)
    )
    by = f"by the runbook {plan.runbook.name}" if plan.runbook.name else "in the usual order"
    free = f"the ledger grows by {size(plan.stored)} at most, and {size(plan.free)} are free"
    out.print(f"{count(len(plan.steps), 'step')} {by}, about {_seconds(plan.seconds)}; {free}.")
    if plan.runbook.note:
        out.hang("  ", plan.runbook.note, style="default")
    drawing.findings(out, plan.findings)
    out.print()
    wide = max(len(each.name) for each in plan.steps)
    for number, each in enumerate(plan.steps, 1):
        start = f"  {number:>2}  {each.name:<{wide}}  "
        style = "bold" if each.is_yours else "default"
        told = f"you: {each.told}" if each.is_yours else each.told
        out.hang(start, drawing.local(told[:1].upper() + told[1:]), style=style, aside=_aside(each))
    _draw_needs(session, plan)
    out.print()
    lacking = plan.unallowed(consents)
    if lacking:
        codes = ", ".join(dict.fromkeys(loss.code for loss in lacking))
        named = all(loss.one_way for loss in lacking)
        how = "by name with --allow" if named else "--allow-loss, or by name with --allow"
        told = f"What would be lost needs your consent, {how}: {codes}"
        out.hang("", told, style="default")
    back = "Each change is kept first, and all are taken back as one: kindred migrate --back"
    out.hang("", back, style="dim")


def _aside(step: PlannedStep) -> str:
    """Return what a step changes, loses and takes."""
    told = []
    if step.files:
        told.append(f"{count(step.files, 'file')}, {size(step.written)}")
    if step.losses:
        told.append(count(len(step.losses), "loss"))
    if step.conflicts:
        told.append(f"{count(len(step.conflicts), 'decision')} needed")
    if step.seconds >= _LEAST_SECONDS:
        told.append(f"about {_seconds(step.seconds)}")
    if step.later:
        told.append(step.later)
    return "; ".join(told)


def _draw_needs(session: Session, plan: MigrationPlan) -> None:
    """Draw what must be decided or agreed to, and what is a one-way door."""
    for each in plan.steps:
        urgent = [f for f in each.findings if f.severity is not Severity.NOTE]
        if urgent and each.kind != "agree":  # its words stand above
            session.out.print()
            session.out.print(f"{each.name}:", style="bold")
            drawing.findings(session.out, urgent)
    asked = {each.name for each in plan.steps if each.kind == "agree"}
    lost = [loss.code for loss in plan.losses if loss.one_way and loss.code not in asked]
    one_way = dict.fromkeys(lost)
    for code in one_way:
        told = f"{code}: no older build can read it again; agree to it by name, --allow {code}"
        drawing.remark(session.out, told, severity=Severity.WARNING)


def draw_result(session: Session, result: StepResult, *, number: int, total: int) -> None:
    """Draw what came of a step."""
    out = session.out
    sign, style = _SIGNS[result.state]
    start = f"{sign} {number:>2} of {total}  "
    said = drawing.local(result.told)
    told = (
        said if said.startswith(result.step) else f"{result.step}: {said}" if said else result.step
    )
    out.hang(
        start,
        told,
        style=style,
        aside=_books(result.applied.statements[0] if result.applied else None),
    )
    if result.state in (ResultState.DECIDE, ResultState.FAILED):
        drawing.findings(out, result.findings)


def _books(statement: Statement | None) -> str:
    if statement is None:
        return ""
    totals = {name: number for name, number in statement.totals().items() if number}
    return ", ".join(f"{number:,} {name}" for name, number in totals.items())


def draw_end(session: Session, run: MigrationRun) -> None:
    """Draw where the migration is now, and what to do next."""
    out, status = session.out, run.status
    out.print()
    for each in run.recovered:
        told = f"a change that was cut off was {each.outcome} first: {each.reason}"
        drawing.remark(out, told)
    if run.returned is not None:
        back = "All was taken back: it is as it was before."
        if not status.ended:
            back = f"Taken back; next is {status.next}. To go on: kindred migrate --resume"
        elif run.returned.findings:
            back = "All changes were taken back."
        out.print(back, style="bold")
        drawing.findings(out, run.returned.findings)
        return
    if run.findings:
        out.print("It could not be taken back unasked:", style="bold")
        drawing.findings(out, run.findings)
        out.hang(
            "    ",
            "To take it back all the same: kindred migrate --back --allow-loss",
            style="default",
        )
        return
    if status.ended == "done":
        out.print(f"Done: this is {status.begun.to}.", style="bold")
        out.hang(
            "    ",
            f"To take all of it back: kindred migrate --back {status.begun.id}",
            style="default",
        )
        return
    last = run.last
    if last is not None and last.state is ResultState.WAITS:
        _draw_turn(session, status, last.asks)
    if status.next and not isinstance(_next_step(status), SignOff):
        out.hang("    ", "Then go on: kindred migrate --resume", style="default")
    out.hang("    ", "Or take all of it back: kindred migrate --back", style="default")


def _draw_turn(session: Session, status: MigrationStatus, asks: str) -> None:
    """Draw what the person is to do: a checklist, where it is one."""
    step = _next_step(status)
    out = session.out
    if not isinstance(step, SignOff):
        out.hang("Your turn: ", drawing.local(asks), style="bold")
        return
    out.print("Look at each, and sign it off:", style="bold")
    wide = max(map(len, step.parts))
    for part in step.parts:
        if part in status.signed:
            out.hang(f"  ✓ {part:<{wide}}  ", f"signed off by {status.signed[part]}", style="green")
        else:
            word = f'"{part}"' if " " in part else part
            out.hang(f"  · {part:<{wide}}  ", f"kindred migrate --sign {word}", style="default")


def ask_person(
    session: Session, migration: Migration, by: str
) -> Callable[[StepResult], bool] | None:
    """Return who asks the person at a terminal to do what a step waits for; None where nobody is there."""
    if session.json or not sys.stdin.isatty():
        return None

    def act(result: StepResult) -> bool:
        step = migration.runbook.step(result.step)
        session.out.print()
        if isinstance(step, SignOff):
            return _asked_to_sign(session, migration, step, by)
        session.out.hang("Your turn: ", drawing.local(result.asks), style="bold")
        answer = click.prompt(
            "    Enter once it is done, or l to go on later",
            default="",
            show_default=False,
            err=True,
        )
        return str(answer).strip().casefold() != _LATER

    return act


def _asked_to_sign(session: Session, migration: Migration, step: SignOff, by: str) -> bool:
    """Ask about each part that is not signed off; return whether all are."""
    session.out.print("Look at each. Is it right?", style="bold")
    signed = migration.status().signed
    for part in step.parts:
        if part in signed:
            continue
        answer = click.prompt(
            f"    {part}: [y]es, or [l]ater",
            type=click.Choice(["y", _LATER]),
            show_choices=False,
            err=True,
        )
        if answer == _LATER:
            return False
        migration.sign([part], by)
    return True


def _next_step(status: MigrationStatus) -> RunbookStep:
    """Return the step that is next."""
    return read_runbook(status.begun.runbook).step(status.next)


def draw_status(session: Session, status: MigrationStatus) -> None:
    """Draw where a migration is."""
    out, begun = session.out, status.begun
    drawing.heading(
        out,
        f"Migration {begun.id}: {begun.title} from {begun.source} to {begun.to}",
        drawing.short(begun.install),
    )
    told = status.ended or f"next: {status.next}"
    out.print(f"Begun {drawing.moment(begun.when)}; {told}.")
    out.print()
    wide = max(len(each.name) for each in status.steps)
    for number, each in enumerate(status.steps, 1):
        style = "bold" if each.state == "next" else "default"
        start = f"  {_STATES[each.state]} {number:>2}  {each.name:<{wide}}  "
        out.hang(start, each.told, style=style)


def _seconds(seconds: float) -> str:
    if seconds < 90:
        return f"{max(1, round(seconds))} s"
    return f"{round(seconds / 60)} min"
