"""Records of changes: what they are related to comes back, also from those of the first format."""

from __future__ import annotations

import unittest

import msgspec

from kindred_ledger.changes import undo
from kindred_ledger.errors import LedgerDamaged, LedgerError
from kindred_ledger.ledger import BothHold, Record, Tag, TookIn, Undoes, not_undone, relation_of
from kindred_ledger.ledger.manifest import tree_to_columns
from kindred_ledger.places import Node, Tree
from tests.support import Case, change_to, snapshot

RELATIONS = (
    Undoes("2a"),
    TookIn("2b"),
    BothHold({"": "/on/the/card"}, Tree({"a": Node("file", 1, b"\1" * 32)})),
)


def record(**values: object) -> Record:
    return Record("2z", "now", "test", "a test", Tag(), {"": "/here"}, "2y", **values)  # type: ignore[arg-type]


class Related(Case):
    def test_there_and_back(self) -> None:
        """Header and body give the record; without the body the tree stays empty."""
        whole = record(relations=RELATIONS, group="to 2.0", paths=("a",), touched=1)
        header, body = msgspec.json.decode(msgspec.json.encode([whole.header(), whole.body()]))
        self.assertEqual(Record.from_json(header, body), whole)
        bare = Record.from_json(header)
        self.assertEqual((bare.undoes, relation_of(bare.relations, TookIn)), ("2a", TookIn("2b")))
        shared = relation_of(bare.relations, BothHold)
        assert shared is not None
        self.assertEqual((dict(shared.roots), len(shared.tree)), ({"": "/on/the/card"}, 0))

    def test_the_first_format(self) -> None:
        """It had a key for each relation; a record without any is read, too."""
        header = {**record().header(), "format": 1}
        del header["relations"], header["group"]
        self.assertEqual(Record.from_json(header).relations, ())
        header |= {"undoes": "2a", "brings": "2b", "other": {"": "/on/the/card"}}
        old = {"in": 2, "out": 1, "totals": {"kept": 1, "dropped": 1},
               "lines": [{"outcome": "held", "item": "a"}]}  # fmt: skip
        new = {"before": 2, "after": 1, "totals": {"unchanged": 1, "removed": 1},
               "lines": [{"outcome": "left alone", "item": "a"}]}  # fmt: skip
        common = tree_to_columns(RELATIONS[2].tree)
        read = Record.from_json(header, {**record().body(), "common": common, "statements": [old]})
        self.assertEqual((read.relations, read.statements), (RELATIONS, (new,)))

    def test_a_ledger_of_the_first_format(self) -> None:
        """Its changes are taken back, and one that was counts as that."""
        kept, place = self.ledger(), self.place({"a": b"1"})
        before = snapshot(place.root)
        done = change_to(place, {"a": b"2"}).apply(kept)
        header, body = kept.manifest_stores["history"].read(done.record.id)
        del header["relations"], header["group"]
        for name, undoes in (("2zy", ""), ("2zz", done.record.id)):
            old = {**header, "id": name, "format": 1, "undoes": undoes, "brings": "", "other": {}}
            path = self.path(f"{name}.json.zst")
            kept.manifest_stores["history"].write(path, old, body)
            kept.take_in_record(name, path)
        standing = [each.id for each in not_undone(kept.records())]
        self.assertEqual(standing, ["2zy", "2zz"])
        undo("2zy", ledger=kept).apply(kept)
        self.assertEqual(snapshot(place.root), before)

    def test_what_cannot_be_read(self) -> None:
        """A format to come is named as one; a relation nobody knows is damage."""
        header = record().header()
        with self.assertRaisesRegex(LedgerError, "format 3"):
            Record.from_json({**header, "format": 3})
        with self.assertRaises(LedgerDamaged):
            Record.from_json({**header, "relations": [{"is": "else"}]})


if __name__ == "__main__":
    unittest.main()
