"""The books of a conversion name records by what the card says they are known by."""

from __future__ import annotations

import json
import unittest
from collections.abc import Sequence
from typing import Any

import msgspec

from kindred_ledger.cards import Format
from kindred_ledger.cards.models import FormatTable
from kindred_ledger.convert import Converted, Converter
from kindred_ledger.statement import Outcome
from kindred_ledger.versions import INTEGER

Rows = Sequence[dict[str, Any]]
KEYS = {"crew": "id", "hands": "id", "crew[*].goods": "id", "crew[*].marks": "#"}


def converted(
    crew: Any, steps: Rows, *, keys: dict[str, str] = KEYS, threshold: int = 9
) -> Converted:
    """Return a file of a crew after steps."""
    table = {
        "files": ["*"], "codec": "json", "version": {"key": "format"}, "keys": keys,
        "steps": [{"from": "1", "to": "2", "do": list(steps)}],
        "builds": [{"builds": "*", "writes": "2", "reads": ["1", "2"]}],
    }  # fmt: skip
    format = Format("test", msgspec.convert(table, FormatTable), INTEGER)
    data = json.dumps({"format": 1, "crew": crew}).encode()
    return Converter(format, column_threshold=threshold)(data, INTEGER.parse("2"), name="a.json")


def lines(made: Converted, *outcomes: Outcome) -> list[tuple[str, str]]:
    """Return the items with some outcomes, and what they became."""
    return [(line.item, line.became) for line in made.statement.of(*outcomes)]


CREW = [{"id": n, "pay": n % 3, "name": f"hand {n}"} for n in range(1, 7)]
ONE_GOES = {"drop": "crew[*]", "where": "id == 1", "reason": "retired"}


class Named(unittest.TestCase):
    def test_a_record_goes(self) -> None:
        """It is one difference: those behind it are what they were, under their names."""
        for threshold in (9, 2):
            made = converted(CREW, [ONE_GOES], threshold=threshold)
            gone = lines(made, Outcome.REMOVED)
            self.assertTrue(all("id=1]" in item or "[*]" in item for item, _ in gone), gone)
            self.assertEqual(lines(made, Outcome.CHANGED), [("format", "")])
            by_number = converted(CREW, [ONE_GOES], keys={}, threshold=threshold)
            self.assertGreater(len(lines(by_number, Outcome.CHANGED)), 3)
            self.assertEqual(made.data, by_number.data)

    def test_what_changes_in_it(self) -> None:
        """A value, the list's name, and a loss have the name of the record."""
        steps = [
            {"rename": "crew", "to": "hands"},
            {"set": "hands[*].pay", "value": 9, "where": "id == 5"},
            {"drop": "hands[*].name"},
        ]
        made = converted(CREW, steps)
        changed = lines(made, Outcome.CHANGED)
        self.assertIn(("crew[id=5].pay", "hands[id=5].pay"), changed)
        self.assertIn(("crew[id=2].id", "hands[id=2].id"), changed)
        self.assertIn("crew[id=3].name", [each.field for each in made.losses])

    def test_records_in_records(self) -> None:
        """The names go down to what a record holds; members that never move have their numbers."""
        crew = [
            {"id": n, "goods": [{"id": f"g{m}", "n": m} for m in range(n)], "marks": [{"a": 1}]}
            for n in (1, 2)
        ]
        made = converted(crew, [{"drop": "crew[*].goods[*]", "where": "id == 'g0'"}])
        unchanged = [item for item, _ in lines(made, Outcome.UNCHANGED)]
        self.assertIn("crew[id=2].goods[id=g1].n", unchanged)
        self.assertIn("crew[id=2].marks[0].a", unchanged)

    def test_keys_that_do_not_name(self) -> None:
        """A key that stands twice, is missing, changed, renamed or new, another order: by number, as ever."""
        twice = [*CREW, {"id": 3, "pay": 1, "name": "another"}]
        missing = [*CREW, {"pay": 1, "name": "another"}]
        for crew, steps in (
            (twice, [ONE_GOES]),
            (missing, [{"drop": "crew[*].pay"}]),
            (CREW, [{"set": "crew[*].id", "value": 9, "where": "id == 2"}]),
            (CREW, [{"set": "crew[*].id", "value": 3, "where": "id == 2"}]),
            (CREW, [{"reorder": "crew", "by": "pay"}]),
            (CREW, [{"rename": "crew[*].id", "to": "number"}]),
            ([{"pay": 1}, {"pay": 2}], [{"default": "crew[*].id", "value": 4}]),
            ([], [{"default": "tide", "value": 1}]),
        ):
            for threshold in (9, 2):
                made = converted(crew, steps, threshold=threshold)
                plain = converted(crew, steps, keys={}, threshold=threshold)
                self.assertEqual(made.statement, plain.statement, steps)
                self.assertEqual(made.losses, plain.losses)


if __name__ == "__main__":
    unittest.main()
