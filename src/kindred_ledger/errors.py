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
    "IdListError",
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

    >>> try:
    ...     ledger.backup("no-such-folder")
    ... except kl.KindredError as error:
    ...     print(error.what, "-", error.advice)
    ...
    no such file or folder - Check the path.
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
    """Something named by the caller does not exist or cannot be meant.

    >>> kl.update("mossferry", "downloads/mossferry-2.0.zip", ledger=ledger)
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.UsageError: an install is needed here, not str
    Open it with its card: Card.load(FILE).open(FOLDER).
    """

    exit_status = 2


class VersionError(KindredError):
    """A version text cannot be read, or two versions cannot be compared.

    >>> kl.Version.parse("banana")
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.VersionError: 'banana' is not a version number
    Builds whose names do not order themselves belong in a `listed` scheme.
    """

    exit_status = 2


class CardError(KindredError):
    """A card is wrong; `findings` holds all that was found, each with its place in the card.

    >>> with open("broken.card.toml", "w") as file:
    ...     _ = file.write("card = 1")
    ...
    >>> kl.Card.load("broken.card.toml")
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.CardError: broken.card.toml: the card has 2 faults
      title: this key is missing
      program: this key is missing
    """

    exit_status = 2

    def __init__(self, what: str, *, where: str = "", findings: tuple[Finding, ...] = ()) -> None:
        super().__init__(what, where=where, remedy="\n".join(f"  {each}" for each in findings))
        self.findings = findings


class LedgerError(KindredError):
    """A folder is no ledger, or one of a format this program does not read.

    >>> kl.Ledger.open("downloads")
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.LedgerError: ...downloads: this folder is neither empty nor a ledger
    Choose an empty folder.
    """

    exit_status = 2


class NoLedger(LedgerError):
    """There is no ledger where one was expected.

    >>> kl.Ledger.open("nowhere", create=False)
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.NoLedger: ...nowhere: there is no ledger here
    Check the path.
    """


class WrongPassphrase(LedgerError):
    """An encrypted ledger is not opened by the passphrase that was given, or none was.

    >>> kl.Ledger.create_encrypted("secret", "eel pie")
    >>> kl.Ledger.open("secret", passphrase=lambda: "eel soup")
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.WrongPassphrase: file://...secret: this passphrase does not open the ledger
    Check it, the case of its letters too. Nothing was changed.
    """


