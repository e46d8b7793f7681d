"""Running a migration: step after step until it waits, something is to be decided, or it is done.

What always holds: when a check finds something wrong, all is taken back as one, unless that would lose what
was changed since; then it stays, and says so.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ..changes import Recovered, recover
from ..errors import KindredError, UsageError
from ..finding import Finding
from ..planning.context import Context
from .consents import MigrationConsents
from .migration import Migration, MigrationStatus, Returned
from .steps import ResultState, RunHelper, StepResult, Wait

__all__ = ["MigrationRun", "run_migration"]


class MigrationRun(Struct, frozen=True):
    """What a run did: the results of its steps, where the migration is now, and what was taken back.

    `findings` say why a migration that failed could not be taken back; `recovered` is what was cut off before
    and was finished, or taken back, first.

    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     choice = kl.choose_migration(context, "mossferry", "downloads/mossferry-2.0.zip")
    ...     consents = kl.MigrationConsents(allow_loss=True)
    ...     migration = kl.Migration.begin(
    ...         choice.install, choice.release, choice.to, choice.runbook, context=context, consents=consents
    ...     )
    ...     run = kl.run_migration(migration, context)
    ...
    >>> run.last.step, str(run.last.state)
    ('sign off', 'waits')
    """

    results: tuple[StepResult, ...]
    status: MigrationStatus
    returned: Returned | None = None
    findings: tuple[Finding, ...] = ()
    recovered: tuple[Recovered, ...] = ()

    @property
    def last(self) -> StepResult | None:
        """The last result."""
        return self.results[-1] if self.results else None

    def to_json(self) -> dict[str, Any]:
        """Return it as plain values."""
        out: dict[str, Any] = {
            "migration": self.status.to_json(),
            "results": [each.to_json() for each in self.results],
        }
        if self.returned is not None:
            out["taken_back"] = {
                "changes": [each.record.id for each in self.returned.applied],
                "findings": [each.to_json() for each in self.returned.findings],
            }
        if self.recovered:
            out["recovered"] = [{"id": each.id, "outcome": each.outcome} for each in self.recovered]
        if self.findings:
            out["findings"] = [each.to_json() for each in self.findings]
        return out


def run_migration(
    migration: Migration,
    context: Context,
    consents: MigrationConsents | None = None,
    *,
    stay: bool = False,
    person: Callable[[StepResult], bool] | None = None,
    watch: Callable[[StepResult], None] = lambda result: None,
) -> MigrationRun:
    """Go on with a migration until it waits, must be decided, failed or is done.

    `person` does what a step waits for, and says whether it did; None leaves it to somebody else. `watch` is
    told each result. With `stay` nothing is taken back when a check finds something wrong.

    Raises:
        UsageError: a step that is said to be done, or to be passed over, is none that can be.
        KindredError: a step failed; nothing of it was written, and the migration can go on from there.

    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     choice = kl.choose_migration(context, "mossferry", "downloads/mossferry-2.0.zip")
    ...     consents = kl.MigrationConsents(allow_loss=True)
    ...     migration = kl.Migration.begin(
    ...         choice.install, choice.release, choice.to, choice.runbook, context=context, consents=consents
    ...     )
    ...     run = kl.run_migration(migration, context)
    ...
    >>> [(result.step, str(result.state)) for result in run.results][-2:]
    [('check', 'done'), ('sign off', 'waits')]
    """
    consents = consents or MigrationConsents()
    recovered = tuple(recover(context.ledger, roots=migration.folders))
    _check_named(migration, consents)
    results: list[StepResult] = []
    while True:
        try:
            result = migration.advance(context, consents)
        except KindredError as error:
            more = "Put it right, then go on: kindred migrate --resume"
            more += "\nTo take all back: kindred migrate --back"
            error.remedy = f"{error.advice}\n{more}".strip()
            raise
        if result is None:
            break
        results.append(result)
        watch(result)
        if result.state is ResultState.WAITS and person is not None and person(result):
            step = migration.runbook.step(result.step)
            if isinstance(step, Wait) and not step.evidence:  # nothing shows it: it is said
                consents = replace(consents, done=(*consents.done, result.step))
            continue
        if result.state is not ResultState.DONE:
            break
    if results and results[-1].state is ResultState.FAILED and not stay:
        return replace(_taken_back(migration, context, results), recovered=recovered)
    return MigrationRun(tuple(results), migration.status(), recovered=recovered)


def _taken_back(migration: Migration, context: Context, results: list[StepResult]) -> MigrationRun:
    try:
        returned = migration.go_back(context)
    except KindredError as error:
        found = error.finding("not-taken-back")
        return MigrationRun(tuple(results), migration.status(), findings=(found,))
    return MigrationRun(tuple(results), migration.status(), returned)


def _check_named(migration: Migration, consents: MigrationConsents) -> None:
    states = {each.name: each.state for each in migration.status().steps}
    for name in (*consents.done, *consents.skip):
        step = migration.runbook.step(name)
        if not isinstance(step, (Wait, RunHelper)):
            raise UsageError(
                f"{name} is nothing that a person does: this program does it",
                remedy="Leave the option out.",
            )
        if states[name] == "done":
            raise UsageError(f"{name} is done already", remedy="Leave the option out.")
