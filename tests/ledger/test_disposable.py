"""Disposable files: left out of backups unless asked for, told, and never taken for removed."""

from __future__ import annotations

from typing import Any

from kindred_ledger.cards import Card
from kindred_ledger.changes import restore
from kindred_ledger.convert import convert_install
from kindred_ledger.errors import CardError
from kindred_ledger.ledger import Ledger, LeftOut
from kindred_ledger.planning import compare
from kindred_ledger.transfers import meet
from kindred_ledger.updates import reinstall
from tests.support import PEATBOG, Case, kindred, write

CARD = (
    PEATBOG
    + """[[detect]]
file = "version.txt"
pattern = "{version}"
[categories.saves]
include = ["/program/saves/"]
[categories.logs]
include = ["*.log", "/program/cache/"]
disposable = true
[formats.notes]
files = ["*.log", "*.note"]
codec = "json"
version = { key = "format" }
builds = [{ builds = "*", writes = "2", reads = ["2"] }]
[[formats.notes.steps]]
from = "1"
to = "2"
do = []
"""
)
OLD = b'{"format": 1}'
FILES: dict[str, bytes] = {
    "peat.exe": b"MZ", "version.txt": b"1.0", "run.log": OLD, "cache/a.bin": b"a" * 900,
    "saves/one.note": OLD, "saves/why.log": OLD,
}  # fmt: skip


class Disposable(Case):
    def setUp(self) -> None:
        super().setUp()
        write(self.folder, {"peatbog.card.toml": CARD.encode()})
        self.card = Card.load(self.path("peatbog.card.toml"))

    def install(self, name: str = "here", **more: bytes) -> Any:
        write(self.path(name), {**FILES, **more})
        return self.card.open(self.path(name))

    def test_left_out_and_told(self) -> None:
        """What another category holds, too, is no waste; what is asked for is kept."""
        install, ledger = self.install(), self.ledger()
        entry = ledger.backup(install)
        self.assertEqual((entry.complete, entry.left_out), (True, LeftOut(("logs",), 2, 913)))
        self.assertEqual(
            [str(each.what) for each in entry.findings],
            ["left out as disposable: logs (2 files, 913 B)"],
        )
        left = set(FILES) - {path.removeprefix("program/") for path in ledger.tree(entry).leaves}
        self.assertEqual(left, {"run.log", "cache/a.bin"})
        self.assertEqual(compare(ledger.place(entry), install.place).differences, ())
        for options in ({"disposable": True}, {"only": "program/"}):
            whole = ledger.backup(install, **options)
            self.assertEqual((whole.left_out, whole.files), (None, len(FILES)))

    def test_restoring_leaves_them_as_they_are(self) -> None:
        """Also with `exact`, which removes other files that the entry does not hold."""
        install, ledger = self.install(), self.ledger()
        entry = ledger.backup(install)
        write(
            self.path("here"), {"new.txt": b"", "run.log": b"newer", "saves/one.note": b"changed"}
        )
        change = restore(entry, ledger=ledger, exact=True)
        gone = {action.path for action in change.actions if action.after is None}
        self.assertEqual(gone, {"program/new.txt"})
        self.assertIn("2 disposable files that the entry left out", str([*map(str, change.notes)]))
        change.apply(ledger, allow_loss=True)
        with open(self.path("here", "run.log"), "rb") as file:
            self.assertEqual(file.read(), b"newer")

    def test_clean_reinstall_and_conversion(self) -> None:
        """They go without being losses, are kept all the same, and are not converted."""
        install, ledger = self.install(), self.ledger()
        write(self.path("new"), {"peat.exe": b"MZ2", "version.txt": b"1.0"})
        change = reinstall(install, self.path("new"), ledger=ledger)
        self.assertEqual(
            sorted(loss.where for loss in change.losses),
            ["program/saves/one.note", "program/saves/why.log", "program/version.txt"][:2],
        )
        self.assertIn("2 disposable files of yours go", str([*map(str, change.notes)]))
        done = change.apply(ledger, allow_loss=True)
        kept = ledger.tree(ledger.entry(done.record.entry))
        self.assertIn("program/run.log", kept.leaves)
        change = convert_install(self.install("other"), "1.0", ledger=ledger)
        self.assertEqual(
            [action.path for action in change.actions],
            ["program/saves/one.note", "program/saves/why.log"],
        )
        self.assertIn("1 disposable file", str([*map(str, change.notes)]))

    def test_another_machine_that_left_them_out_removed_nothing(self) -> None:
        """Even where the entry both came from has them, and they are asked for by their category."""
        install, ledger = self.install(), self.ledger()
        ledger.backup(install, disposable=True)
        write(self.path("there"), {**FILES, "saves/one.note": b"played"})
        with Ledger.open(self.path("ledger"), machine="laptop") as other:
            other.backup(self.card.open(self.path("there")))
        for categories in ((), ("saves", "logs")):
            change = meet(install, ledger=ledger, categories=categories)
            self.assertEqual([a.path for a in change.actions if a.after is None], [])

    def test_the_command(self) -> None:
        """The command says what it left out, and takes it along if asked."""
        self.install()
        told = kindred("backup", "here", folder=self.folder)
        self.assertIn("left out as disposable: logs (2 files, 913 B)", told.stdout)
        told = kindred("backup", "here", "--disposable", folder=self.folder)
        self.assertNotIn("left out", told.stdout)
        write(
            self.folder,
            {
                "bad.card.toml": CARD.replace(
                    "disposable = true", "disposable = true\nprotect = true"
                ).encode()
            },
        )
        with self.assertRaisesRegex(CardError, "neither protected nor required"):
            Card.load(self.path("bad.card.toml"))
