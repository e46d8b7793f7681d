"""Fleets: the same migration for many installs, in parallel by any executor, each with its own books.

What always holds: an install that fails stops no other; a worker that is killed costs the time of what it was
at, and that is begun again where it stopped. A job is plain values, so a worker on another machine can do it,
if it reaches the same folders and the same ledger.
"""

from __future__ import annotations

import glob
import os
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, Executor, Future, wait
from contextlib import contextmanager
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ..cards import Card
from ..errors import KindredError, PlaceBusy, UsageError
from ..finding import Finding
from ..ledger import Ledger
from ..ledger.migrations import begun_migrations, unfinished_migrations
from ..places.remotes import connect, login_for
from ..planning.context import Context
from ..small_files import read_small
from .choosing import AlreadyThere, choose_migration
from .consents import MigrationConsents
from .migration import Migration
from .plan import plan_migration
from .running import MigrationRun, run_migration
from .steps import ResultState

__all__ = ["FleetJob", "FleetResult", "FleetRun", "installs_named", "migrate_fleet", "plan_fleet"]

_TRIES = 3
_BREAKS_TOGETHER = 2  # times that the executor may break before jobs are done one at a time
_BUSY_SECONDS = 0.5
_LARGEST_LIST = 1 << 20


class FleetJob(Struct, frozen=True):
    """The migration of one install, as plain values: begun, or gone on with where it is under way.

    `cards` are files, `ledger` is a folder or a URL, which `remotes` says how to log in to (a file; the
    environment counts, too). `sign` are parts to sign off where the migration waits for that; `back` takes it
    back.
    """

    install: str
    release: str
    ledger: str
    cards: tuple[str, ...]
    remotes: str = ""
    old: str = ""
    runbook: str = ""
    build: str = ""
    consents: MigrationConsents = MigrationConsents()
    sign: tuple[str, ...] = ()
    by: str = ""
    back: bool = False


class FleetResult(Struct, frozen=True):
    """What came of one install: `state` is done, waits, decide, failed, taken back, planned or error.

    `totals` are the books of its changes in this run, summed by outcome.
    """

    install: str
    state: str
    told: str = ""
    source: str = ""
    to: str = ""
    migration: str = ""
    totals: Mapping[str, int] = {}
    findings: tuple[Finding, ...] = ()
    seconds: float = 0.0
    tries: int = 1

    def to_json(self) -> dict[str, Any]:
        """Return it as plain values."""
        return {
            "install": self.install,
            "state": self.state,
            "told": self.told,
            "source": self.source,
            "to": self.to,
            "migration": self.migration,
            "totals": dict(self.totals),
            "seconds": round(self.seconds, 1),
            "tries": self.tries,
            "findings": [each.to_json() for each in self.findings],
        }


class FleetRun(Struct, frozen=True):
    """What came of a fleet, an entry for each install, in the order they were named."""

    results: tuple[FleetResult, ...]

    def totals(self) -> dict[str, int]:
        """Return how many installs are in each state.

        >>> FleetRun((FleetResult("a", "done"), FleetResult("b", "error"))).totals()
        {'done': 1, 'error': 1}
        """
        return dict(Counter(each.state for each in self.results))

    def to_json(self) -> dict[str, Any]:
        """Return it as plain values."""
        return {
            "installs": [each.to_json() for each in self.results],
            "totals": self.totals(),
        }


def installs_named(texts: Sequence[str]) -> list[str]:
    """Return the folders that patterns, folders, or files with a folder a line name, each once.

    Raises:
        UsageError: one names nothing.
    """
    found: dict[str, None] = {}
    for text in texts:
        path = os.path.expanduser(text)
        if os.path.isfile(path):
            lines = read_small(path, most=_LARGEST_LIST).decode("utf-8-sig").splitlines()
            named = [line.strip() for line in lines if line.strip() and line[0] != "#"]
            folder = os.path.dirname(os.path.abspath(path))
            some = [os.path.join(folder, os.path.expanduser(line)) for line in named]
        else:
            some = sorted(each for each in glob.glob(path) if os.path.isdir(each))
        missing = [each for each in some if not os.path.isdir(each)]
        if missing or not some:
            raise UsageError(
                "no folder fits this" if not some else f"there is no folder {missing[0]}",
                where=text,
                remedy="Name folders by a pattern such as 'servers/*', or in a file, one a line.",
            )
        found.update(dict.fromkeys(os.path.abspath(each) for each in some))
    return list(found)


