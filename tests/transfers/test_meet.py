"""Two machines: what each did since they last met happens on both; what both did is a question."""

from __future__ import annotations

import os
import tempfile
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from kindred_ledger.cards import Card
from kindred_ledger.changes import undo
from kindred_ledger.errors import DecisionNeeded, LossNotAllowed, UsageError
from kindred_ledger.ledger import Ledger
from kindred_ledger.transfers import MeetChoices, meet
from tests.small import CARD, SmallCase
from tests.support import files_in, side_law, snapshot, write

_MACHINES = ("marsh", "hill")
_states = st.dictionaries(
    st.sampled_from(("a.letter", "b/c.letter", "b/d", "e")), st.sampled_from((b"1", b"22", b"333"))
)


def machines(folder: str) -> tuple[Card, dict[str, Ledger]]:
    """Make the same install on two machines, and their one ledger as each sees it."""
    card = CARD.replace('["/program/mods/"]', '["/program/mods/", "/program/letters/"]')
    write(folder, {"quill.card.toml": card.encode()})
    for machine in _MACHINES:
        program = {"quill.bin": b"", "version.txt": b"build 1.0\n", "letters": None}
        write(f"{folder}/{machine}", program)
    ledgers = {name: Ledger.open(f"{folder}/ledger", machine=name) for name in _MACHINES}
    return Card.load(f"{folder}/quill.card.toml"), ledgers


def become(folder: str, files: dict[str, bytes]) -> None:
    """Have a folder hold these files and no others."""
    for name in files_in(folder):
        if name not in files:
            os.remove(os.path.join(folder, *name.split("/")))
    write(folder, files)


def merged(
    base: dict[str, bytes], mine: dict[str, bytes], theirs: dict[str, bytes]
) -> tuple[dict[str, bytes], set[str]]:
    """Return what three sides come to, mine where both changed a file, and those files."""
    out, torn = {}, set()
    for path in {*base, *mine, *theirs}:
        was, here, there = base.get(path), mine.get(path), theirs.get(path)
        if here != there and was not in (here, there):
            torn.add(path)
        data = there if here == was else here
        if data is not None:
            out[path] = data
    return out, torn


