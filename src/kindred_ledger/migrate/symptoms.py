"""Symptoms: what a person sees, and the remedies that the card knows, the cheapest first.

A remedy is words, or an operation: then it is previewed, kept and taken back like any change.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from ..cards import Install
from ..cards.symptom_models import SymptomTable
from ..changes import Changeset
from ..errors import CardError, KindredError, UsageError
from ..finding import Finding
from ..ledger import BEFORE
from ..ledger.migrations import MigrationBegun
from ..places import roots_of
from ..planning.context import Context
from ..suggestions import did_you_mean
from ..versions import VersionRange
from .runbook import read_step
from .steps import Operate, StepContext

__all__ = ["Remedy", "Symptom", "read_symptom", "symptom", "symptoms_of"]


class Remedy(Struct, frozen=True):
    """One thing that may help: words, or an operation; `why` says what it does.

    >>> kl.Remedy(1, "Close the launcher first.").step is None
    True
    """

    number: int
    told: str
    step: Operate | None = None

    def change(self, context: Context, install: Install) -> Changeset:
        """Compute the change it makes.

        Raises:
            UsageError: it is words only, or needs what is not there: an entry, a release on the shelf.
        """
        if self.step is None:
            raise UsageError("this remedy is yours to do", remedy=self.told)
        change = self.step.change(_at(context, install))
        assert change is not None
        return change


class Symptom(Struct, frozen=True):
    """What a person sees, why it is so, and what helps.

    >>> [symptom.name for symptom in kl.symptoms_of(install)]
    ['the window is black', 'keys do nothing']
    """

    name: str
    why: str
    remedies: tuple[Remedy, ...]

    def remedy(self, number: int) -> Remedy:
        """Return a remedy by its number, from 1.

        Raises:
            UsageError: there is none.
        """
        if not 1 <= number <= len(self.remedies):
            raise UsageError(f"there are {len(self.remedies)} remedies, and no {number}")
        return self.remedies[number - 1]


def symptoms_of(install: Install) -> list[Symptom]:
    """Return the symptoms that the card knows of the build of an install.

    Raises:
        CardError: a remedy is wrong.
        DecisionNeeded: its build is not certain.

    >>> [remedy.told for remedy in kl.symptoms_of(install)[1].remedies][0]
    'all keys anew'
    """
    card = install.card
    build = install.sure_version
    return [
        read_symptom(table, card.path)
        for table in card.file.symptoms
        if build in VersionRange.parse(table.builds, card.scheme)
    ]


def symptom(install: Install, text: str) -> Symptom:
    """Return the symptom that a text names: whole, or a part of it that fits one only.

    Raises:
        UsageError: none, or several fit.
    """
    known = symptoms_of(install)
    names = [each.name for each in known]
    fitting = [each for each in known if each.name == text] or [
        each for each in known if text.casefold() in each.name.casefold()
    ]
    if len(fitting) != 1:
        what = "several symptoms fit" if fitting else "the card knows no symptom"
        remedy = f"There are: {'; '.join(names)}." if fitting else did_you_mean(text, names)
        raise UsageError(f"{what} {text!r}", where=install.card.path, remedy=remedy)
    return fitting[0]


def read_symptom(table: SymptomTable, where: str) -> Symptom:
    """Read one symptom of a card.

    Raises:
        CardError: a remedy is wrong.
    """
    remedies = [_remedy(row, n, table, where) for n, row in enumerate(table.remedies, 1)]
    return Symptom(table.name, table.why, tuple(remedies))


def _remedy(row: Mapping[str, Any], number: int, table: SymptomTable, where: str) -> Remedy:
    if "say" in row:
        return Remedy(number, str(row["say"]))
    try:
        step = read_step(row)
        faults = step.faults()
    except (KindredError, ValueError) as error:
        advice = error.advice if isinstance(error, KindredError) else ""
        faults, step = [f"{error.args[0]}. {advice}".strip()], None
    if not faults and not isinstance(step, Operate):
        faults = [f"{row['do']!r} is a step of runbooks, and no operation"]
    if faults or not isinstance(step, Operate):
        found = tuple(
            Finding.error("card", fault, field=f"symptom {table.name}: remedies[{number - 1}]")
            for fault in faults
        )
        raise CardError("a remedy of the card is wrong", where=where, findings=found)
    return Remedy(number, step.why or step.operation, step)


def _at(context: Context, install: Install) -> StepContext:
    """Return what a remedy is done in: its release is that of the build, from the shelf; its start the newest
    whole entry."""
    roots = roots_of(install.place)
    version = install.sure_version.text
    entries = [
        entry
        for entry in context.ledger.entries()
        if entry.complete and dict(entry.roots) == roots and not entry.reason.startswith(BEFORE)
    ]
    begun = MigrationBegun(
        install=roots["program"],
        title=install.card.title,
        release=f"release:{install.card.title}@{version}",
        source=version,
        to=version,
        runbook={},
    )
    return StepContext(begun, context, start=entries[-1].id if entries else "")