def migrate_fleet(
    jobs: Sequence[FleetJob],
    executor: Executor,
    *,
    renew: Callable[[], Executor] | None = None,
    watch: Callable[[FleetResult], None] = lambda result: None,
) -> FleetRun:
    """Do jobs in an executor of threads, processes or a cluster; begin those anew whose worker was killed.

    `renew` gives a new executor where one broke: a pool of processes does when one of them dies. `watch` is
    told each result as it comes.
    """
    return _Fleet(jobs, executor, _migrated, renew, watch).run()


def plan_fleet(
    jobs: Sequence[FleetJob],
    executor: Executor,
    *,
    renew: Callable[[], Executor] | None = None,
) -> FleetRun:
    """Say what jobs would do, and do nothing: what each would lose, and what is in its way."""
    return _Fleet(jobs, executor, _planned, renew, lambda result: None).run()


class _Fleet:
    """One run of jobs in an executor."""

    def __init__(
        self,
        jobs: Sequence[FleetJob],
        executor: Executor,
        act: Callable[[FleetJob], FleetResult],
        renew: Callable[[], Executor] | None,
        watch: Callable[[FleetResult], None],
    ) -> None:
        self.jobs, self.executor, self.act = jobs, executor, act
        self.renew, self.watch = renew, watch
        self.tries: Counter[int] = Counter()
        self.breaks = 0

    def run(self) -> FleetRun:
        left = list(range(len(self.jobs)))
        results: dict[int, FleetResult] = {}
        made: list[Executor] = []
        try:
            while left:
                alone = self.breaks >= _BREAKS_TOGETHER
                again, broke = self._round(left[:1] if alone else left, results, alone=alone)
                left = again + (left[1:] if alone else [])
                if broke and self.renew is not None:
                    self.breaks += 1
                    self.executor = self.renew()
                    made.append(self.executor)
        finally:
            for executor in made:
                executor.shutdown(wait=True)
        return FleetRun(tuple(results[number] for number in range(len(self.jobs))))

    def _round(
        self, numbers: Sequence[int], results: dict[int, FleetResult], *, alone: bool
    ) -> tuple[list[int], bool]:
        """Do some jobs; return those to be done again, and whether the executor broke."""
        again: list[int] = []
        broke = False
        futures: dict[Future[FleetResult], int] = {}
        for number in numbers:
            try:
                futures[self.executor.submit(self.act, self.jobs[number])] = number
            except BrokenExecutor:
                again.append(number)
                broke = True
        while futures:
            done, _ = wait(futures, return_when=FIRST_COMPLETED)
            for future in done:
                number = futures.pop(future)
                try:
                    result = future.result()
                except BrokenExecutor as error:
                    broke = True
                    self._again(number, error, again, results, counts=alone or self.renew is None)
                except Exception as error:  # noqa: BLE001 - a cluster has errors of its own
                    self._again(number, error, again, results, counts=True)
                else:
                    results[number] = replace(result, tries=self.tries[number] + 1)
                    self.watch(results[number])
        return again, broke

    def _again(
        self,
        number: int,
        error: BaseException,
        again: list[int],
        results: dict[int, FleetResult],
        *,
        counts: bool,
    ) -> None:
        """Have a job done again, or say that it cannot be; of a pool that broke nobody knows who did it."""
        self.tries[number] += 1
        if counts and (self.tries[number] >= _TRIES or self.renew is None):
            told = f"what ran it ended {self.tries[number]} times: {type(error).__name__} {error}"
            results[number] = FleetResult(
                self.jobs[number].install, "error", told.strip(), tries=self.tries[number]
            )
            self.watch(results[number])
        else:
            again.append(number)


# ---- in a worker -------------------------------------------------------------------------------


@contextmanager
def _context(job: FleetJob) -> Iterator[Context]:
    """Give what a job is done in."""

    def connected(url: str) -> Any:
        return connect(url, login_for(url, os.environ, file=job.remotes))

    remote = connected(job.ledger) if "://" in job.ledger else None
    with Ledger.open(remote or job.ledger, connect=connected) as ledger:
        cards = [Card.load(path) for path in job.cards]
        cards.sort(key=lambda card: card.file.variant is not None)
        try:
            with Context(ledger, cards=cards, build=job.build, connect=connected) as context:
                yield context
        finally:
            if remote is not None:
                remote.close()


def _migrated(job: FleetJob) -> FleetResult:
    """Do one job."""
    return _guarded(job, _go_on)


def _planned(job: FleetJob) -> FleetResult:
    """Plan one job."""
    return _guarded(job, _plan)