class Law(SmallCase):
    @settings(side_law, max_examples=side_law.max_examples // 4)
    @given(st.lists(st.tuples(_states, _states), min_size=1, max_size=3))
    def test_both_end_with_what_three_sides_come_to(
        self, rounds: list[tuple[dict[str, bytes], dict[str, bytes]]]
    ) -> None:
        """Any edits on both sides, round after round: the second takes in the first's, then the reverse."""
        with tempfile.TemporaryDirectory() as folder:
            card, ledgers = machines(folder)
            letters = {name: f"{folder}/{name}/letters" for name in _MACHINES}
            install = {name: card.open(f"{folder}/{name}") for name in _MACHINES}
            first, second = _MACHINES
            base: dict[str, bytes] = {}
            for mine, theirs in rounds:
                become(letters[first], mine)
                become(letters[second], theirs)
                ledgers[first].backup(install[first])
                expected, torn = merged(base, theirs, mine)
                change = meet(install[second], ledger=ledgers[second])
                found = {c.where.removeprefix("program/letters/") for c in change.conflicts}
                self.assertEqual(found, torn)
                decided = MeetChoices(mine=lambda _: True)
                meet(install[second], ledger=ledgers[second], choices=decided).apply(
                    ledgers[second]
                )
                self.assertEqual(files_in(letters[second]), expected)
                ledgers[second].backup(install[second])
                decided = MeetChoices(theirs=lambda _: True)
                change = meet(install[first], ledger=ledgers[first], choices=decided)
                change.apply(ledgers[first], allow_loss=True)
                self.assertEqual(files_in(letters[first]), expected)
                base = expected
            for ledger in ledgers.values():
                ledger.index.close()


class Meet(SmallCase):
    def setUp(self) -> None:
        super().setUp()
        self.card, self.ledgers = machines(self.folder)
        for name, files in (
            ("marsh", {"both": b"marsh", "mine": b"only here"}),
            ("hill", {"both": b"hill", "theirs": b"only there"}),
        ):
            write(self.path(name, "letters"), files)

    def meet(self, machine: str, **options: Any) -> Any:
        return meet(self.card.open(self.path(machine)), ledger=self.ledgers[machine], **options)

    def test_what_both_made_is_never_chosen(self) -> None:
        """They never met: what is only there comes; the rest is a question with three answers."""
        with self.assertRaisesRegex(UsageError, "no other machine kept quill"):
            self.meet("marsh")
        self.ledgers["hill"].backup(self.card.open(self.path("hill")))
        torn = self.meet("marsh")
        self.assertIn("they never met", str(torn.notes[0]))
        with self.assertRaisesRegex(DecisionNeeded, "(?s)both you and hill made it.*both=PATTERN"):
            torn.apply(self.ledgers["marsh"])
        before = snapshot(self.path("marsh"))
        theirs = self.meet("marsh", choices=MeetChoices(theirs=lambda _: True))
        with self.assertRaises(LossNotAllowed):
            theirs.apply(self.ledgers["marsh"])
        change = self.meet("marsh", choices=MeetChoices(both=lambda _: True))
        done = change.apply(self.ledgers["marsh"])
        self.assertEqual(
            files_in(self.path("marsh", "letters")),
            {
                "both": b"marsh",
                "both (hill)": b"hill",
                "mine": b"only here",
                "theirs": b"only there",
            },
        )
        books = done.statements[1]
        self.assertEqual((books.counted_before, books.counted_after), (2, 2))
        undo(done.record.id, ledger=self.ledgers["marsh"]).apply(self.ledgers["marsh"])
        self.assertEqual(snapshot(self.path("marsh")), before)
        self.assertIn("they never met", str(self.meet("marsh").notes[0]))

    def test_what_both_changed_in_different_places(self) -> None:
        """Once they have met, a file is merged inside, with its books; undo gives the very bytes back."""
        lines = [b"line %d\n" % number for number in range(6)]

        def log(**changed: bytes) -> dict[str, bytes]:
            return {"log": b"".join(changed.get(f"n{at}", line) for at, line in enumerate(lines))}

        for name in _MACHINES:
            become(self.path(name, "letters"), log())
        self.ledgers["marsh"].backup(self.card.open(self.path("marsh")))
        self.meet("hill").apply(self.ledgers["hill"])
        write(self.path("hill", "letters"), log(n4=b"hill\n"))
        write(self.path("marsh", "letters"), log(n1=b"marsh\n"))
        self.ledgers["marsh"].backup(self.card.open(self.path("marsh")))
        before = snapshot(self.path("hill"))
        change = self.meet("hill")
        self.assertEqual((change.conflicts, change.losses), ((), ()))
        done = change.apply(self.ledgers["hill"])
        both = log(n1=b"marsh\n", n4=b"hill\n")
        self.assertEqual(files_in(self.path("hill", "letters")), both)
        books = {each.subject: each for each in done.statements}["program/letters/log"]
        self.assertEqual((books.counted_before, books.counted_after), (6, 6))
        undo(done.record.id, ledger=self.ledgers["hill"]).apply(self.ledgers["hill"])
        self.assertEqual(snapshot(self.path("hill")), before)
        write(self.path("hill", "letters"), log(n1=b"hill\n"))
        (torn,) = self.meet("hill").conflicts
        self.assertIn("line 2: both changed it: hill and marsh", str(torn))
        with open(self.path("quill.card.toml"), "a", encoding="utf-8") as file:
            file.write('\n[[decisions]]\nfiles = ["log"]\nfields = ["line 2"]\ntake = "theirs"\n')
        self.card = Card.load(self.path("quill.card.toml"))
        told = self.meet("hill")
        self.assertEqual([loss.field for loss in told.losses], ["line 2"])
        reasons = {line.reason for books in told.statements for line in books.lines}
        self.assertTrue(any("the card says so" in reason for reason in reasons))

    def test_another_build_or_a_part(self) -> None:
        """Data of another build is not mixed in; an entry of a part, or of another title, is no side."""
        kept = self.ledgers["hill"].backup(
            self.card.open(self.path("hill")), only=lambda path: "letters" in path
        )
        with self.assertRaisesRegex(UsageError, "of a part only"):
            self.meet("marsh", other=kept)
        strange = self.ledgers["hill"].backup(self.place({"a": b""}))
        with self.assertRaisesRegex(UsageError, "is of place"):
            self.meet("marsh", other=strange)
        write(self.path("hill"), {"version.txt": b"build 2.0\n"})
        self.ledgers["hill"].backup(self.card.open(self.path("hill")))
        with self.assertRaisesRegex(DecisionNeeded, "kept data of 2.0, here is 1.0"):
            self.meet("marsh")