class DecisionNeeded(KindredError):
    """More than one answer is possible and none may be guessed; `choices` lists them.

    Where it is about a change, `findings` are its conflicts.

    >>> second = card.open("second/mossferry", folders={"user": "mossferry/userdata"})
    >>> kl.switch(second, ledger=ledger)
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.DecisionNeeded: ...mossferry/userdata: nobody knows which build...
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
    """An operation would lose something and nobody consented to it; `findings` are the losses.

    >>> change = kl.carry(install, card.open("second/mossferry"), "saves", ledger=ledger)
    >>> change.losses[0].what
    '5: lanterns have no glow of their own since 2.0'
    >>> change.apply(ledger)
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.LossNotAllowed: ...second/mossferry: carry would lose 4 items...
    """

    exit_status = 3

    def __init__(
        self, what: str, *, where: str = "", remedy: str = "", findings: tuple[Finding, ...] = ()
    ) -> None:
        super().__init__(what, where=where, remedy=remedy)
        self.findings = findings


class PreconditionUnmet(KindredError):
    """A step's requirement on the data does not hold; the remedy says what to do in the game.

    >>> data = b'{"format": 4, "ship": {"name": "Teal", "moored": false, "lantern_glow": 1}}'
    >>> kl.convert_bytes(data, card.formats["voyage"], "5", name="a.voyage")
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.PreconditionUnmet: a.voyage: ship.moored: is False
    Load the voyage in 1.4, moor at a quay and save again.
    """

    exit_status = 3


class FormatError(KindredError):
    """A file cannot be read as the format it should be in.

    >>> kl.decode(b"{", "json")
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.FormatError: line 1, column 2: expected a key in double quotes, found the end
    The file is no valid JSON there. The file may have been cut short.
    """

    usual_remedy = (
        "To see what the file is: kindred file identify FILE. If it is damaged, an earlier one may be stored:"
        " kindred entries"
    )


class VersionUntold(FormatError):
    """A file does not say which format version it is in, and what else is known does not tell it.

    >>> kl.convert_bytes(b'{"purse": 1}', card.formats["voyage"], "6", name="a.voyage")
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.VersionUntold: a.voyage: it does not say which format version it is in
    Say it with `source=N`.
    """


class IdListError(FormatError):
    """An id list of a world cannot be relied on: it contradicts itself, or shares nothing with the other.

    `findings` has every fault of it.

    >>> kl.IdList.of([("bog:peat", 1), ("bog:bell", 1)], origin="ids.json")
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.IdListError: ids.json: the id list contradicts itself in 1 place
    Nothing is guessed from such a list:
      number 1 is bog:peat and bog:bell
    """

    def __init__(
        self, what: str, *, where: str = "", remedy: str = "", findings: tuple[Finding, ...] = ()
    ) -> None:
        super().__init__(what, where=where, remedy=remedy)
        self.findings = findings


class NoRoute(KindredError):
    """No chain of steps leads from one format version to the other.

    >>> with open("mossferry/userdata/saves/midwinter.voyage", "rb") as file:
    ...     data = file.read()
    ...
    >>> kl.convert_bytes(data, card.formats["voyage"], "77", name="midwinter.voyage")
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.NoRoute: midwinter.voyage: no route leads from format 4 to 77
    From 4 the card's steps reach 3, 5, 6.
    """


class BooksUnbalanced(KindredError):
    """What went in and what came out do not agree with the statement's lines.

    >>> books = kl.Statement("voyages", "files", (kl.Line(kl.Outcome.UNCHANGED, "a.voyage"),))
    >>> books.balanced(["a.voyage"], [])
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.BooksUnbalanced: the books of voyages do not balance; files with a fault: 1
      a.voyage has a line, and none is there after
    """

    usual_remedy = (
        "Nothing was changed. If a card describes this file, check it: kindred card check CARD"
    )


class UnsafeName(KindredError):
    """A path from outside could escape its folder or cannot exist on every system.

    >>> from zipfile import ZipFile
    >>> with ZipFile("bad.zip", "w") as archive:
    ...     archive.writestr("../outside.txt", "")
    ...
    >>> kl.scan(kl.open_place("bad.zip"))
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.UnsafeName: ...bad.zip: the path '../outside.txt' has the part...
    """


class UnsafeArchive(KindredError):
    """An archive is damaged, grows without bound, or holds what it must not.

    >>> with open("cut.zip", "wb") as file:
    ...     _ = file.write(b"PK\\x03\\x04")
    ...
    >>> kl.scan(kl.open_place("cut.zip"))
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.UnsafeArchive: ...cut.zip: this is no whole zip archive: File...
    """

    usual_remedy = "Nothing of it was used. Get it again from where it came, and compare its size."


class PlaceError(KindredError):
    """The operating system refused: permission, space, a missing folder, a name too long.

    >>> kl.Ledger.open("server/tables.xml/ledger")
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.PlaceError: ...server/tables.xml/ledger/ledger.toml: Not a directory
    Nothing was left half done.
    """


class PlaceChanged(KindredError):
    """A file is not what it was when it was looked at; something else is writing there.

    >>> change = kl.update(install, "downloads/mossferry-2.0.zip", ledger=ledger)
    >>> with open("mossferry/version.txt", "w") as file:
    ...     _ = file.write("2.0")
    ...
    >>> change.apply(ledger)
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.PlaceChanged: ...mossferry: program/version.txt changed since...
    """

    usual_remedy = "Something writes there. Close the game and its launcher, then run this again."


class Vanished(PlaceChanged):
    """A file that was listed is not there any more, or is something else now.

    >>> path, parts = next(kl.FolderPlace("server").read(["no-such-file"]))
    >>> b"".join(parts)
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.Vanished: ...server/no-such-file: the file went away, or is none any more
    It may have been moved or deleted. Look what is there, then run this again.
    """

    usual_remedy = "It may have been moved or deleted. Look what is there, then run this again."


class PlaceBusy(KindredError):
    """Another writer holds the place, or an unfinished change waits in it.

    >>> from kindred_ledger.places import hold_place
    >>> with hold_place("server"), hold_place("server"):
    ...     pass
    ...
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.PlaceBusy: another command is changing server
    Wait until it is done, then run this again.
    """


class Cancelled(KindredError):
    """The person asked to stop; nothing was left half done.

    >>> class Stopped(kl.Progress):
    ...     def begin(self, task):
    ...         self.cancel()
    ...
    >>> ledger.backup(install, progress=Stopped())
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.Cancelled: stopped because you asked for it
    Nothing was left half done.
    """


class LedgerDamaged(KindredError):
    """Stored bytes are missing or do not have the digest they were stored under.

    >>> entry = ledger.backup(install)
    >>> for pack in glob.glob("ledger/packs/**/*", recursive=True):
    ...     if os.path.isfile(pack):
    ...         os.remove(pack)
    ...
    >>> kl.restore(entry, "copy", ledger=ledger).apply(ledger)
    Traceback (most recent call last):
        ...
    kindred_ledger.errors.LedgerDamaged: ...: its content ... is not in the ledger
    A pack may be missing; bring it back from a copy of the ledger.
    """

    exit_status = 5
    usual_remedy = (
        "To see what is damaged and what that costs: kindred ledger verify. To mend it from a copy:"
        " kindred ledger heal --mirror LEDGER"
    )
