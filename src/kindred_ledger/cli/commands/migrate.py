"""kindred migrate"""

from __future__ import annotations

import sys

import click
from msgspec.structs import replace

from ...errors import DecisionNeeded, LossNotAllowed, UsageError
from ...migrate import (
    Migration,
    MigrationChoice,
    MigrationConsents,
    MigrationPlan,
    MigrationRun,
    ResultState,
    StepResult,
    choose_migration,
    choose_return,
    plan_migration,
    rehearse,
    run_migration,
)
from ...wording import count
from ..applying import agreed
from ..drawn_migration import ask_person, draw_end, draw_plan, draw_result, draw_status
from ..fleets import fleet_job, run_fleet
from ..meanings import flag, many, value
from ..options import placing, storing
from ..session import Session

_DECISION_NEEDED, _FAILED = 3, 4


@click.command()
@click.argument("install", default="")
@click.argument("release", default="")
@flag("--as-stored")
@flag("--fleet")
@value("--workers", default=0)
@value("--old")
@value("--runbook")
@flag("--rehearse", "rehearsing")
@flag("--resume")
@many("--done")
@many("--skip")
@many("--sign")
@value("--by")
@flag("--back")
@value("--to-step")
@flag("--stay")
@flag("--allow-loss")
@many("--allow")
@flag("--while-running")
@flag("--yes")
@flag("--dry-run")
@placing
@storing
def command(
    session: Session,
    *,
    install: str,
    release: str,
    as_stored: bool,
    fleet: bool,
    workers: int,
    old: str,
    runbook: str,
    rehearsing: bool,
    resume: bool,
    done: tuple[str, ...],
    skip: tuple[str, ...],
    sign: tuple[str, ...],
    by: str,
    back: bool,
    to_step: str,
    stay: bool,
    allow_loss: bool,
    allow: tuple[str, ...],
    while_running: bool,
    yes: bool,
    dry_run: bool,
) -> int:
    """Bring INSTALL to RELEASE with all that belongs to it, step by step, and wait where only you can act.

    By the runbook of its card, else in the usual order: look, store, update, convert, check, sign off.
    The plan comes first. What you are asked to do is looked for: a newer file, a line in a log, a value in
    a save. Whatever stops it, --resume goes on, also tomorrow in another terminal; a check that finds
    something wrong takes everything back. Without arguments it says where the one under way is.

    \b
    Examples, in the demo's folder:
      kindred migrate mossferry downloads/mossferry-2.0.zip --old downloads/mossferry-1.4.zip
      kindred migrate --resume
      kindred migrate --sign "it starts" --sign saves
      kindred migrate --back
      kindred migrate mossferry 1.4 --as-stored
      kindred migrate 'servers/*' release:mossferry@2.0 --fleet
    """
    consents = MigrationConsents(allow, allow_loss, while_running, done, skip)
    if workers and not fleet:
        raise UsageError("--workers goes with --fleet", remedy="Add --fleet, or leave it out.")
    if fleet:
        if rehearsing or to_step or stay or as_stored:
            raise UsageError(
                "a fleet is planned, begun, gone on with, signed off and taken back",
                remedy="Try one of the installs by itself first.",
            )
        job = fleet_job(
            session,
            release,
            old=old,
            runbook=runbook,
            consents=consents,
            sign=sign,
            by=by,
            back=back,
        )
        return run_fleet(session, install, job, workers=workers, yes=yes, dry_run=dry_run)
    if back:
        return _go_back(session, install, to_step, consents, yes=yes, dry_run=dry_run)
    if to_step:
        raise UsageError("--to-step goes with --back", remedy="Add --back, or leave it out.")
    if release:
        if resume or done or sign or skip:
            raise UsageError(
                "a migration that is under way knows its release",
                remedy="Leave the release out to go on; leave --resume out to begin.",
            )
        if as_stored:
            if runbook or old:
                raise UsageError(
                    "what is stored says all of it", remedy="Leave out --runbook and --old."
                )
            choice = choose_return(session.context, install, release)
        else:
            choice = choose_migration(session.context, install, release, runbook=runbook)
        if rehearsing:
            return _rehearse(session, choice, old, consents)
        return _begin(session, choice, old, consents, by=by, stay=stay, yes=yes, dry_run=dry_run)
    if rehearsing or old or runbook or as_stored:
        raise UsageError("which release?", remedy="Say it: kindred migrate INSTALL RELEASE")
    migration = Migration.open(session.ledger, install)
    if not (resume or done or sign or skip) or dry_run:
        return _status(session, migration)
    if sign:
        migration.sign(sign, by)
    return _run(session, migration, consents, by=by, stay=stay, yes=yes)


def _status(session: Session, migration: Migration) -> int:
    status = migration.status()
    if session.json:
        return session.emit(0 if status.ended else _DECISION_NEEDED, migration=status.to_json())
    draw_status(session, status)
    return 0 if status.ended else _DECISION_NEEDED


