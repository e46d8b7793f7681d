"""The plan of a migration: its steps, what they would change, lose and take, before it is begun.

What can be computed now is; what depends on a step before it is told at its turn. How long and how much comes
from rates that are measured on this machine, with the files of this install.
"""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Sequence
from typing import Any

from blake3 import blake3
from msgspec import Struct
from msgspec.structs import replace

from ..cards import PROGRAM, Install
from ..changes import Changeset
from ..errors import DecisionNeeded, KindredError, UsageError
from ..finding import Finding, Severity
from ..ledger import Ledger
from ..ledger.migrations import MigrationBegun
from ..places import FILE, Place, Tree, discard, read_bytes, roots_of
from ..planning.context import Context
from ..suggestions import did_you_mean
from ..wording import size
from .consents import MigrationConsents, covers, unallowed
from .runbook import Runbook
from .steps import Agree, Close, Prove, RunbookStep, RunHelper, StepContext, Store, Wait

__all__ = ["MigrationPlan", "PlannedStep", "Rates", "measure_rates", "plan_migration"]

_SAMPLE_BYTES = 16 << 20
# What is right once a step of some kind was done before.
_MENDED_BY = {
    "not-read-here": "update",
    "helper-first": "helper",
    "world-ids": "remap",
    "other-build": "agree",
}
_NOT_YET = "told at its turn: it depends on a step before"


class Rates(Struct, frozen=True):
    """How fast this machine reads and hashes, and writes durably: bytes a second."""

    reading: float
    writing: float


class PlannedStep(Struct, frozen=True):
    """One step of a plan: what it does, what it changes, how it is taken back, how long it takes.

    `files` are those that change, `written` the bytes they need, `stored` the bytes the ledger may grow by.
    `change` is None where nothing is computed; `later` says that it cannot be yet, and why.

    >>> kl.PlannedStep("update", "update", "update it", files=80).losses
    ()
    """

    name: str
    kind: str
    told: str
    findings: tuple[Finding, ...] = ()
    files: int = 0
    written: int = 0
    stored: int = 0
    seconds: float = 0.0
    change: Changeset | None = None
    later: str = ""
    is_yours: bool = False

    @property
    def losses(self) -> tuple[Finding, ...]:
        """What it would lose."""
        return tuple(each for each in self.findings if each.severity is Severity.LOSS)

    @property
    def conflicts(self) -> tuple[Finding, ...]:
        """What must be decided, or put right, first."""
        return tuple(each for each in self.findings if each.severity is Severity.CONFLICT)

    def to_json(self) -> dict[str, Any]:
        """Return it as plain values."""
        return {
            "name": self.name,
            "kind": self.kind,
            "told": self.told,
            "files": self.files,
            "written_bytes": self.written,
            "stored_bytes": self.stored,
            "seconds": round(self.seconds, 1),
            "later": self.later,
            "is_yours": self.is_yours,
            "findings": [each.to_json() for each in self.findings],
        }


class MigrationPlan(Struct, frozen=True):
    """What a migration would do, step by step; `free` are the bytes that are free in the ledger.

    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     choice = kl.choose_migration(context, "mossferry", "downloads/mossferry-2.0.zip")
    ...     plan = kl.plan_migration(
    ...         choice.install, choice.release, choice.to, choice.runbook, context=context
    ...     )
    ...
    >>> {loss.code for loss in plan.losses}
    {'dropped'}
    """

    install: str
    source: str
    to: str
    release: str
    runbook: Runbook
    steps: tuple[PlannedStep, ...]
    free: int
    findings: tuple[Finding, ...] = ()

    @property
    def seconds(self) -> float:
        """How long the program works; what a person does is not in it."""
        return sum(each.seconds for each in self.steps)

    @property
    def stored(self) -> int:
        """The bytes the ledger may grow by."""
        return sum(each.stored for each in self.steps)

    @property
    def losses(self) -> tuple[Finding, ...]:
        """All that would be lost."""
        return tuple(loss for each in self.steps for loss in each.losses)

    @property
    def in_the_way(self) -> tuple[Finding, ...]:
        """What must be decided, or put right, before it begins: no step before it could do so."""
        found = [each for each in self.findings if each.severity is Severity.CONFLICT]
        for step, planned in zip(self.runbook.steps, self.steps, strict=True):
            if step.is_change or isinstance(step, Wait):
                if planned.conflicts and not isinstance(step, RunHelper):
                    found += planned.conflicts
                break
        return tuple(found)

    def unallowed(self, consents: MigrationConsents) -> tuple[Finding, ...]:
        """Return the losses that nobody agreed to; one-way ones need their name."""
        return unallowed(self.losses, consents)

    def check_allowed(self, allow: Sequence[str]) -> None:
        """Raise `UsageError` if a consent fits nothing that this plan loses or asks for.

        Where a step is told at its turn only, what it would lose is not known, and nothing is refused.
        """
        if any(each.later for each in self.steps):
            return
        asked = {step.called for step in self.runbook.steps if isinstance(step, (Agree, Close))}
        known = [*asked, *(loss.code for loss in self.losses)]
        for text in allow:
            if text not in asked and not any(covers(text, loss) for loss in self.losses):
                raise UsageError(
                    f"nothing would be lost that {text!r} names",
                    remedy=did_you_mean(text.partition(":")[0], dict.fromkeys(known)),
                )

    def to_json(self) -> dict[str, Any]:
        """Return it as plain values."""
        return {
            "install": self.install,
            "source": self.source,
            "to": self.to,
            "release": self.release,
            "runbook": self.runbook.name,
            "seconds": round(self.seconds, 1),
            "stored_bytes": self.stored,
            "free_bytes": self.free,
            "steps": [each.to_json() for each in self.steps],
            "findings": [each.to_json() for each in self.findings],
        }


