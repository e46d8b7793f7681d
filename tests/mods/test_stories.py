"""The stories of the demo, through the command line, with Boathouse and Quaywright as the judges."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import unittest
from typing import Any

import kindred_ledger as kl
from kindred_ledger.demo.boathouse_files import CORE
from tests.support import PlayCase, files_in


class ModdingCase(PlayCase):
    modding = True

    def setUp(self) -> None:
        super().setUp()
        self.folder = self.path("modding")

    def judged(self, program: str, *args: str) -> tuple[int, str]:
        """Let a simulated program look; return its status and what it said."""
        done = subprocess.run(
            [sys.executable, self.path(*program.split("/")), *args],
            cwd=self.folder, capture_output=True, text=True, check=False,
        )  # fmt: skip
        return done.returncode, done.stdout + done.stderr

    def codes(self, told: dict[str, Any]) -> list[str]:
        return [each["code"] for each in told["findings"]]


class Broken(ModdingCase):
    def test_seven_ways(self) -> None:
        """None of the mods loads; after --fix all do; undo gives the very bytes."""
        before = files_in(self.path("broken"))
        status, said = self.judged("boathouse/boathouse.py", "--all", "broken")
        self.assertEqual((status, said.count("refused ")), (1, 7))
        found = self.kindred("mod", "check", "broken", "--for", "1.4", status=1)
        self.assertEqual(len({each["code"] for each in found["findings"]}), 7)
        self.assertTrue(all("fix" in each for each in found["findings"]))
        self.kindred("mod", "check", "broken", "--for", "1.4", "--fix", "--yes")
        status, said = self.judged("boathouse/boathouse.py", "--all", "broken")
        self.assertEqual((status, said.count("loaded ")), (0, 8), said)
        self.assertEqual(self.codes(self.kindred("mod", "check", "broken", "--for", "1.4")), [])
        self.kindred("undo", "--yes")
        self.assertEqual(files_in(self.path("broken")), before)


class Twelve(ModdingCase):
    def test_carried_to_2_0(self) -> None:
        """Five of the core set, one deleted by the launcher, seven more: only what fits is on in 2.0."""
        core = [part for id in CORE for part in ("--core", id)]
        self.kindred("backup", "boathouse")
        release = ("downloads/bog-mist-2.0.zip", "--title", "bog-mist", "--build", "2.0")
        self.kindred("shelf", "add", *release)
        overwritten = ("--overwrite", "program/mods.json", "--yes", "--allow-loss")
        told = self.kindred(
            "carry", "boathouse", "boathouse-2.0", "--category", "mods", *overwritten
        )
        self.assertIn("mod-unfit", self.codes(told["change"]))
        status, said = self.judged("boathouse-2.0/boathouse.py")
        self.assertEqual((status, said.count("refused ")), (1, 3), said)
        self.judged("boathouse-2.0/boathouse.py", "--tidy")
        self.assertFalse(os.path.exists(self.path("boathouse-2.0", "mods", "tidelib")))
        told = self.kindred("mod", "check", "boathouse-2.0", *core, status=1)
        self.assertEqual(self.codes(told)[0], "core-missing")
        self.kindred("mod", "check", "boathouse-2.0", *core, "--fix", "--yes")
        self.assertTrue(os.path.exists(self.path("boathouse-2.0", "mods", "tidelib", "mod.json")))
        with open(self.path("boathouse-2.0", "mods.json"), encoding="utf-8") as file:
            on = json.load(file)["on"]
        wanted = [*CORE, "reedlight", "heron-song", "bog-mist", "otter-pool"]
        self.assertEqual(sorted(on), sorted(wanted))
        status, said = self.judged("boathouse-2.0/boathouse.py")
        self.assertEqual((status, said.count("loaded ")), (0, 9), said)
        self.assertIn("Bog Mist 2.0", said)
        left = self.kindred("mod", "check", "boathouse-2.0", *core, status=1)
        self.assertEqual(sorted({*self.codes(left)}), ["mod-unknown", "range-unread"])
        fits = {fit["id"]: fit["verdict"] for fit in left["fits"]}
        self.assertEqual({id for id, v in fits.items() if v == "keep"}, {*on} - {"otter-pool"})

    def test_test_copies(self) -> None:
        """A copy for a test is told at each scan until the test is ended; only what was placed goes."""
        before = files_in(self.path("boathouse"))
        write = self.path("trial")
        os.makedirs(write)
        with open(os.path.join(write, "mod.json"), "w", encoding="utf-8") as file:
            json.dump(
                {"id": "trial", "name": "Trial", "version": "1", "pack": 3, "builds": "1.4"}, file
            )
        with open(os.path.join(write, "trial.dat"), "w", encoding="utf-8") as file:
            file.write("x")
        self.kindred("mod", "test", "trial", "boathouse", "--at", "program/mods", "--yes")
        for command in (("scan", "boathouse"), ("mod", "check", "boathouse")):
            told = self.kindred(*command, status=1)
            found = told["installs"][0]["findings"] if command[0] == "scan" else told["findings"]
            self.assertIn("test-copy", [each["code"] for each in found])
        again = ("mod", "test", "trial", "boathouse", "--at", "program/mods", "--yes")
        self.assertEqual(self.kindred(*again, status=3)["command"], "mod test")
        self.kindred("undo", "--yes")
        self.assertEqual(files_in(self.path("boathouse")), before)
        self.assertEqual(self.kindred("scan", "boathouse")["installs"][0]["findings"], [])


class Quaywright(ModdingCase):
    def opened(self) -> tuple[int, str]:
        names = ("delta", "mill", "old-quay")
        paths = [f"quaywright/projects/{name}/{name}.route" for name in names]
        return self.judged("quaywright/quaywright.py", *paths)

    def test_the_library_moved_and_changed(self) -> None:
        """Relinked, swapped, held where nothing fits, removed only when let go; and back to the byte."""
        before = files_in(self.path("quaywright"))
        self.assertEqual(self.opened()[0], 1)
        self.kindred("mod", "relink", "quaywright/projects", "quaywright/libraries", "--yes")
        self.assertEqual(self.opened()[0], 0)
        relinked = files_in(self.path("quaywright"))
        new = "quaywright/libraries/piers-2.0/piers.parts"
        told = self.kindred("mod", "swap", "quaywright/projects", "piers-1.2", new, "--yes")
        self.assertEqual(sorted(self.codes(told["change"])), ["element-held", "parameter-noted"])
        status, said = self.opened()
        self.assertEqual(status, 0, said)
        self.assertIn("delta.route: 6 things of piers-1.2, piers-2.0, ropes-1.0", said)
        users = ("mod", "users", "quaywright/libraries/piers-1.2", "quaywright/projects")
        self.assertEqual(self.kindred(*users, status=1)["projects"], ["delta"])
        self.kindred(*users, "--remove", "--yes", status=3)
        old = "quaywright/libraries/piers-1.2/piers.parts"
        self.kindred("mod", "swap", "quaywright/projects", "piers-2.0", old, "--yes")
        self.assertEqual(files_in(self.path("quaywright")), relinked)
        for _ in range(3):
            self.kindred("undo", "--yes")
        self.assertEqual(files_in(self.path("quaywright")), before)
        self.kindred(
            *users, "--remove", "--let-go", "delta", "--let-go", "mill", "--yes", "--allow-loss"
        )
        self.assertFalse(os.path.exists(self.path("quaywright", "libraries", "piers-1.2")))


class Gaps(PlayCase):
    def test_what_another_converter_lost(self) -> None:
        """A group that came out empty is filled from the backup in the older format, if there is one."""
        ledger = self.ledger()
        ledger.backup(self.install())
        path = self.path("second", "mossferry", "userdata", "saves", "midwinter.voyage")
        with open(self.path("mossferry", "userdata", "saves", "midwinter.voyage"), "rb") as file:
            old = file.read()
        card = self.card
        made = kl.convert_bytes(old, card.formats["voyage"], "5", name="midwinter.voyage")
        document = kl.decode(made.data, "json")
        document.set("cargo", {})
        with open(path, "wb") as file:
            file.write(document.encode())
        second = self.install("second/mossferry")
        check = kl.check_mods(second, ledger=ledger)
        self.assertEqual(
            [(each.code, bool(each.fix)) for each in check.findings], [("group-empty", True)]
        )
        check.change(ledger).apply(ledger)
        with open(path, "rb") as file:
            self.assertEqual(json.load(file)["cargo"], json.loads(old)["cargo"])
        empty = self.ledger("other")
        with open(path, "wb") as file:
            file.write(document.encode())
        self.assertEqual(
            [each.code for each in kl.check_mods(second, ledger=empty).findings],
            ["group-beyond-rescue"],
        )


if __name__ == "__main__":
    unittest.main()
