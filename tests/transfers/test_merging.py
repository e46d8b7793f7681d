"""Merging settings: what both sides have is in the result, or it is refused; nothing goes silently."""

from __future__ import annotations

import json
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.errors import FormatError
from kindred_ledger.formats import decode
from kindred_ledger.transfers.merging import merge_settings
from tests.convert.test_convert import made
from tests.support import law

_names = st.sampled_from(("a", "b", "c"))
_plain = st.one_of(st.integers(0, 3), st.booleans(), st.sampled_from(("x", "y")))
_records = st.lists(
    st.fixed_dictionaries({"id": st.integers(0, 4)}, optional={"v": _plain, "w": _plain}),
    max_size=4,
)
_values = st.recursive(
    st.one_of(_plain, _records, st.lists(_plain, max_size=2)),
    lambda inner: st.dictionaries(_names, inner, max_size=3),
    max_leaves=6,
)
_files = st.dictionaries(_names, _values, max_size=3)


def merged(mine: bytes, theirs: bytes, codec: str = "json", key: str = "format") -> Any:
    return merge_settings(made(codec, [], key=key), mine, theirs, name="settings")


def expected(mine: Any, theirs: Any) -> Any:
    """Return what merging means, on plain values; raise `ValueError` where something would be lost."""
    if isinstance(mine, dict) and isinstance(theirs, dict):
        both = {key: expected(mine[key], theirs[key]) for key in mine if key in theirs}
        return {**theirs, **mine, **both}
    if mine == theirs and type(mine) is type(theirs):
        return theirs
    if isinstance(mine, list) and isinstance(theirs, list):
        if len(mine) == len(theirs) == 1:
            return [expected(mine[0], theirs[0])]
        ids = [
            [r.get("id") if isinstance(r, dict) else None for r in side] for side in (mine, theirs)
        ]
        if any(None in side or len(set(side)) < len(side) for side in ids):
            raise ValueError
        if not set(ids[0]) & set(ids[1]):
            raise ValueError
        by_id = {record["id"]: record for record in mine}
        kept = [expected(by_id.pop(r["id"]), r) if r["id"] in by_id else r for r in theirs]
        return [*kept, *by_id.values()]
    if isinstance(mine, (dict, list)) or isinstance(theirs, (dict, list)):
        raise ValueError
    return mine


class Merging(unittest.TestCase):
    @law
    @given(_files, _files)
    def test_as_in_plain_values(self, mine: dict[str, Any], theirs: dict[str, Any]) -> None:
        """My values, the target's own, records by the field that names them; or refused."""
        mine, theirs = {"format": 1, **mine}, {"format": 1, **theirs}
        try:
            wanted: Any = expected(mine, theirs)
        except ValueError:
            wanted = None
        try:
            done = merged(json.dumps(mine).encode(), json.dumps(theirs).encode())
        except FormatError:
            # Another field than `id` may name the records, but none is found where `id` does.
            self.assertIsNone(wanted)
            return
        if wanted is not None and {*done.named_by.values()} <= {"id"}:
            self.assertEqual(json.loads(done.data), wanted)
        leaves = decode(json.dumps(mine).encode(), "json").leaves()
        self.assertEqual(done.statement.counted_before, len(list(leaves)))

    def test_no_version_in_the_target(self) -> None:
        """The target's file has no version, or another text for it: it stays as it is."""
        done = merged(b'{"format": 1, "a": 2}', b'{"a": 1}')
        self.assertEqual(json.loads(done.data), {"a": 2})
        told = {line.item: line.outcome.value for line in done.statement.lines}
        self.assertEqual(told, {"format": "removed", "a": "unchanged"})

    def test_lists(self) -> None:
        """By a name; as a whole where they are equal; else refused, with the place."""
        mine = b'{"keys": [{"name": "jump", "to": "x"}, {"name": "dive", "to": "d"}]}'
        theirs = b'{"keys": [{"name": "swim", "to": "s"}, {"name": "jump", "to": "j"}]}'
        self.assertEqual(
            json.loads(merged(mine, theirs).data)["keys"],
            [{"name": "swim", "to": "s"}, {"name": "jump", "to": "x"}, {"name": "dive", "to": "d"}],
        )
        for one, other in ((b'{"l": [1, 2]}', b'{"l": [3]}'), (b'{"l": {}}', b'{"l": 1}')):
            with self.assertRaises(FormatError) as caught:
                merged(one, other)
            self.assertEqual(caught.exception.where, "l")
        self.assertEqual(merged(b'{"l": {}}', b'{"l": {"a": 1}}').data, b'{"l": {"a": 1}}')

    def test_repeated_elements(self) -> None:
        """Elements of one name are merged by the attribute or child that names them, or refused."""
        mine = b'<s version="1"><port id="a">1</port><port id="c">3</port></s>'
        theirs = b'<s version="1"><port id="b">7</port><port id="a">9</port></s>'
        self.assertEqual(
            merged(mine, theirs, "xml", "@version").data,
            b'<s version="1"><port id="b">7</port><port id="a">1</port><port id="c">3</port></s>',
        )
        with self.assertRaisesRegex(FormatError, "no field names"):
            merged(b"<s v='1'><p>1</p><p>2</p></s>", b"<s v='1'><p>3</p></s>", "xml", "@v")
