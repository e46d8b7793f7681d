"""Groups of changes: taken back as one, in different places; if one refuses, all stand as before."""

from __future__ import annotations

import unittest

from kindred_ledger.changes import undo_group
from kindred_ledger.errors import LossNotAllowed, UsageError
from tests.support import Case, change_to, snapshot, write


class Groups(Case):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()
        self.here = self.place({"a": b"1", "b": b"1"}, "here")
        self.there = self.place({"c": b"1"}, "there")
        self.states = [self.both()]
        steps = ((self.here, b"2"), (self.there, b"3"), (self.here, b"4"))
        for place, data in steps:
            change_to(place, {"a": data, "c": data}).apply(self.kept, group="to 2.0")
            self.states.append(self.both())
        change_to(self.there, {"c": b"3", "own": b"5"}).apply(self.kept)
        self.last = self.both()

    def both(self) -> list[dict[str, object]]:
        return [snapshot(place.root) for place in (self.here, self.there)]

    def test_all_of_them_and_back_again(self) -> None:
        """The newest first, each place; a change that is not of the group stays; so does the way back."""
        undone = undo_group("to 2.0", ledger=self.kept, allow_loss=True)
        self.assertEqual(len(undone), 3)
        self.assertEqual(self.both()[0], self.states[0][0])
        self.assertEqual(self.both()[1]["own"], self.last[1]["own"])
        with self.assertRaisesRegex(
            UsageError, "(?s)no change of the group 'to 2.0' stands.*to 2.0"
        ):
            undo_group("to 2.0", ledger=self.kept)
        undo_group("undo to 2.0", ledger=self.kept, allow_loss=True)
        self.assertEqual(self.both()[0], self.last[0])

    def test_one_refuses(self) -> None:
        """What was taken back before it is made again: every place is as it was."""
        write(self.there.root, {"c": b"mine since"})
        before = self.both()
        with self.assertRaises(LossNotAllowed):
            undo_group("to 2.0", ledger=self.kept)
        self.assertEqual(self.both(), before)
        groups = [record.group for record in self.kept.records()]
        self.assertEqual(groups[-2:], ["undo to 2.0", ""])


if __name__ == "__main__":
    unittest.main()
