"""Operations as values: there and back through JSON; computed they are what the functions give, and what the
commands do."""

from __future__ import annotations

import json
import os
import re
import unittest
from typing import Any

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.convert import convert_install
from kindred_ledger.errors import UsageError
from kindred_ledger.operations import KINDS, Context, Operation, read_operation
from kindred_ledger.places import open_place
from kindred_ledger.transfers import carry
from kindred_ledger.updates import update
from kindred_ledger.versions import Version
from tests.support import ROOT, PlayCase

_TEXTS = st.text(max_size=8)
_BY_TYPE: dict[Any, st.SearchStrategy[Any]] = {
    "str": _TEXTS,
    "bool": st.booleans(),
    "bool | None": st.sampled_from((None, True, False)),
    "tuple[str, ...]": st.lists(_TEXTS, max_size=3).map(tuple),
    "dict[str, str]": st.dictionaries(_TEXTS, _TEXTS, max_size=2),
    "Begin": st.sampled_from(("ask", "along", "empty")),
}
_OLD, _NEW = "downloads/mossferry-1.4.zip", "downloads/mossferry-2.0.zip"


@st.composite
def operations(draw: st.DrawFn) -> dict[str, Any]:
    name = draw(st.sampled_from(sorted(KINDS)))
    kind = KINDS[name]
    needed = [field.name for field in msgspec.structs.fields(kind) if field.required]
    more = draw(st.sets(st.sampled_from([field.name for field in msgspec.structs.fields(kind)])))
    values = {key: draw(_BY_TYPE[kind.__annotations__[key]]) for key in {*needed, *more}}
    return {"operation": name, **values}


class Values(unittest.TestCase):
    @given(operations())
    def test_there_and_back(self, values: dict[str, Any]) -> None:
        """What JSON says of an operation makes the very operation; what stands at its default is left out."""
        made = read_operation(values)
        plain = json.loads(json.dumps(made.to_json()))
        self.assertEqual(read_operation(plain), made)
        self.assertLessEqual(plain.keys(), values.keys())

    def test_what_is_none(self) -> None:
        """A kind, field or value that cannot be meant is named, with what may be."""
        for values, words in (
            ({"operation": "updat"}, "Did you mean update"),
            ({}, "There are: update"),
            ({"operation": "undo", "chang": "latest"}, "Did you mean change"),
            ({"operation": "restore"}, "missing required field"),
            ({"operation": "update", "install": "a", "release": "b", "mine": "*"}, "mine"),
            ({"operation": "switch", "install": "a", "begin": "never"}, "begin"),
        ):
            with self.assertRaisesRegex(UsageError, f"(?s).*{words}"):
                read_operation(values)

    def test_the_docs_name_every_field(self) -> None:
        """The table of docs/operations.md: each kind, what it needs, what it may have."""
        with open(os.path.join(ROOT, "docs", "operations.md"), encoding="utf-8") as file:
            rows = re.findall(r"^\| `([^`]+)` \| ([^|]+) \|", file.read(), re.M)
        told = {}
        for name, fields in rows:
            needs, _, allows = fields.partition("·")
            told[name] = [re.findall(r"`(\w+)`", part) for part in (needs, allows)]
        del told["operation"]  # the head
        for name in ("undo", "redo"):  # they need nothing
            told[name] = [[], [*told[name][0], *told[name][1]]]
        real = {}
        for name, kind in KINDS.items():
            fields_of = msgspec.structs.fields(kind)
            real[name] = [
                [f.name for f in fields_of if f.required is needed] for needed in (True, False)
            ]
        self.assertEqual(told, real)


class Computed(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()
        self.context = Context(self.kept, cards=[self.card])
        self.addCleanup(self.context.close)
        here = os.getcwd()
        self.addCleanup(os.chdir, here)
        os.chdir(self.folder)

    def computed(self, name: str, **values: Any) -> dict[str, Any]:
        made = read_operation({"operation": name, **values})
        return made.compute(self.context).to_json(lines=True)

    def test_as_the_functions_give_it(self) -> None:
        """Line by line."""
        install = self.card.open(self.path("mossferry"))
        by_hand = update(install, open_place(_NEW), old=open_place(_OLD), ledger=self.kept)
        self.assertEqual(
            self.computed("update", install="mossferry", release=_NEW, old=_OLD),
            by_hand.to_json(lines=True),
        )
        converted = convert_install(install, Version.parse("2.0"), ledger=self.kept)
        self.assertEqual(
            self.computed("convert", what="mossferry", to="2.0"), converted.to_json(lines=True)
        )
        other = self.card.open(self.path("second", "mossferry"))
        carried = carry(install, other, ["saves"], ledger=self.kept)
        self.assertEqual(
            self.computed(
                "carry", source="mossferry", target="second/mossferry", categories=["saves"]
            ),
            carried.to_json(lines=True),
        )

    def test_as_the_commands_do_it(self) -> None:
        """The command line makes the same values."""
        for args, values in (
            (("update", "mossferry", _NEW, "--old", _OLD, "--mine", "*.ini"),
             {"operation": "update", "install": "mossferry", "release": _NEW, "old": _OLD,
              "mine": ["*.ini"]}),
            (("update", "mossferry", _NEW, "--beside"),
             {"operation": "install beside", "install": "mossferry", "release": _NEW}),
            (("shelf", "assemble", "mossferry/mods", "--into", _OLD, "--at", "mods"),
             {"operation": "assemble", "parts": ["mossferry/mods"], "into": _OLD, "at": "mods"}),
            (("carry", "handheld", "server", "--only", "*.pocket"),
             {"operation": "carry files", "source": "handheld", "target": "server", "only": ["*.pocket"]}),
        ):  # fmt: skip
            made = read_operation(values).compute(self.context)
            told = self.kindred(*args, "--dry-run", status=3 if made.conflicts else 0)["change"]
            self.assertEqual(told, made.to_json(), args)

    def test_nothing_is_written(self) -> None:
        """Neither in the place nor, once the context is closed, in the ledger's work."""
        with Context(self.kept, cards=lambda: [self.card]) as context:
            undone: Operation = read_operation(
                {"operation": "convert", "what": "mossferry", "to": "2.0"}
            )
            self.assertTrue(undone.compute(context).actions)
        self.assertEqual(self.kept.records(), [])
        left = [
            name
            for _, _, names in os.walk(self.kept.folder("work"))
            for name in names
            if not name.endswith(".lock")
        ]
        self.assertEqual(left, [])


if __name__ == "__main__":
    unittest.main()
