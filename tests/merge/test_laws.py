"""Merging: the table and its laws, counted by another way than the code does."""

from __future__ import annotations

import copy
import unittest
from collections import Counter
from itertools import pairwise
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.merge import ABSENT, Case, Side, ValueMerge, case_of, merge_trees, merge_values
from kindred_ledger.merge.alignment import aligned
from kindred_ledger.merge.keys import same
from kindred_ledger.merge.sequences import merged_regions
from kindred_ledger.places import MemoryPlace, Node, Tree
from tests.support import contents, side_law

scalars = st.integers(0, 3) | st.sampled_from(("a", "b")) | st.booleans()
names = st.sampled_from(("x", "y", "z"))
records = st.dictionaries(
    st.integers(0, 4), st.dictionaries(names, scalars, max_size=2), max_size=4
).map(lambda found: [{"id": id, **fields} for id, fields in found.items()])
sets = st.lists(st.sampled_from("abcdef"), unique=True, max_size=4)
mappings = st.recursive(
    st.dictionaries(names, scalars, max_size=3),
    lambda inner: st.dictionaries(names, scalars | inner | records, max_size=3),
    max_leaves=8,
)
sequences = st.lists(st.sampled_from("abcd"), max_size=7)
_SWAPPED = {Side.MINE: Side.THEIRS, Side.THEIRS: Side.MINE}
trees = contents.map(
    lambda drawn: MemoryPlace({p: d for p, d in drawn.items() if isinstance(d, bytes)}).survey()
)


def flat(value: Any, name: tuple[Any, ...] = ()) -> dict[tuple[Any, ...], Any]:
    """Return every leaf by where it is, records by their id: another way than the code's own."""
    found: dict[tuple[Any, ...], Any] = {}
    if isinstance(value, dict) and value:
        for key, inner in value.items():
            found |= flat(inner, (*name, key))
    elif isinstance(value, list) and value and all(isinstance(each, dict) for each in value):
        for record in value:
            found |= flat(record, (*name, ("id", record["id"])))
    elif value not in ({}, []):
        found[name] = value
    return found


def asked(
    table: dict[tuple[Any, ...], Any],
    base: dict[tuple[Any, ...], Any],
    other: dict[tuple[Any, ...], Any],
) -> dict[tuple[Any, ...], Any]:
    """Return what the table asks for where nothing is in conflict: what either side changed."""
    result = {}
    for name in base.keys() | table.keys() | other.keys():
        old, mine, theirs = (each.get(name, ABSENT) for each in (base, table, other))
        taken = mine if same(old, theirs) else theirs
        if taken is not ABSENT:
            result[name] = taken
    return result


class Table(unittest.TestCase):
    def test_every_row(self) -> None:
        """The fourteen rows, by name and by who is taken."""
        n = ABSENT
        rows = [
            ("xxx", "UNCHANGED"), ("xxy", "THEY_CHANGED"), ("xyx", "I_CHANGED"), ("xyy", "AGREED"),
            ("xyz", "BOTH_CHANGED"), ("-y-", "I_ADDED"), ("--z", "THEY_ADDED"), ("-yy", "AGREED"),
            ("-yz", "BOTH_ADDED"), ("x-x", "I_REMOVED"), ("xx-", "THEY_REMOVED"),
            ("x--", "BOTH_REMOVED"), ("x-y", "REMOVED_AND_CHANGED"), ("xy-", "CHANGED_AND_REMOVED"),
        ]  # fmt: skip
        for row, name in rows:
            sides = [n if letter == "-" else letter for letter in row]
            self.assertEqual(case_of(*sides, same=same).name, name, row)
        self.assertEqual(case_of(n, "y", "z", same=same, known=False), Case.DIFFERENT)
        self.assertFalse(same(1, True) or same(0, False) or same("1", 1))

    @side_law
    @given(trees, trees, trees)
    def test_trees(self, base: Tree, mine: Tree, theirs: Tree) -> None:
        """Swapping the sides swaps the sides; a side that equals the base changed nothing."""
        forth = {t.path: t.changed_by for t in merge_trees(base, mine, theirs)}
        back = {t.path: t.changed_by for t in merge_trees(base, theirs, mine)}
        self.assertEqual(back, {path: _SWAPPED.get(side, side) for path, side in forth.items()})
        unchanged = {t.changed_by for t in merge_trees(base, base, theirs)}
        self.assertLessEqual(unchanged, {Side.NOBODY, Side.THEIRS})
        self.assertLessEqual({t.changed_by for t in merge_trees(base, mine, mine)}, {Side.NOBODY})
        self.assertEqual(set(forth), {*base.leaves, *mine.leaves, *theirs.leaves})

    def test_a_file_nobody_has_read_is_no_agreement(self) -> None:
        """Without a digest nobody knows that two files are equal."""
        unread = Tree({"a": Node("file", 3)})
        self.assertEqual([d.case for d in merge_trees(unread, unread, unread)], [Case.BOTH_CHANGED])