def _guarded(job: FleetJob, act: Callable[[FleetJob, Context], FleetResult]) -> FleetResult:
    """Do something about a job; what goes wrong with it is its result, and nobody else's."""
    began = time.perf_counter()
    for number in range(_TRIES):
        try:
            with _context(job) as context:
                found = act(job, context)
        except PlaceBusy as error:  # what was killed may not be quite gone
            if number + 1 < _TRIES:
                time.sleep(_BUSY_SECONDS * (number + 1))
                continue
            found = _failed(job, error)
        except AlreadyThere as error:
            found = FleetResult(job.install, "done", error.what)
        except KindredError as error:
            found = _failed(job, error)
        break
    return replace(found, seconds=time.perf_counter() - began)


def _failed(job: FleetJob, error: KindredError) -> FleetResult:
    findings = (error.finding("failed"), *getattr(error, "findings", ()))
    return FleetResult(job.install, "error", error.what, findings=findings)


def _under_way(job: FleetJob, context: Context) -> Migration | None:
    begun = [each for each in unfinished_migrations(context.ledger) if each.install == job.install]
    return Migration(begun[-1], context.ledger) if begun else None


def _go_on(job: FleetJob, context: Context) -> FleetResult:
    migration = _under_way(job, context)
    if job.back:
        migration = migration or Migration.open(context.ledger, job.install)
        returned = migration.go_back(context, allow_loss=job.consents.allow_loss)
        told = f"{len(returned.applied)} changes taken back"
        return _told(job, migration, "taken back", told, returned.findings)
    if migration is None:
        if not job.release:
            return _ended(job, context)
        choice = choose_migration(context, job.install, job.release, runbook=job.runbook)
        migration = Migration.begin(
            choice.install, choice.release, choice.to, choice.runbook, context=context, old=job.old,
            consents=job.consents,
        )  # fmt: skip
    elif job.sign:
        migration.sign(job.sign, job.by)
    run = run_migration(migration, context, job.consents)
    return _of_run(job, migration, run)


def _ended(job: FleetJob, context: Context) -> FleetResult:
    """Say how the last migration of an install ended: going on with a fleet finds those that are done.

    Raises:
        UsageError: it has none, or was taken back.
    """
    begun = [each for each in begun_migrations(context.ledger) if each.install == job.install]
    last = Migration(begun[-1], context.ledger) if begun else None
    status = last.status() if last is not None else None
    if last is None or status is None or status.ended != "done" or status.next:
        what = "no migration of it is under way" if last is None else "its migration was taken back"
        raise UsageError(what, where=job.install, remedy="To begin one, name the release.")
    return _told(job, last, "done", f"is {last.begun.to}", ())


def _of_run(job: FleetJob, migration: Migration, run: MigrationRun) -> FleetResult:
    last = run.last
    state = run.status.ended or (str(last.state) if last is not None else "waits")
    told = f"{last.step}: {last.told}" if last is not None and last.told else run.status.next
    findings = (*(last.findings if last is not None else ()), *run.findings)
    if state == "done":
        told = f"is {migration.begun.to}"
    elif last is not None and last.state is ResultState.FAILED and run.returned is not None:
        told += "; taken back"
    totals: Counter[str] = Counter()
    for result in run.results:
        if result.applied is not None:
            totals.update(result.applied.statements[0].totals())
    found = _told(job, migration, state, told, findings)
    return replace(found, totals={name: number for name, number in totals.items() if number})


def _told(
    job: FleetJob, migration: Migration, state: str, told: str, findings: tuple[Finding, ...]
) -> FleetResult:
    begun = migration.begun
    return FleetResult(
        job.install, state, told, begun.source, begun.to, begun.id, findings=findings
    )


def _plan(job: FleetJob, context: Context) -> FleetResult:
    migration = _under_way(job, context)
    if migration is not None:
        return _told(job, migration, "waits", f"under way, next is {migration.status().next}", ())
    choice = choose_migration(context, job.install, job.release, runbook=job.runbook)
    plan = plan_migration(
        choice.install, choice.release, choice.to, choice.runbook, context=context, old=job.old
    )
    lost = plan.unallowed(job.consents)
    findings = (*plan.in_the_way, *lost)
    told = f"{len(plan.steps)} steps"
    told += f", {len(plan.losses)} losses" if plan.losses else ""
    state = "decide" if findings else "planned"
    totals = {"files": sum(each.files for each in plan.steps), "bytes": plan.stored}
    return FleetResult(
        job.install, state, told, plan.source, plan.to, totals=totals, findings=findings
    )