def _begin(
    session: Session,
    choice: MigrationChoice,
    old: str,
    consents: MigrationConsents,
    *,
    by: str,
    stay: bool,
    yes: bool,
    dry_run: bool,
) -> int:
    """Show the plan, ask, and begin."""
    context = session.context
    plan = plan_migration(
        choice.install, choice.release, choice.to, choice.runbook, context=context, old=old,
        findings=choice.findings,
    )  # fmt: skip
    plan.check_allowed(consents.allow)
    if not session.json:
        draw_plan(session, plan, choice.install.card.name, consents)
    if dry_run:
        status = _DECISION_NEEDED if plan.unallowed(consents) or plan.in_the_way else 0
        if session.json:
            return session.emit(status, dry_run=True, plan=plan.to_json())
        session.out.print("\nThis was a dry run; nothing was written.", style="dim")
        return status
    consents = _agreed(session, plan, consents, yes=yes)
    migration = Migration.begin(
        choice.install, choice.release, choice.to, choice.runbook, context=context, old=old,
        consents=consents,
    )  # fmt: skip
    return _run(session, migration, consents, by=by, stay=stay, yes=yes)


def _agreed(
    session: Session, plan: MigrationPlan, consents: MigrationConsents, *, yes: bool
) -> MigrationConsents:
    """Ask whether to begin, and about what would be lost; return what was agreed to.

    Raises:
        DecisionNeeded: something is in the way, or there is no terminal to ask on.
        LossNotAllowed: losses are not agreed to, and nobody can be asked.
    """
    if plan.in_the_way:
        raise DecisionNeeded(
            "something is to be decided, or put right, first; nothing was written",
            where=plan.install,
            remedy="\n".join(dict.fromkeys(found.remedy for found in plan.in_the_way)),
            findings=plan.in_the_way,
        )
    lost = plan.unallowed(consents)
    by_name = [loss for loss in lost if loss.one_way]
    can_ask = sys.stdin.isatty() and not session.json
    if lost and (by_name or not can_ask):
        codes = ", ".join(dict.fromkeys(loss.code for loss in by_name or lost))
        every = "" if by_name else "all with --allow-loss, or "
        raise LossNotAllowed(
            f"{count(len(lost), 'loss')} need{'s' * (len(lost) == 1)} your consent; nothing was written",
            where=plan.install,
            remedy=f"Allow {every}by name with --allow: {codes}.",
            findings=lost,
        )
    question = "Begin, and allow these losses?" if lost else "Begin?"
    agreed(yes=yes and not lost, where=plan.install, question=question)
    return replace(consents, allow_loss=True) if lost else consents


def _run(
    session: Session,
    migration: Migration,
    consents: MigrationConsents,
    *,
    by: str,
    stay: bool,
    yes: bool,
) -> int:
    """Go on until it waits, and say where it is."""
    names = [step.called for step in migration.runbook.steps]

    def watch(result: StepResult) -> None:
        if not session.json:
            number = names.index(result.step) + 1
            draw_result(session, result, number=number, total=len(names))

    if not session.json:
        session.out.print()
    asked = ask_person(session, migration, by) if not yes else None
    run = run_migration(migration, session.context, consents, stay=stay, person=asked, watch=watch)
    status = _status_of(run)
    if session.json:
        return session.emit(status, **run.to_json())
    draw_end(session, run)
    return status


def _rehearse(
    session: Session, choice: MigrationChoice, old: str, consents: MigrationConsents
) -> int:
    total = len(choice.runbook.steps)
    numbers = iter(range(1, total + 1))

    def watch(result: StepResult) -> None:
        if not session.json:
            draw_result(session, result, number=next(numbers), total=total)

    if not session.json:
        session.out.print("A rehearsal, on a scratch copy:\n", style="bold")
    run = rehearse(
        choice.install, choice.release, choice.to, choice.runbook, context=session.context, old=old,
        consents=consents, watch=watch,
    )  # fmt: skip
    status = _status_of(run)
    if session.json:
        return session.emit(status, rehearsal=True, **run.to_json())
    told = "It would go through" if status == 0 else "It would stop here"
    session.out.print(f"\n{told}. The copy is gone; nothing of yours was touched.", style="bold")
    return status


def _status_of(run: MigrationRun) -> int:
    if run.status.ended == "done":
        return 0
    failed = run.last is not None and run.last.state is ResultState.FAILED
    return _FAILED if failed else _DECISION_NEEDED


def _go_back(
    session: Session,
    which: str,
    to_step: str,
    consents: MigrationConsents,
    *,
    yes: bool,
    dry_run: bool,
) -> int:
    """Take a migration back, all of it or from a step on."""
    migration = Migration.open(session.ledger, which)
    status = migration.status()
    if to_step:
        migration.runbook.step(to_step)
    records = migration.records
    if not session.json:
        draw_status(session, status)
        session.out.print()
        session.out.print(f"{len(records)} changes of it still apply.")
    if dry_run:
        return session.emit(dry_run=True, migration=status.to_json()) if session.json else 0
    agreed(yes=yes, where=status.begun.install, question="Take it back?")
    done = migration.go_back(
        session.context,
        to_step,
        allow_loss=consents.allow_loss,
        while_running=consents.while_running,
    )
    if session.json:
        changes = [each.record.id for each in done.applied]
        found = [each.to_json() for each in done.findings]
        return session.emit(
            migration=migration.status().to_json(),
            taken_back={"changes": changes, "findings": found},
        )
    draw_end(session, MigrationRun((), migration.status(), done))
    return 0
