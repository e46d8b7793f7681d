"""Rescue: gaps are filled from the older file in the newer format, and what is in neither is named."""

from __future__ import annotations

import json
import os
from typing import Any

from kindred_ledger.convert import gaps_of, rescue
from kindred_ledger.errors import UsageError
from kindred_ledger.formats import decode
from kindred_ledger.places import read_bytes
from tests.support import PlayCase, write


class Rescued(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        self.old = read_bytes(self.install().place, "user/saves/midwinter.voyage")
        self.format = self.card.formats["voyage"]

    def emptied(self, **more: Any) -> bytes:
        """Return the voyage in format 5, as a careless program has left it."""
        voyage = {**json.loads(self.old), "format": 5, "build": "2.0", "crew": [], "cargo": {}}
        voyage["scratch"] = {}
        voyage["coins"] = voyage.pop("purse")
        voyage["ship"] = {"name": "", "hull": 0.41, "moored": True, "stores": {"peat": None}}
        return json.dumps({**voyage, **more}, indent=3).encode()

    def test_gaps_are_filled_in_the_newer_format(self) -> None:
        """Crew with a morale, stores that were peat; the rest keeps its text; the game loads it."""
        done = rescue(self.emptied(), self.old, self.format, name="new.voyage")
        self.assertEqual(
            [group for group, _ in done.filled], ["crew", "cargo", "ship.name", "ship.stores"]
        )
        self.assertEqual(done.findings, ())
        old, new = json.loads(self.old), json.loads(done.data)
        self.assertEqual(new["crew"], [{**hand, "morale": 50} for hand in old["crew"]])
        self.assertEqual(new["ship"]["stores"], {"peat": old["ship"]["peat"]})
        self.assertEqual(
            done.statement.counted_after, len(list(decode(done.data, "json").leaves()))
        )
        self.assertEqual(self.games_word(done.data), 0)
        again = rescue(done.data, self.old, self.format, name="new.voyage")
        self.assertEqual((again.data, again.filled), (done.data, ()))

    def games_word(self, data: bytes) -> int:
        """Return how many files the game of 2.0 refuses with this voyage among them."""
        saves = self.path("second", "mossferry", "userdata", "saves")
        write(saves, {"rescued.voyage": data})
        status, told = self.judge("second/mossferry")
        self.assertIn("loaded   saves/rescued.voyage", told)
        return status

    def test_what_is_in_neither_is_named(self) -> None:
        """Before anything is written; by other names, by groups of the caller's, and without any."""
        bare = json.dumps({**json.loads(self.old), "crew": [], "hands": ["Ada"]}).encode()
        done = rescue(self.emptied(), bare, self.format, name="n", names={"cargo": "hold"})
        self.assertEqual([gap.field for gap in done.findings], ["crew", "cargo"])
        self.assertIn("is empty, and hold of the older file", done.findings[1].what)
        named = rescue(
            self.emptied(), bare, self.format, name="n", groups=["crew"], names={"crew": "hands"}
        )
        self.assertEqual(json.loads(named.data)["crew"], ["Ada"])
        self.assertEqual(
            [g.what for g in gaps_of(decode(b'{"a": [""]}', "json"), ["a", "b"])],
            ["is empty", "is missing"],
        )
        with self.assertRaisesRegex(UsageError, "does not say what"):
            rescue(
                self.old.replace(b'"format": 4', b'"format": 3'), self.old, self.format, name="n"
            )

    def test_the_command(self) -> None:
        """Previewed, written with the old kept, and undone; status 1 where something is beyond it."""
        write(self.folder, {"new.voyage": self.emptied(), "old.voyage": self.old})
        with open(self.path("new.voyage"), "rb") as file:
            before = file.read()
        self.kindred("file", "rescue", "new.voyage", "old.voyage", "--dry-run")
        done = self.kindred("file", "rescue", "new.voyage", "old.voyage", "--yes")
        with open(self.path("new.voyage"), "rb") as file:
            self.assertEqual(len(json.loads(file.read())["crew"]), 4)
        self.kindred("undo", done["applied"]["id"], "--yes")
        with open(self.path("new.voyage"), "rb") as file:
            self.assertEqual(file.read(), before)
        self.kindred(
            "file", "rescue", "new.voyage", "old.voyage", "--group", "ship.sails", "--yes", status=1
        )
        self.assertTrue(os.path.exists(self.path("new.voyage")))
