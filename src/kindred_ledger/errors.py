"""The errors of the whole package: one root, one class per thing a caller would handle differently.

Every error says what was wrong, where, and what to do next, and knows the exit status the command
line ends with: 2 wrong usage, 3 a decision is needed and nothing was written, 4 failed and rolled
back, 5 stored data is damaged. Inner code knows the key or offset; outer code adds the file while
the error unwinds (`inside`).
"""

from __future__ import annotations

from typing import Any

from .finding import Finding, Severity

__all__ = [
    "BooksUnbalanced",
    "Cancelled",
    "CardError",
    "DecisionNeeded",
    "FormatError",
    "KindredError",
    "LedgerDamaged",
    "LedgerError",
    "LossNotAllowed",
    "NoLedger",
    "NoRoute",
    "PlaceBusy",
    "PlaceChanged",
    "PlaceError",
    "PreconditionUnmet",
    "UnsafeArchive",
    "UnsafeName",
    "UsageError",
    "Vanished",
    "VersionError",
    "VersionUntold",
    "WrongPassphrase",
]


class KindredError(Exception):
    """Root of all errors raised on purpose by this package.

    `remedy` is what is known here of what to do next; `advice` is that, or what usually helps.
    """

    exit_status = 4
    usual_remedy = ""

    def __init__(self, what: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.remedy = remedy

    def inside(self, outer: str) -> KindredError:
        """Put `outer` (a file, a table) in front of the place named so far; return self."""
        self.where = f"{outer}: {self.where}" if self.where else outer
        return self

    def finding(self, code: str, *, severity: Severity = Severity.ERROR) -> Finding:
        """Return the error as something that was found, for what goes on all the same."""
        return Finding(code, severity, self.what, self.where, remedy=self.advice)

    def to_json(self) -> dict[str, Any]:
        """Return the error as JSON has it: what, where, the remedy, its kind and what was found."""
        found = [each.to_json() for each in getattr(self, "findings", ())]
        return {
            "what": self.what,
            "where": self.where,
            "remedy": self.advice,
            "kind": type(self).__name__,
            "findings": found,
        }

    @property
    def advice(self) -> str:
        """What to do next."""
        return self.remedy or self.usual_remedy

    def __str__(self) -> str:
        text = f"{self.where}: {self.what}" if self.where else self.what
        return f"{text}\n{self.advice}" if self.advice else text


class UsageError(KindredError):
    """Something named by the caller does not exist or cannot be meant."""

    exit_status = 2


class VersionError(KindredError):
    """A version text cannot be read, or two versions cannot be compared."""

    exit_status = 2


class CardError(KindredError):
    """A card is wrong; `findings` holds all that was found, each with its place in the card."""

    exit_status = 2

    def __init__(self, what: str, *, where: str = "", findings: tuple[Finding, ...] = ()) -> None:
        super().__init__(what, where=where, remedy="\n".join(f"  {each}" for each in findings))
        self.findings = findings


class LedgerError(KindredError):
    """A folder is no ledger, or one of a format this program does not read."""

    exit_status = 2


class NoLedger(LedgerError):
    """There is no ledger where one was expected."""


class WrongPassphrase(LedgerError):
    """An encrypted ledger is not opened by the passphrase that was given, or none was."""


class DecisionNeeded(KindredError):
    """More than one answer is possible and none may be guessed; `choices` lists them.

    Where it is about a change, `findings` are its conflicts.
    """

    exit_status = 3

    def __init__(
        self,
        what: str,
        *,
        where: str = "",
        remedy: str = "",
        choices: tuple[str, ...] = (),
        findings: tuple[Finding, ...] = (),
    ) -> None:
        listed = "\n".join(f"  {choice}" for choice in choices)
        super().__init__(what, where=where, remedy="\n".join(x for x in (listed, remedy) if x))
        self.choices = choices
        self.findings = findings


class LossNotAllowed(KindredError):
    """An operation would lose something and nobody consented to it; `findings` are the losses."""

    exit_status = 3

    def __init__(
        self, what: str, *, where: str = "", remedy: str = "", findings: tuple[Finding, ...] = ()
    ) -> None:
        super().__init__(what, where=where, remedy=remedy)
        self.findings = findings


class PreconditionUnmet(KindredError):
    """A step's requirement on the data does not hold; the remedy says what to do in the game."""

    exit_status = 3


class FormatError(KindredError):
    """A file cannot be read as the format it should be in."""

    usual_remedy = (
        "To see what the file is: kindred file identify FILE. If it is damaged, an earlier one may be stored:"
        " kindred entries"
    )


class VersionUntold(FormatError):
    """A file does not say which format version it is in, and what else is known does not tell it."""


class NoRoute(KindredError):
    """No chain of steps leads from one format version to the other."""


class BooksUnbalanced(KindredError):
    """What went in and what came out do not agree with the statement's lines."""

    usual_remedy = (
        "Nothing was changed. If a card describes this file, check it: kindred card check CARD"
    )


class UnsafeName(KindredError):
    """A path from outside could escape its folder or cannot exist on every system."""


class UnsafeArchive(KindredError):
    """An archive is damaged, grows without bound, or holds what it must not."""

    usual_remedy = "Nothing of it was used. Get it again from where it came, and compare its size."


class PlaceError(KindredError):
    """The operating system refused: permission, space, a missing folder, a name too long."""


class PlaceChanged(KindredError):
    """A file is not what it was when it was looked at; something else is writing there."""

    usual_remedy = "Something writes there. Close the game and its launcher, then run this again."


class Vanished(PlaceChanged):
    """A file that was listed is not there any more, or is something else now."""

    usual_remedy = "It may have been moved or deleted. Look what is there, then run this again."


class PlaceBusy(KindredError):
    """Another writer holds the place, or an unfinished change waits in it."""


class Cancelled(KindredError):
    """The person asked to stop; nothing was left half done."""


class LedgerDamaged(KindredError):
    """Stored bytes are missing or do not have the digest they were stored under."""

    exit_status = 5
    usual_remedy = (
        "To see what is damaged and what that costs: kindred ledger verify. To mend it from a copy:"
        " kindred ledger heal --mirror LEDGER"
    )
