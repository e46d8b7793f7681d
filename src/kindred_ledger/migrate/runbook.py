"""Runbook: the steps of a migration in their order, read from a card, or the usual ones where it has none.

What always holds: names of steps are unique; what a step says was checked when the runbook was read; a
runbook that was written for other builds is never taken unasked.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec
from msgspec import Struct, to_builtins

from ..cards import Card
from ..cards.runbook_models import RunbookTable
from ..errors import CardError, DecisionNeeded, UsageError
from ..finding import Finding
from ..operations import KINDS
from ..planning.helper_sequence import HelperStep
from ..suggestions import did_you_mean
from ..versions import Version, VersionRange
from .changed_between import changed_between
from .steps import KINDS_OF_STEPS, Operate, RunbookStep, RunHelper, SignOff

__all__ = ["Runbook", "choose_runbook", "read_runbook", "read_step", "runbooks_of"]

_OF_A_STEP = ("name", "why")
_TOO_EARLY = "a helper goes only when it is signed off, and {} comes before"


class Runbook(Struct, frozen=True):
    """Steps that bring an install from builds in the range `source` to builds in the range `to`.

    `name` is "" for the usual order, which is used where the card has no runbook.

    >>> [step.called for step in kl.usual_runbook(install, "2.0").steps]
    ['look', 'store', 'shelve', 'update', 'convert', 'check', 'sign off']
    """

    name: str
    source: str
    to: str
    steps: tuple[RunbookStep, ...]
    note: str = ""

    def step(self, name: str) -> RunbookStep:
        """Return the step of a name.

        Raises:
            UsageError: there is none.
        """
        names = [step.called for step in self.steps]
        if name not in names:
            near = did_you_mean(name, names) or f"The steps are: {', '.join(names)}."
            raise UsageError(f"there is no step {name!r}", remedy=near)
        return self.steps[names.index(name)]

    def fits(self, source: Version, to: Version, card: Card) -> bool:
        """Tell whether it was written for these builds."""
        ranges = [VersionRange.parse(text, card.scheme) for text in (self.source, self.to)]
        return source in ranges[0] and to in ranges[1]

    def to_json(self) -> dict[str, Any]:
        """Return it as plain values, which `read_runbook` reads."""
        steps = [_plain(step) for step in self.steps]
        out = {"name": self.name, "from": self.source, "to": self.to, "steps": steps}
        return out | ({"note": self.note} if self.note else {})


def read_runbook(values: Mapping[str, Any] | RunbookTable, *, where: str = "") -> Runbook:
    """Read a runbook of plain values, as a card or a ledger has it.

    Raises:
        CardError: with every fault of its steps.
    """
    table = (
        values if isinstance(values, RunbookTable) else msgspec.convert(dict(values), RunbookTable)
    )
    faults: list[Finding] = []
    steps: list[RunbookStep] = []
    names: set[str] = set()
    for at, row in enumerate(table.steps):
        key = f"runbook {table.name}: steps[{at}]"
        try:
            step = read_step(row)
        except (UsageError, msgspec.ValidationError) as error:
            advice = f" {error.remedy}" if isinstance(error, UsageError) and error.remedy else ""
            faults.append(Finding.error("card", f"{error.args[0]}.{advice}".strip(), field=key))
            continue
        told = step.faults()
        if step.called in names:
            told.append(f"there is another step {step.called!r}: give it a `name`")
        names.add(step.called)
        if isinstance(step, SignOff):
            told += [_TOO_EARLY.format(each.called) for each in steps if _takes_helper(each)]
        faults += (Finding.error("card", fault, field=key) for fault in told)
        steps.append(step)
    if faults:
        count = f"{len(faults)} faults" if len(faults) > 1 else "a fault"
        raise CardError(f"the runbook has {count}", where=where, findings=tuple(faults))
    return Runbook(table.name, table.source, table.to, tuple(steps), table.note)


def _takes_helper(step: RunbookStep) -> bool:
    return isinstance(step, RunHelper) and step.turn == HelperStep.REMOVE


def runbooks_of(card: Card) -> list[Runbook]:
    """Return the runbooks of a card, in their order.

    Raises:
        CardError: one is wrong.
    """
    return [read_runbook(table, where=card.path) for table in card.file.runbooks]


def choose_runbook(
    card: Card, source: Version, to: Version, name: str = ""
) -> tuple[Runbook | None, tuple[Finding, ...]]:
    """Return the runbook for a move between builds, and what is to be said of it; None if the card has none.

    With a `name` that one, also if it was written for other builds: then what changed since is told.

    Raises:
        UsageError: there is none of the name.
        DecisionNeeded: the card has some, all for other builds, and none was named.
    """
    known = runbooks_of(card)
    if name:
        found = next((each for each in known if each.name == name), None)
        if found is None:
            near = did_you_mean(name, [each.name for each in known])
            remedy = near or "See the runbooks of its card: " + (card.path or "it has no card")
            raise UsageError(f"{card.name} has no runbook {name!r}", remedy=remedy)
        return found, () if found.fits(source, to, card) else _stale(found, card, to)
    fitting = next((each for each in known if each.fits(source, to, card)), None)
    if fitting is None and known:
        told = [f"{each.name}: from {each.source} to {each.to}" for each in known]
        raise DecisionNeeded(
            f"the card has no runbook from {source} to {to}",
            where=card.path,
            choices=tuple(told),
            remedy="It has these, for other builds: " + "; ".join(told)
            + ".\nSay which one to use all the same, `runbook=NAME`, or `runbook=usual` for the usual order.",
        )  # fmt: skip
    return fitting, ()


def _stale(runbook: Runbook, card: Card, to: Version) -> tuple[Finding, ...]:
    what = f"it was written for builds {runbook.to}, and this leads to {to}"
    since = changed_between(card, runbook.to, to)
    if since:
        what += f"; since then: {'; '.join(since)}"
    return (Finding.warning("runbook-stale", what, where=runbook.name),)


def read_step(row: Mapping[str, Any]) -> RunbookStep:
    """Read one step of plain values.

    Raises:
        UsageError: there is no such step or operation.
    """
    do = row.get("do")
    if do in KINDS_OF_STEPS:
        return msgspec.convert(dict(row), KINDS_OF_STEPS[str(do)])
    if do in KINDS:
        fields = {key: value for key, value in row.items() if key not in ("do", *_OF_A_STEP)}
        said = {key: row[key] for key in _OF_A_STEP if key in row}
        return msgspec.convert(
            {"do": "operation", "operation": do, "fields": fields, **said}, Operate
        )
    known: Sequence[str] = [*KINDS_OF_STEPS, *KINDS]
    near = did_you_mean(str(do), known) if do else ""
    what = f"there is no step {do!r}" if do else "expected in `do` what the step does"
    raise UsageError(what, remedy=near or f"Steps are: {', '.join(known)}.")


def _plain(step: RunbookStep) -> dict[str, Any]:
    plain: dict[str, Any] = to_builtins(step)
    if not isinstance(step, Operate):
        return plain
    said = {key: plain[key] for key in _OF_A_STEP if key in plain}
    return {"do": step.operation, **said, **step.fields}