class Values(unittest.TestCase):
    @side_law
    @given(mappings, mappings)
    def test_one_side_alone(self, base: Any, other: Any) -> None:
        """merge(b, b, t) = t; merge(b, m, b) = m; merge(b, x, x) = x; never a question."""
        for mine, theirs in ((base, other), (other, base), (other, other)):
            found = merge_values(base, mine, theirs)
            self.assertEqual(found.questions, ())
            names = [each.where for each in found.decided]
            self.assertEqual(len(set(names)), len(names))
            self.assertEqual(flat(found.value), flat(other))

    @side_law
    @given(mappings, mappings, mappings)
    def test_both_sides(self, base: Any, mine: Any, theirs: Any) -> None:
        """Without a question each leaf is the table's; swapped sides swap; inputs are left alone."""
        before = copy.deepcopy((base, mine, theirs))
        found, back = merge_values(base, mine, theirs), merge_values(base, theirs, mine)
        self.assertEqual((base, mine, theirs), before)
        self.assertEqual({q.where for q in found.questions}, {q.where for q in back.questions})
        if not found.questions:
            self.assertEqual(flat(found.value), flat(back.value))
            self.assertEqual(flat(found.value), asked(flat(mine), flat(base), flat(theirs)))
            self.replay(base, mine, found)

    def replay(self, base: Any, mine: Any, found: ValueMerge) -> None:
        """My edits made once more on their own result change nothing."""
        again = merge_values(base, mine, found.value)
        kept = {q.where for q in again.questions}
        self.assertEqual(flat(again.value), flat(found.value), kept)

    @side_law
    @given(mappings, mappings, mappings)
    def test_no_conflict_is_hidden(self, base: Any, mine: Any, theirs: Any) -> None:
        """Where both changed a leaf, not to the same, there is a question about it or what it lies in."""
        found = merge_values(base, mine, theirs)
        one, two, old = flat(mine), flat(theirs), flat(base)
        for name in old.keys() & one.keys() & two.keys():
            values = [side[name] for side in (old, one, two)]
            if not any(same(a, b) for a, b in zip(values, values[1:] + values[:1], strict=True)):
                self.assertTrue(found.questions, name)

    @side_law
    @given(records, records, records)
    def test_the_order_of_records_decides_nothing(self, base: Any, mine: Any, theirs: Any) -> None:
        """Records in any order, and fields in any order, give the same decisions."""
        one = merge_values({"l": base}, {"l": mine}, {"l": theirs})
        turned = [[dict(reversed(r.items())) for r in side[::-1]] for side in (base, mine, theirs)]
        other = merge_values(*({"l": side} for side in turned))
        self.assertEqual(*({q.where for q in each.questions} for each in (one, other)))
        if not one.questions:
            self.assertEqual(flat(one.value), flat(other.value))

    @side_law
    @given(sets, sets, sets)
    def test_values_that_stand_once(
        self, base: list[str], mine: list[str], theirs: list[str]
    ) -> None:
        """Nothing either side put in is missing, nothing they took out is back, nothing stands twice."""
        found = merge_values({"l": base}, {"l": mine}, {"l": theirs})
        if found.questions:
            return
        wanted = {
            each for each in {*base, *mine, *theirs}
            if (each in mine and each in theirs) or (each in {*mine, *theirs} and each not in base)
        }  # fmt: skip
        merged = found.value.get("l", [])
        self.assertEqual(Counter(merged), Counter(wanted))

    def test_what_is_asked(self) -> None:
        """Kinds that differ, records that one side removed, orders both changed: never a guess."""
        for base, mine, theirs in (
            ({"a": 1}, {"a": {"b": 1}}, {"a": 2}),
            ({"l": [{"id": 1, "n": 1}]}, {"l": []}, {"l": [{"id": 1, "n": 2}]}),
            ({"l": [1, 2, 3]}, {"l": [3, 2, 1]}, {"l": [2, 1, 3, 4]}),
            ({"l": [1, 1]}, {"l": [1, 1, 2]}, {"l": [1, 1, 3]}),
            ({"l": ["a", "b", "c"]}, {"l": ["b", "c", "a"]}, {"l": ["b", "a", "c"]}),
            ({"size": [1920, 1080]}, {"size": [2560, 1440]}, {"size": [3840, 2160]}),
            ({"size": [1920, 1080]}, {"size": [2560, 1080]}, {"size": [1920, 2160]}),
            ({"at": [1, 2]}, {"at": [1, 2, 3]}, {"at": [1, 2, 4]}),
            ({"rgb": [1, 2, 3]}, {"rgb": [9, 2, 3]}, {"rgb": [1, 2, 7]}),
            (
                {"s": [{"name": "a", "p": 1}]},
                {"s": [{"name": "a", "p": 5}]},
                {"s": [{"name": "b", "p": 1}]},
            ),
            ({"keys": ["w", "s"]}, {"keys": ["i", "s"]}, {"keys": ["z", "s"]}),
            ({}, {"a": 1}, {"a": 2}),
        ):
            found = merge_values(base, mine, theirs)
            self.assertEqual(len(found.questions), 1, (base, mine, theirs, found.value))

    def test_where_a_new_record_goes(self) -> None:
        """Behind the neighbour it had, which may have moved; else before the next; else at the end."""

        def of(*ids: int) -> dict[str, Any]:
            return {"l": [{"id": id} for id in ids]}

        for base, mine, theirs, wanted in (
            (of(1, 2), of(1, 9, 2), of(2, 1), of(2, 1, 9)),
            (of(1, 2), of(9, 1, 2), of(5, 1, 2), of(5, 9, 1, 2)),
            (of(1, 2), of(1, 2, 8, 9), of(1, 2, 3), of(1, 2, 8, 9, 3)),
            (of(1), of(1, 9), of(), of(9)),
        ):
            self.assertEqual(merge_values(base, mine, theirs).value, wanted)

    def test_numbers_are_no_identity(self) -> None:
        """Records without a name are aligned by content, never by their number."""
        base = {"l": [{"a": 1, "b": 1}, {"a": 1, "b": 2}]}
        mine = {"l": [{"a": 1, "b": 1}, {"a": 1, "b": 5}]}
        theirs = {"l": [{"a": 7, "b": 7}, {"a": 1, "b": 1}, {"a": 1, "b": 2}]}
        found = merge_values(base, mine, theirs).value
        self.assertEqual(found["l"], [{"a": 7, "b": 7}, {"a": 1, "b": 1}, {"a": 1, "b": 5}])


