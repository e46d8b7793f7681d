"""The worlds of the demo, through the command line, with The Fens as the judge."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import unittest
from typing import Any

from tests.support import PlayCase, files_in

CHOICES = {
    "bog:still_water": "is bog:stillwater",
    "bog:lantern": "as bog:oil_lantern",
    "oldquay:plank": "remove",
    "oldquay:spice": "remove",
    "oldquay:crane": "remove",
    "reedlight:bell": "inert",
    "reedlight:lamp": "inert",
    "reedlight:reedfire": "inert",
}


class FensCase(PlayCase):
    fens = True

    def setUp(self) -> None:
        super().setUp()
        self.folder = self.path("fens")

    def fen(self, top: str, *args: str) -> tuple[int, str]:
        """Let The Fens look; return its status and what it said."""
        done = subprocess.run(
            [sys.executable, self.path(top, "fens.py"), *args],
            cwd=self.folder, capture_output=True, text=True, check=False,
        )  # fmt: skip
        return done.returncode, done.stdout + done.stderr

    def counted(self, top: str, world: str) -> dict[str, dict[str, int]]:
        """Return what the judge counts in a world, by kind and name."""
        told = self.fen(top, "--count", self.path(top, "userdata", "worlds", world))[1]
        counts: dict[str, dict[str, int]] = json.loads(told)
        return {kind: dict(sorted(some.items())) for kind, some in counts.items()}

    def decide(self, path: str, choices: dict[str, str]) -> None:
        """Write into a consent what becomes of each."""
        with open(self.path(path), encoding="utf-8") as file:
            text = file.read()
        for name, said in choices.items():
            text, many = re.subn(
                rf'(\[content\."{name}"\]\n(?:#.*\n)*becomes = )""', rf'\1"{said}"', text
            )
            self.assertEqual(many, 1, name)
        with open(self.path(path), "w", encoding="utf-8") as file:
            file.write(text)


class OnePlayer(FensCase):
    def test_over_2_0_to_2_1(self) -> None:
        """Forecast, consent, remap, update, and what waited is put back: the judge strips nothing."""
        counted = self.counted("game", "northbog")
        told = self.kindred("world", "forecast", "game", "releases/fens-2.0.zip", status=1)[
            "forecast"
        ]
        by_name: dict[str, int] = {}
        for some in counted.values():
            for name, many in some.items():
                by_name[name] = by_name.get(name, 0) + many
        self.assertEqual({each["name"] for each in told["vanishing"]}, set(CHOICES))
        for each in told["vanishing"]:
            self.assertEqual(each["amount"], by_name[each["name"]])
            self.assertEqual(sum(each["by_file"].values()), each["amount"])
            kinds = {k: some[each["name"]] for k, some in counted.items() if each["name"] in some}
            self.assertEqual(each["by_kind"], kinds)
        before = files_in(self.path("game"))
        asked = ("world", "remap", "game", "releases/fens-2.0.zip", "--yes")
        self.kindred(*asked, status=3)
        self.kindred(*asked, "--inert", "*", status=3)  # a loss that nobody allowed
        self.assertEqual(files_in(self.path("game")), before)
        self.kindred(
            "world", "forecast", "game", "releases/fens-2.0.zip", "--out", "c.toml", status=1
        )
        self.kindred(*asked, "--consent", "c.toml", status=2)  # nothing is said in it yet
        self.decide("c.toml", CHOICES)
        self.kindred("world", "census", "game", "--out", "before.json")
        self.kindred(*asked, "--consent", "c.toml")
        self.kindred("world", "helper", "game", "bellkeeper", "helpers/bellkeeper", "--yes")
        self.kindred("world", "helper", "game", "bellkeeper", "--skip", "first-run", status=3)
        self.kindred("update", "game", "releases/fens-2.0.zip", "--yes")
        status, said = self.fen("game")
        self.assertEqual(
            (status, "nothing is scrambled, nothing stripped" in said), (0, True), said
        )
        after = self.counted("game", "northbog")
        self.assertEqual(after["tiles"]["bog:stillwater"], counted["tiles"]["bog:still_water"])
        self.assertEqual(after["coins"], counted["coins"])
        waiting = sum(many for name, many in by_name.items() if name.startswith("reedlight:"))
        stones = sum(some.get("bog:marker_stone", 0) for some in after.values())
        self.assertEqual(stones, waiting)
        census = self.kindred("world", "census", "game", "--against", "before.json", status=1)
        self.assertEqual(census["census"]["counts"], after)
        changed = {
            (each["kind"], each["name"]): each["after"] - each["before"]
            for each in census["differences"]
        }
        self.assertEqual(changed["goods", "oldquay:spice"], -counted["goods"]["oldquay:spice"])
        missing = [each["name"] for each in census["landmarks"] if not each["right"]]
        self.assertEqual(missing, ["the bell of the ferry house"])
        self.kindred("world", "remap", "game", "releases/fens-2.1.zip", "--yes")
        self.kindred("update", "game", "releases/fens-2.1.zip", "--yes")
        self.kindred("world", "reinstate", "game", "--yes")
        status, said = self.fen("game")
        self.assertEqual((status, "nothing is scrambled" in said), (0, True), said)
        again = self.counted("game", "northbog")
        for kind in ("things", "signals"):
            for name in ("reedlight:bell", "reedlight:lamp"):
                self.assertEqual(again[kind][name], counted[kind][name])
        world = self.path("game", "userdata", "worlds", "northbog")
        self.assertEqual(self.fen("game", "--at", world, "72", "66")[1].strip(), "reedlight:bell")

    def test_without_a_remap_it_would_be_scrambled(self) -> None:
        """The update says so before it is made, and the judge after."""
        self.kindred("world", "helper", "game", "bellkeeper", "helpers/bellkeeper", "--yes")
        self.kindred("world", "helper", "game", "bellkeeper", "--skip", "first-run", status=3)
        told = self.kindred("update", "game", "releases/fens-2.0.zip", "--dry-run")
        codes = [each["code"] for each in told["change"]["findings"]]
        self.assertIn("world-ids", codes)
        self.kindred("update", "game", "releases/fens-2.0.zip", "--yes")
        self.assertEqual(self.fen("game")[0], 1)
        # Remapped now, by the list that is installed, it opens again.
        self.kindred("world", "forecast", "game", "--out", "c.toml", status=1)
        self.decide("c.toml", CHOICES)
        self.kindred("world", "remap", "game", "--consent", "c.toml", "--yes")
        self.assertEqual(self.fen("game")[0], 0)


class Server(FensCase):
    def test_without_a_prompt(self) -> None:
        """Consent by the forecast's id and by kind; nothing is asked, nothing read from the terminal."""
        told = self.kindred("world", "forecast", "server", "releases/fens-2.0.zip", status=1)[
            "forecast"
        ]
        asked = (
            "world", "remap", "server", "releases/fens-2.0.zip", "--inert", "reedlight:*",
            "--remove-content", "oldquay:*", "--substitute", "bog:lantern=bog:peat_lantern",
            "--new-name", "bog:still_water=bog:stillwater", "--yes",
        )  # fmt: skip
        self.kindred(*asked, status=3)
        self.kindred(*asked, "--agreed", "0123456789ab", status=3)
        done = self.kindred(*asked, "--agreed", told["id"])
        self.assertTrue(done["applied"]["id"])
        before = self.counted("server", "southbog")
        self.assertEqual(before["things"]["bog:peat_lantern"], 87)
        entry = done["applied"]["entry"]
        self.kindred("undo", "--yes")
        self.assertEqual(self.counted("server", "southbog")["things"]["bog:lantern"], 87)
        self.assertTrue(entry)

    def test_an_entry_tells_what_was_in_it(self) -> None:
        """A census of an entry, with the install's program gone."""
        entry = self.kindred("backup", "server")["entry"]["id"]
        counted = self.counted("server", "southbog")
        os.rename(self.path("server"), self.path("gone"))
        told = self.kindred("world", "census", f"entry:{entry}")
        self.assertEqual(told["census"]["counts"], counted)
        self.assertEqual(told["census"]["build"], "1.4")


class Figures(FensCase):
    def test_every_form_of_a_census(self) -> None:
        """JSON, table and figure; another ending is refused."""
        self.kindred("world", "census", "game", "--out", "a.json")
        for name in ("a.csv", "a.png", "a.svg"):
            self.kindred("world", "census", "game", "--against", "a.json", "--out", name)
            self.assertGreater(os.path.getsize(self.path(name)), 500)
        with open(self.path("a.csv"), encoding="utf-8") as file:
            self.assertEqual(file.readline().strip(), "kind,name,amount,worth")
        self.kindred("world", "census", "game", "--out", "a.txt", status=2)
        told: dict[str, Any] = self.kindred(
            "world", "census", "game", "--landmark", "!bog:kiln@1,1~500", status=1
        )
        self.assertEqual([each["right"] for each in told["landmarks"]], [True, True, False])
        self.kindred("world", "census", "game", "--landmark", "bog:kil@1,1", status=2)


if __name__ == "__main__":
    unittest.main()
