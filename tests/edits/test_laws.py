"""Edits: the laws of reapply and of edit sets, on random documents and on every kind of file."""

from __future__ import annotations

import copy
import json
import random
import tempfile
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.changes import Changeset
from kindred_ledger.edits import EditSet, ReapplyChoices, put_edits, reapply, take_edits
from kindred_ledger.formats import decode
from kindred_ledger.ledger import Ledger
from kindred_ledger.merge import differences, put_differences, read_at, same, write_at
from kindred_ledger.places import MemoryPlace, read_bytes
from tests.merge.test_files import SAMPLES as KINDS
from tests.merge.test_files import edited, stirred
from tests.merge.test_laws import flat, mappings
from tests.support import Case, side_law

_HOLDER = tempfile.TemporaryDirectory()
LEDGER = Ledger.open(_HOLDER.name)


def place(**files: Any) -> MemoryPlace:
    """Return a place of JSON files, and of files that are bytes."""
    return MemoryPlace(
        {n: d if isinstance(d, bytes) else json.dumps(d).encode() for n, d in files.items()}
    )


def result(change: Changeset) -> dict[str, bytes]:
    """Return the files that a change into an empty folder would make."""
    return {
        action.path: read_bytes(action.source, action.source_path)
        for action in change.actions
        if action.source is not None and action.after is not None
    }


def merged(base: Any, mine: Any, theirs: Any, **how: Any) -> Changeset:
    """Reapply edits of one JSON file."""
    return reapply(
        place(a=mine), place(a=theirs), ledger=LEDGER, old=place(a=base), into=f"{_HOLDER.name}/x",
        choices=ReapplyChoices(whole=True, **how),
    )  # fmt: skip


class Laws(unittest.TestCase):
    @side_law
    @given(mappings, mappings)
    def test_one_side_alone(self, base: Any, other: Any) -> None:
        """My edits on the base are mine; without any the new one stays; what both have is once."""
        for mine, theirs in ((base, other), (other, base), (other, other)):
            change = merged(base, mine, theirs)
            self.assertEqual(change.conflicts, ())
            self.assertEqual(flat(json.loads(result(change)["a"])), flat(other))

    @side_law
    @given(mappings, mappings, mappings)
    def test_no_edit_is_lost(self, base: Any, mine: Any, theirs: Any) -> None:
        """Each edit is in the books once and in the result; or there is a conflict, or a rule says so."""
        for prefer in ("", "mine", "theirs"):
            change = merged(base, mine, theirs, prefer=prefer)
            made, own = json.loads(result(change)["a"]), change.statements[0]
            if change.conflicts:
                continue
            there = flat(made)
            old, here, new = flat(base), flat(mine), flat(theirs)
            for name in here.keys() | new.keys():
                if here.get(name) == new.get(name):
                    self.assertEqual(there.get(name), here.get(name), name)
                elif old.get(name) == here.get(name) and not prefer:
                    self.assertEqual(there.get(name), new.get(name), name)
                elif old.get(name) == new.get(name) and not prefer:
                    self.assertEqual(there.get(name), here.get(name), name)
            self.assertEqual(own.counted_before, sum(line.count for line in own.lines))

    @side_law
    @given(mappings, mappings)
    def test_taken_and_put(self, base: Any, mine: Any) -> None:
        """Put on what they were taken from, edits give mine; put again, they change nothing."""
        edits = take_edits(place(a=mine), old=place(a=base), ledger=LEDGER, whole=True)
        with tempfile.TemporaryDirectory() as folder:
            path = f"{folder}/e.toml"
            edits.save(path)
            again = EditSet.load(path)
        self.assertEqual(again, edits)
        for old in (None, place(a=base)):
            made = result(
                put_edits(again, place(a=base), ledger=LEDGER, old=old, into="/nowhere/x")
            )
            self.assertTrue(same(values_of(made["a"]), values_of(place_bytes(mine))), made)
            twice = put_edits(again, place(a=mine), ledger=LEDGER, old=old, into="/nowhere/x")
            self.assertEqual(twice.conflicts, ())
            self.assertTrue(same(values_of(result(twice)["a"]), values_of(place_bytes(mine))))

    @side_law
    @given(mappings, mappings)
    def test_differences_lead_back(self, one: Any, other: Any) -> None:
        """Put into the one, differences give the other; their places read back from text."""
        found = differences(one, other)
        for each in found:
            self.assertEqual(read_at(write_at(each.at)), each.at)
        document = decode(json.dumps(one).encode(), "json")
        put_differences(document, copy.deepcopy(one), found, lambda each: each.after)
        self.assertEqual(flat(document.get(())), flat(other))

    @side_law
    @given(st.lists(st.text("ab[]='.\" 1", max_size=4), min_size=1, max_size=3), st.data())
    def test_places_as_text(self, keys: list[str], data: Any) -> None:
        """Whatever keys and values hold, a place is read as it was written."""
        from kindred_ledger.merge import Named

        scalar = st.text("ab]'= 1.e-", max_size=4) | st.integers() | st.booleans()
        at: list[Any] = []
        for key in keys:
            at.append(key or "k")
            at.append(Named(key or "k", data.draw(scalar)))
            at.append(data.draw(st.integers(0, 20)))
        self.assertEqual(read_at(write_at(tuple(at))), tuple(at))


def place_bytes(value: Any) -> bytes:
    return json.dumps(value).encode()


def values_of(data: bytes) -> Any:
    return decode(data, "json").get(())


class EachKind(Case):
    def test_edits_of_both_sides(self) -> None:
        """Of every kind of file: all edits of both sides arrive, taken as a set or not."""
        draw = random.Random(5)
        for kind, data in KINDS.items():
            for _ in range(6):
                mine, own = edited(data, kind, draw)
                theirs = stirred(data, kind, draw)
                name = f"a.{kind}"
                sides = [MemoryPlace({name: each}) for each in (data, mine, theirs)]
                edits = take_edits(sides[1], old=sides[0], ledger=LEDGER, whole=True)
                asked = []
                for old in (sides[0], None):
                    change = put_edits(edits, sides[2], ledger=LEDGER, old=old, into="/nowhere/x")
                    asked.append({each.field for each in change.conflicts})
                    if change.conflicts:
                        continue
                    leaves = list(decode(result(change)[name], kind).leaves())
                    for path, value in own.items():  # each number is drawn once
                        here = [leaf for leaf in leaves if same(leaf.value, value)]
                        self.assertIn(path[-1], [leaf.path[-1] for leaf in here], (kind, path))
                self.assertEqual(
                    asked[0], asked[1], kind
                )  # the same is asked with and without the base


if __name__ == "__main__":
    unittest.main()
