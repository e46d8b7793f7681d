"""Statements: the check that nothing is unaccounted for."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.errors import (
    BooksUnbalanced,
    Cancelled,
    FormatError,
    KindredError,
    LedgerDamaged,
    PlaceChanged,
    Vanished,
)
from kindred_ledger.progress import Progress
from kindred_ledger.statement import Line, Outcome, Statement
from tests.support import law

lines = st.lists(
    st.builds(
        Line,
        st.sampled_from(Outcome),
        st.sampled_from("abcdef"),
        became=st.sampled_from(("", "z", "y")),
    ),
    min_size=1,
    max_size=12,
)


def sides(books: tuple[Line, ...]) -> tuple[list[str], list[str]]:
    """Return the items in and out that lines speak of, worked out without the library."""
    items_in = [line.item for line in books if line.outcome != "added"]
    items_out = [
        line.became or line.item
        for line in books
        if line.outcome in ("unchanged", "changed", "added")
    ]
    return items_in, items_out


class Balance(unittest.TestCase):
    @law
    @given(lines, st.data())
    def test_a_dropped_line_is_caught(self, drawn: list[Line], data: st.DataObject) -> None:
        """Books balance with all lines and with no line left out."""
        items_in, items_out = sides(tuple(drawn))
        whole = Statement("x", "fields", tuple(drawn)).balanced(items_in, items_out)
        self.assertEqual(
            (whole.counted_before, whole.counted_after), (len(items_in), len(items_out))
        )
        at = data.draw(st.integers(0, len(drawn) - 1))
        with self.assertRaises(BooksUnbalanced):
            Statement("x", "fields", (*drawn[:at], *drawn[at + 1 :])).balanced(items_in, items_out)

    def test_two_mistakes_do_not_cancel_out(self) -> None:
        """Equal counts of different names do not balance, and the names are told."""
        books = Statement("saves", "files", (Line(Outcome.UNCHANGED, "a"),))
        with self.assertRaisesRegex(BooksUnbalanced, "b was there before and has no line"):
            books.balanced(["b"], ["b"])

    def test_totals_and_json(self) -> None:
        """The JSON form has totals for every outcome and the lines with their reasons."""
        plain = Statement("x", "files", (Line(Outcome.REMOVED, "a", "why"),)).to_json()
        self.assertEqual(plain["totals"]["removed"], 1)
        self.assertEqual(plain["totals"]["unchanged"], 0)
        self.assertEqual(plain["lines"], [{"outcome": "removed", "item": "a", "reason": "why"}])
        self.assertNotIn("lines", Statement("x", "files").to_json(lines=False))


class Ground(unittest.TestCase):
    def test_errors_say_what_usually_helps(self) -> None:
        """Where no more is known; what is known comes instead."""
        self.assertIn("kindred ledger heal", str(LedgerDamaged("it is damaged")))
        self.assertIn("moved or deleted", Vanished("gone").advice)
        self.assertIn("Close the game", PlaceChanged("changed").advice)
        told = str(FormatError("no JSON", where="a.json", remedy="Mend it."))
        self.assertEqual(told, "a.json: no JSON\nMend it.")

    def test_errors_name_place_and_remedy(self) -> None:
        """Outer code adds the file while an error unwinds."""
        error = KindredError("it is broken", where="line 3", remedy="Mend it.").inside("a.json")
        self.assertEqual(str(error), "a.json: line 3: it is broken\nMend it.")

    def test_cancelling_ends_work_at_its_next_step(self) -> None:
        """Progress that was cancelled raises where the work advances."""
        watch = Progress()
        with self.assertRaises(Cancelled), watch.task("x", total=2) as task:
            task.advance()
            watch.cancel()
            task.advance()
        self.assertEqual(task.done, 2)
