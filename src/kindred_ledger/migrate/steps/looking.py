"""Steps that look: before anything is changed, which may stop it, and after, which may take it back."""

from __future__ import annotations

from collections.abc import Mapping

from ...cards.helper_models import EvidenceTable, evidence_faults
from ...finding import Finding
from ...planning.evidence import Evidence
from ...suggestions import did_you_mean
from ...wording import count
from .base import ResultState, RunbookStep, StepContext, StepResult
from .checks import AFTERWARDS, BEFOREHAND, Named, looked

__all__ = ["Check", "Look"]


class Look(RunbookStep, frozen=True, tag="look"):
    """Look whether the migration may begin: `that` names what is looked at, `holds` what files must say."""

    that: tuple[str, ...] = ("closed", "local", "whole", "build")
    holds: tuple[EvidenceTable, ...] = ()

    def told(self, at: StepContext) -> str:
        """Say what is looked at."""
        return self.why or f"before anything: {_listed(BEFOREHAND, self.that, self.holds)}"

    def carry_out(self, at: StepContext) -> StepResult:
        """Look."""
        found = [*looked(at, BEFOREHAND, self.that), *_unmet(at, self.holds)]
        if not found:
            return self.result(ResultState.DONE, _listed(BEFOREHAND, self.that, self.holds))
        some = tuple(
            Finding.conflict(each.code, each.what, where=each.where, remedy=each.remedy or self.why)
            for each in found
        )
        return self.result(
            ResultState.DECIDE, count(len(some), "thing") + " in the way", findings=some
        )

    def faults(self) -> list[str]:
        """Return names that there are not, and rows that say too little."""
        return _faults(self.that, BEFOREHAND, self.holds)


class Check(RunbookStep, frozen=True, tag="check"):
    """Check what came out: `that` names what is checked, `holds` what files must say."""

    that: tuple[str, ...] = ("whole", "build", "readable", "kept")
    holds: tuple[EvidenceTable, ...] = ()

    def told(self, at: StepContext) -> str:
        """Say what is checked."""
        return self.why or f"afterwards: {_listed(AFTERWARDS, self.that, self.holds)}"

    def carry_out(self, at: StepContext) -> StepResult:
        """Check."""
        found = (*looked(at, AFTERWARDS, self.that), *_unmet(at, self.holds))
        if found:
            return self.result(ResultState.FAILED, count(len(found), "fault"), findings=found)
        return self.result(ResultState.DONE, _listed(AFTERWARDS, self.that, self.holds))

    def faults(self) -> list[str]:
        """Return names that there are not, and rows that say too little."""
        return _faults(self.that, AFTERWARDS, self.holds)


def _listed(
    known: Mapping[str, Named], names: tuple[str, ...], rows: tuple[EvidenceTable, ...]
) -> str:
    told = [known[name].words for name in names]
    return ", ".join([*told, *(f"{row.key} is {row.value} in {row.file}" for row in rows)])


def _unmet(at: StepContext, rows: tuple[EvidenceTable, ...]) -> list[Finding]:
    """Return what files do not say that must say it."""
    if not rows:
        return []
    evidence = Evidence(at.install, rows, at.install.place.survey())
    return [
        Finding.error("not-as-expected", f"{row.key} is not {row.value}", where=row.file)
        for row in rows
        if not evidence.all_show((row,), {})
    ]


def _faults(
    names: tuple[str, ...], known: Mapping[str, Named], rows: tuple[EvidenceTable, ...]
) -> list[str]:
    found = [f"there is no check {n!r}. {did_you_mean(n, known)}" for n in names if n not in known]
    found += [
        f"{'.'.join(map(str, key))}: {told}"
        for key, told in evidence_faults(("holds",), list(rows))
    ]
    found += [f"holds: what {row.file} must say needs a `key`" for row in rows if not row.key]
    if not names and not rows:
        found.append("expected what is looked at, in `that` or `holds`")
    return found