def measure_rates(ledger: Ledger, place: Place, tree: Tree) -> Rates:
    """Read and hash some files of a place, write some into the ledger's own folder, and say how fast."""
    some: list[str] = []
    total = 0
    for path, node in sorted(tree.items(), key=lambda item: -item[1].size):
        if node.kind == FILE and node.size and total + node.size <= _SAMPLE_BYTES:
            some.append(path)
            total += node.size
    began = time.perf_counter()
    for path in some:
        blake3(read_bytes(place, path))
    reading = total / max(time.perf_counter() - began, 1e-6) if some else 1e8
    path = os.path.join(ledger.folder("work"), f"rate-{os.getpid()}")
    data = os.urandom(1 << 20)
    began = time.perf_counter()
    try:
        with open(path, "wb") as file:
            for _ in range(4):
                file.write(data)
            file.flush()
            os.fsync(file.fileno())
    finally:
        writing = (4 << 20) / max(time.perf_counter() - began, 1e-6)
        discard(path)
    return Rates(reading, writing)


def plan_migration(
    install: Install,
    release: str,
    to: str,
    runbook: Runbook,
    *,
    context: Context,
    old: str = "",
    findings: tuple[Finding, ...] = (),
) -> MigrationPlan:
    """Say what a migration would do, and do nothing; `findings` are told with it.

    Raises:
        UsageError: there is no release `old`.
        DecisionNeeded: the build of the install is not certain.

    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     choice = kl.choose_migration(context, "mossferry", "downloads/mossferry-2.0.zip")
    ...     plan = kl.plan_migration(
    ...         choice.install, choice.release, choice.to, choice.runbook, context=context
    ...     )
    ...
    >>> [(step.name, step.files) for step in plan.steps if step.files]
    [('update', 75), ('convert', 6)]
    """
    if old:
        context.release(old)
    begun = MigrationBegun(
        install=roots_of(install.place)[PROGRAM],
        title=install.card.title,
        release=release,
        source=install.sure_version.text,
        to=to,
        runbook={},
        old=old,
    )  # fmt: skip
    tree = install.place.survey()
    rates = measure_rates(context.ledger, install.place, tree)
    was, context.dry_run = context.dry_run, True
    try:
        at = StepContext(begun, context)
        steps = tuple(
            _without_mended(
                _planned(step, at, tree, rates, runbook.steps[:number]), runbook.steps[:number]
            )
            for number, step in enumerate(runbook.steps)
        )
    finally:
        context.dry_run = was
    free = shutil.disk_usage(context.ledger.root).free
    needed = sum(each.stored for each in steps)
    if needed > free:
        what = f"the ledger may grow by {size(needed)}, and {size(free)} are free"
        remedy = "Free some space first, or use a ledger on another disk."
        full = Finding.conflict("no-space", what, where=context.ledger.location, remedy=remedy)
        findings = (*findings, full)
    return MigrationPlan(begun.install, begun.source, to, release, runbook, steps, free, findings)


def _planned(
    step: RunbookStep,
    at: StepContext,
    tree: Tree,
    rates: Rates,
    before: Sequence[RunbookStep],
) -> PlannedStep:
    told = step.told(at)
    if not step.is_change:
        total = sum(node.size for node in tree.values())
        if isinstance(step, Store):
            seconds = total / rates.reading + total / rates.writing
            return PlannedStep(step.called, step.kind, told, stored=total, seconds=seconds)
        seconds = 2 * total / rates.reading if isinstance(step, Prove) else 0.0
        if isinstance(step, Agree):
            found = (step.asked(at),)
            return PlannedStep(step.called, step.kind, told, found, is_yours=True)
        yours = step.is_yours
        return PlannedStep(step.called, step.kind, told, seconds=seconds, is_yours=yours)
    began = time.perf_counter()
    try:
        change = step.change(at)
    except KindredError as error:
        if not any(each.is_change or isinstance(each, Wait) for each in before):
            more = error.findings if isinstance(error, DecisionNeeded) else ()
            refused = error.finding("step-refused", severity=Severity.CONFLICT)
            return PlannedStep(step.called, step.kind, told, (refused, *more))
        why = "" if isinstance(step, RunHelper) else f" ({error.what})"
        return PlannedStep(step.called, step.kind, told, later=_NOT_YET + why)
    if change is None:
        return PlannedStep(step.called, step.kind, told, is_yours=step.is_yours)
    spent = time.perf_counter() - began
    leaves = [a for a in change.actions if FILE in {n.kind for n in (a.before, a.after) if n}]
    written = sum(a.after.size for a in leaves if a.after is not None)
    kept = sum(a.before.size for a in leaves if a.before is not None)
    seconds = spent + written / rates.writing + kept / rates.reading
    told = step.why or change.summary
    return PlannedStep(
        step.called, step.kind, told, change.findings, len(leaves), written, kept, seconds, change
    )


def _without_mended(planned: PlannedStep, before: Sequence[RunbookStep]) -> PlannedStep:
    """Return a planned step without findings that a step before it mends."""
    kinds = {step.kind for step in before}
    found = tuple(each for each in planned.findings if _MENDED_BY.get(each.code) not in kinds)
    return replace(planned, findings=found)
