"""A fleet on the command line: which installs, the plan of each in a line, and what came of each."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence

from msgspec.structs import replace

from ..errors import DecisionNeeded, UsageError
from ..migrate import (
    FleetJob,
    FleetResult,
    FleetRun,
    MigrationConsents,
    installs_named,
    migrate_fleet,
    plan_fleet,
    process_pool,
)
from ..wording import count, size
from . import drawing
from .applying import agreed
from .session import Session

__all__ = ["fleet_job", "run_fleet"]

_MOST_WORKERS = 8
_RANK = ("error", "failed", "decide", "waits", "planned", "taken back", "done")
_ONE_OR_MANY = {
    "error": ("with an error", "with errors"), "failed": ("failed", "failed"),
    "decide": ("needs a decision", "need decisions"), "waits": ("waits for you", "wait for you"),
    "planned": ("planned", "planned"), "taken back": ("taken back", "taken back"), "done": ("done", "done"),
}  # fmt: skip
_STATUS = {
    "done": 0,
    "taken back": 0,
    "planned": 0,
    "waits": 3,
    "decide": 3,
    "failed": 4,
    "error": 4,
}


def fleet_job(
    session: Session,
    release: str,
    *,
    old: str,
    runbook: str,
    consents: MigrationConsents,
    sign: tuple[str, ...],
    by: str,
    back: bool,
) -> FleetJob:
    """Return the job of any install of a fleet, as a worker needs it."""
    where = session.ledger_where
    return FleetJob(
        install="",
        release=_absolute(release),
        ledger=where if "://" in where else os.path.abspath(where),
        cards=tuple(os.path.abspath(card.path) for card in session.cards),
        remotes=os.environ.get("KINDRED_REMOTES", ""),
        old=_absolute(old),
        runbook=runbook,
        build=session.build,
        consents=consents,
        sign=sign,
        by=by,
        back=back,
    )


def run_fleet(
    session: Session, named: str, job: FleetJob, *, workers: int, yes: bool, dry_run: bool
) -> int:
    """Show the plan of each install in a line, ask, do all, and show what came of each."""
    if not named:
        raise UsageError(
            "which installs?", remedy="Name them by a pattern, or a file: 'servers/*' --fleet."
        )
    jobs = [replace(job, install=each) for each in installs_named([named])]
    _ = session.ledger  # made here, once
    for each in filter(None, (job.release, job.old)):
        session.context.release(each)  # one mistake is told once
    many = workers or min(len(jobs), os.cpu_count() or 1, _MOST_WORKERS)

    with process_pool(many) as executor:
        if job.release:
            plan = plan_fleet(jobs, executor, renew=lambda: process_pool(many))
            in_the_way = [each for each in plan.results if each.state in ("decide", "error")]
            if not session.json:
                _draw_plan(session, plan, many)
            if dry_run:
                status = 3 if in_the_way else 0
                if session.json:
                    return session.emit(status, dry_run=True, fleet=plan.to_json())
                session.out.print("\nThis was a dry run; nothing was written.", style="dim")
                return status
            if in_the_way:
                raise DecisionNeeded(
                    f"{count(len(in_the_way), 'install')} cannot begin; nothing was written",
                    choices=tuple(
                        f"{drawing.short(each.install)}: {_why(each)}" for each in in_the_way
                    ),
                    remedy="Agree to losses with --allow-loss, or --allow CODE; leave others out.",
                )
        elif dry_run:
            raise UsageError("which release?", remedy="Say it, to see the plan.")
        agreed(yes=yes, where=named, question=f"Go ahead with {count(len(jobs), 'install')}?")
        with session.progress.task("migrating", total=len(jobs), unit="installs") as task:

            def watch(result: FleetResult) -> None:
                task.advance()

            run = migrate_fleet(jobs, executor, renew=lambda: process_pool(many), watch=watch)
    status = max((_STATUS[each.state] for each in run.results), default=0)
    if session.json:
        return session.emit(status, fleet=run.to_json())
    _draw_run(session, run)
    return status


def _draw_plan(session: Session, plan: FleetRun, workers: int) -> None:
    drawing.heading(
        session.out,
        f"Migrate {count(len(plan.results), 'install')}",
        f"{count(workers, 'process')}",
    )
    rows = []
    for some in _alike(
        plan.results, lambda each: (each.state, each.source, each.to, each.told, _why(each))
    ):
        each = some[0]
        rows.append(
            (
                f"    {_installs(some)}",
                f"{each.source} to {each.to}" if each.to else "",
                each.told if each.state != "error" else "",
                f"{sum(one.totals.get('files', 0) for one in some):,} files",
                size(sum(one.totals.get("bytes", 0) for one in some)),
                _why(each),
            )
        )
    heads = ("    install", "builds", "plan", "change", "stored at most", "in the way")
    drawing.rows(session.out, heads, rows, right="lllrrl")


def _draw_run(session: Session, run: FleetRun) -> None:
    out = session.out
    totals = run.totals()
    ordered = sorted(totals.items(), key=lambda item: _RANK.index(item[0]))
    told = ", ".join(f"{number:,} {_ONE_OR_MANY[state][number != 1]}" for state, number in ordered)
    drawing.heading(out, f"{count(len(run.results), 'install')}: {told}")
    rows = []
    results = sorted(run.results, key=lambda each: (_RANK.index(each.state), each.install))
    for some in _alike(results, lambda each: (each.state, each.told, tuple(each.totals.items()))):
        each = some[0]
        books = ", ".join(f"{number:,} {name}" for name, number in each.totals.items())
        books += " each" if books and len(some) > 1 else ""
        took = f"{max(one.seconds for one in some):.1f} s"
        rows.append((f"    {_installs(some)}", each.state, each.told, books, took))
    heads = ("    install", "state", "", "books of this run", "took")
    drawing.rows(out, heads, rows, right="llllr")
    if any(each.state in ("waits", "decide") for each in run.results):
        out.hang(
            "    ", "Go on with all that wait: the same with --resume, or --sign PART", style="dim"
        )


def _alike(
    results: Sequence[FleetResult], key: Callable[[FleetResult], object]
) -> list[list[FleetResult]]:
    """Return results that say the same together, in the order of the first of each."""
    groups: dict[object, list[FleetResult]] = {}
    for each in results:
        groups.setdefault(key(each), []).append(each)
    return list(groups.values())


def _installs(some: Sequence[FleetResult]) -> str:
    """Return what some installs are called: the first and the last of many."""
    names = [drawing.short(each.install) for each in some]
    return names[0] if len(names) == 1 else f"{names[0]} … {names[-1]} ({len(names)})"


def _why(result: FleetResult) -> str:
    """Return in short what is in the way of one install."""
    if result.state == "error":
        return result.told
    codes = dict.fromkeys(found.code for found in result.findings)
    return ", ".join(codes)


def _absolute(text: str) -> str:
    if not text or "://" in text or text.startswith(("release:", "entry:")):
        return text
    return os.path.abspath(os.path.expanduser(text))