class Sequences(unittest.TestCase):
    @side_law
    @given(sequences, sequences)
    def test_an_alignment_is_a_common_subsequence(self, one: list[str], other: list[str]) -> None:
        """Pairs are equal and rise on both sides; a sequence is aligned with itself whole."""
        pairs = aligned(one, other)
        self.assertTrue(all(one[i] == other[j] for i, j in pairs))
        for (i, j), (k, n) in pairwise(pairs):
            self.assertTrue(i < k and j < n)
        self.assertEqual(aligned(one, one), [(at, at) for at in range(len(one))])

    @side_law
    @given(sequences, sequences, sequences)
    def test_regions_are_all_of_each(
        self, base: list[str], mine: list[str], theirs: list[str]
    ) -> None:
        """They cover all three; equal parts are never a conflict; one side alone never is either."""
        regions = merged_regions(base, mine, theirs)
        for side, whole in (("base", base), ("mine", mine), ("theirs", theirs)):
            ranges = [getattr(region, side) for region in regions]
            self.assertEqual([at for each in ranges for at in each], list(range(len(whole))))
        for region in regions:
            if region.case is Case.UNCHANGED:
                parts = [
                    [whole[at] for at in getattr(region, side)]
                    for side, whole in (("base", base), ("mine", mine), ("theirs", theirs))
                ]
                self.assertTrue(parts[0] == parts[1] == parts[2])
        for one, other in ((base, theirs), (mine, base), (mine, mine)):
            self.assertFalse(any(r.case.is_conflict for r in merged_regions(base, one, other)))
