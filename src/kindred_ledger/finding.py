"""Finding: something wrong, lost, in conflict, or worth knowing; one shape wherever it is found.

What always holds: a finding has a code that says what kind of thing it is, and does not change when the
words do. All codes stand in docs/findings.md.
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from typing import Any

from msgspec import Struct, to_builtins

__all__ = ["Finding", "Severity", "Sides", "of_severity"]


class Severity(StrEnum):
    """How much a finding matters, the least first.

    >>> [str(severity) for severity in kl.Severity]
    ['note', 'warning', 'loss', 'conflict', 'error']
    """

    NOTE = "note"  # worth knowing
    WARNING = "warning"  # may go wrong
    LOSS = "loss"  # something would be lost: needs consent
    CONFLICT = "conflict"  # something only a person can decide, or must put right first
    ERROR = "error"  # something is wrong


class Sides(Struct, frozen=True):
    """What stands at a place of a conflict on each side, as text."""

    base: str
    mine: str
    theirs: str


class Finding(Struct, frozen=True, omit_defaults=True):
    """What was found: its kind, how much it matters, what it is, where, and what to do about it.

    `where` is the path of a file, or what else it is about; `field` the place inside: `crew[3].name`,
    `line 7`, an offset. `sides` are the values of a conflict inside a file; `fix` says what a check can mend
    safely.
    A loss that is `one_way` cannot be made good later by going back to the older build.

    >>> print(Finding.loss("overwritten", "your changes give way", where="data/tides.ini"))
    data/tides.ini: your changes give way
    """

    code: str
    severity: Severity
    what: str
    where: str = ""
    field: str = ""
    remedy: str = ""
    one_way: bool = False
    sides: Sides | None = None
    fix: str = ""

    @classmethod
    def note(
        cls, code: str, what: str, *, where: str = "", field: str = "", remedy: str = ""
    ) -> Finding:
        """Return something worth knowing; `remedy` is what may be done next."""
        return cls(code, Severity.NOTE, what, where, field, remedy)

    @classmethod
    def warning(
        cls, code: str, what: str, *, where: str = "", field: str = "", remedy: str = ""
    ) -> Finding:
        """Return something that may go wrong."""
        return cls(code, Severity.WARNING, what, where, field, remedy)

    @classmethod
    def loss(
        cls, code: str, what: str, *, where: str, field: str = "", one_way: bool = False
    ) -> Finding:
        """Return something that would be lost."""
        return cls(code, Severity.LOSS, what, where, field, one_way=one_way)

    @classmethod
    def conflict(
        cls,
        code: str,
        what: str,
        *,
        where: str,
        remedy: str,
        field: str = "",
        sides: Sides | None = None,
    ) -> Finding:
        """Return something that only a person can decide; `remedy` says how they do."""
        return cls(code, Severity.CONFLICT, what, where, field, remedy, sides=sides)

    @classmethod
    def error(
        cls, code: str, what: str, *, where: str = "", field: str = "", remedy: str = ""
    ) -> Finding:
        """Return something that is wrong."""
        return cls(code, Severity.ERROR, what, where, field, remedy)

    @property
    def place(self) -> str:
        """Where it is, down to the field."""
        return ": ".join(filter(None, (self.where, self.field)))

    def __str__(self) -> str:
        return f"{self.place}: {self.what}" if self.place else self.what

    def to_json(self) -> dict[str, Any]:
        """Return the finding as plain values; what it does not have is left out."""
        plain: dict[str, Any] = to_builtins(self)
        return plain


def of_severity(findings: Iterable[Finding], *severities: Severity) -> tuple[Finding, ...]:
    """Return the findings that matter so much."""
    return tuple(each for each in findings if each.severity in severities)
