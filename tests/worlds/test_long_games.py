"""The long game of the demo, through the command line, with the simulated programs as the judges."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import unittest
from typing import Any

from tests.support import PlayCase, files_in, kindred


class FleetsCase(PlayCase):
    fleets = True

    def setUp(self) -> None:
        super().setUp()
        self.folder = self.path("fleets")

    def program(self, top: str, *args: str) -> tuple[int, str]:
        """Run a program of the demo; return its status and what it said."""
        name = "nightfleets.py" if top == "night" else "fleets.py"
        done = subprocess.run(
            [sys.executable, self.path(top, name), *args],
            cwd=self.folder, capture_output=True, text=True, check=False,
        )  # fmt: skip
        return done.returncode, done.stdout + done.stderr

    def counted(self, top: str, save: str) -> dict[str, Any]:
        """Return what the judge counts in a game, after it followed every reference."""
        status, told = self.program(top, "--count", save)
        self.assertEqual(status, 0, told)
        found: dict[str, Any] = json.loads(told)
        return found

    def transplant(self, *args: str, status: int = 0) -> dict[str, Any]:
        found: dict[str, Any] = self.kindred(
            "world", "transplant", *args, "--yes", "--allow-loss", status=status
        )
        return found


class Stories(FleetsCase):
    def test_into_a_fresh_archipelago(self) -> None:
        """Every reference is followed by the judge, and its census is that of the books."""
        before, fresh = self.counted("old", "long.fleet"), self.counted("new", "fresh.fleet")
        told = self.kindred("world", "baked", "old", "new", status=1)["forecast"]
        counts = {each["kind"]: each for each in told["counts"]}
        done = self.transplant("old", "new", "--out", "waits.json")
        there = self.counted("new", "long.fleet")
        self.assertEqual(self.program("new")[0], 0)
        for kind in ("ferries", "crew", "cargo", "routes", "stops"):
            one = counts[kind]
            self.assertEqual(there["all"][kind], fresh["all"][kind] + one["moved"], kind)
            self.assertEqual(
                one["count"], one["moved"] + one["matched"] + one["bundled"] + one["stays"], kind
            )
        self.assertEqual(there["coins"], before["coins"])
        self.assertEqual(there["mine"]["ferries"], before["mine"]["ferries"] - 2)
        with open(self.path("waits.json"), "rb") as file:
            waits = {each["kind"]: each["waiting"] for each in json.loads(file.read())["kinds"]}
        self.assertEqual(waits["crew"], before["mine"]["crew"] - there["mine"]["crew"])
        books = {each["subject"]: each for each in done["change"]["books"]}
        self.assertEqual(books["the old game, long.fleet"]["before"], sum(before["all"].values()))
        # What waits is set in later; then all is there, but for stops at quays that are gone.
        self.assertEqual(
            self.kindred("world", "started", "new", status=3)["start"]["started"], False
        )
        self.assertEqual(self.program("new", "--play", "long.fleet")[0], 0)
        started = self.kindred("world", "started", "new")["start"]
        self.assertTrue(started["started"])
        self.assertEqual([each["count"] for each in started["landmarks"]], [1, 1])
        self.kindred(
            "world", "bundle", "new", "waits.json", "--save", "long", "--yes", "--allow-loss"
        )
        after = self.counted("new", "long.fleet")
        for key in ("ferries", "crew", "cargo", "routes", "friends", "freight", "hands"):
            self.assertEqual(after["mine"][key], before["mine"][key], key)

    def test_into_a_variant_and_never_out_of_it(self) -> None:
        self.transplant("old", "night")
        self.assertEqual(self.program("night")[0], 0)
        there = self.counted("night", "long.fleet")["mine"]
        self.assertEqual(there["ferries"], 1998)
        before = files_in(self.path("new"))
        done = kindred("world", "transplant", "night", "new", "--yes", folder=self.folder)
        self.assertEqual(done.returncode, 2)
        self.assertIn("no rules", done.stderr)
        self.assertEqual(files_in(self.path("new")), before)
        started = self.kindred("world", "started", "night", status=3)["start"]
        self.assertEqual(started["counts"]["ferries"][0], started["counts"]["ferries"][1])

    def test_out_again_into_the_old_surroundings(self) -> None:
        """Who goes back to 1.4 takes the game along: the same fleet, hands and freight."""
        self.transplant("old", "new")
        between = self.counted("new", "long.fleet")["mine"]
        self.assertEqual(self.program("old", "--new", "again.fleet")[0], 0)
        self.transplant("new", "old", "--save", "long", "--fresh", "again", "--name", "back")
        self.assertEqual(self.program("old")[0], 0)
        # Ferries whose quay 2.1 did not have are at sea there, and so not ready; they come with the bundle.
        self.kindred("world", "bundle", "old", "--save", "back", "--yes", "--allow-loss")
        self.assertEqual(self.program("old")[0], 0)
        back = self.counted("old", "back.fleet")["mine"]
        for key in ("ferries", "crew", "cargo", "routes", "friends", "freight", "hands"):
            self.assertEqual(back[key], between[key], key)

    def test_a_game_that_drops_things_is_found_out(self) -> None:
        """The first start is no belief: what is missing afterwards is counted."""
        self.transplant("old", "new")
        script = (
            "import sys, fleets; game = fleets.load('long.fleet');"
            "game['cargo'] = game['cargo'][:-7]; fleets.store('long.fleet', game)"
        )
        subprocess.run([sys.executable, "-c", script], cwd=self.path("new"), check=True)
        found = self.kindred("world", "started", "new", status=1)["start"]
        then, now = found["counts"]["cargo"]
        self.assertEqual(then - now, 7)

    def test_undone_and_made_again(self) -> None:
        """The change is one of the history, like any other."""
        before = files_in(self.path("new"))
        self.transplant("old", "new")
        after = files_in(self.path("new"))
        self.kindred("undo", "--yes", "--allow-loss")
        self.assertEqual(files_in(self.path("new")), before)
        done = kindred("world", "started", "new", folder=self.folder)
        self.assertEqual(done.returncode, 2)
        self.kindred("redo", "--yes")
        self.assertEqual(files_in(self.path("new")), after)

    def test_what_is_baked_in_without_a_fresh_save(self) -> None:
        """The build's own files tell the new values."""
        os.unlink(self.path("new", "userdata", "saves", "fresh.fleet"))
        told = self.kindred("world", "baked", "old", "new", status=1)["forecast"]
        fares = {each["name"]: (each["old"], each["new"]) for each in told["baked"][0]["fields"]}
        self.assertEqual(fares["peat.price"], ("4", "6"))
        self.assertEqual(fares["rope.price"], (None, "5"))
        self.assertEqual(told["counts"], [])
        shutil.rmtree(self.path("new", "userdata"))
        shutil.make_archive(self.path("fleets-2.1"), "zip", self.path("new"))
        again = self.kindred("world", "baked", "old", "fleets-2.1.zip", status=1)["forecast"]
        self.assertEqual(again["baked"], told["baked"])


if __name__ == "__main__":
    unittest.main()
