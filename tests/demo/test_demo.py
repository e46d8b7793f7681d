"""The demo: the story as it is told, and the simulated game that judges it."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys

from kindred_ledger.demo.play_area import build_play_area
from kindred_ledger.demo.releases import build_release
from tests.support import ROOT, Case, PlayCase, kindred, snapshot, write


class Story(Case):
    def test_the_story_is_told_to_its_end(self) -> None:
        """Every command ends as it should, the game agrees, and each can be typed again."""
        done = kindred("demo", "--quick", "--dir", "play", folder=self.folder)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        told = done.stdout
        self.assertEqual(told.count("Everything loads."), 11)
        self.assertEqual(told.count("6 files were refused."), 1)
        self.assertIn("were taken back; the place is as it was", done.stderr)
        self.assertIn("No difference: 206 files hold the same, byte for byte.", told)
        self.assertIn("the ferry house 2.0 opens: 14 quays", told)
        self.assertIn("7 mods were refused.", told)
        self.assertIn("opened   delta.route: 6 things of piers-1.2, piers-2.0", told)
        self.assertEqual(told.count("nothing is scrambled, nothing stripped"), 2)
        self.assertIn("opened   long.fleet: day 2601, 2,000 ferries and 16,000 hands", told)
        self.assertIn("That was it.", told)
        commands = re.findall(r"^\$ kindred (.+)$", told, re.M)
        self.assertGreater(len(commands), 12)
        again = kindred("history", "--json", folder=self.path("play"))
        self.assertEqual(len(json.loads(again.stdout)["changes"]), 102)

    def test_a_folder_in_use_is_left_alone(self) -> None:
        """The play area is never built over something."""
        write(self.path("play"), {"mine.txt": b"1"})
        done = kindred("demo", "--dir", "play", folder=self.folder)
        self.assertEqual((done.returncode, "not empty" in done.stderr), (2, True))
        self.assertEqual(os.listdir(self.path("play")), ["mine.txt"])

    def test_the_same_play_area_everywhere(self) -> None:
        """Two builds of it are equal byte for byte, times of files included."""
        for name in ("one", "two"):
            build_play_area(self.path(name))
        self.assertEqual(snapshot(self.path("one")), snapshot(self.path("two")))


class Judge(PlayCase):
    def test_each_build_loads_its_own_and_refuses_the_rest(self) -> None:
        """The judge can refuse: other formats, damaged files, mixed builds, missing files."""
        self.assertEqual(self.judge()[0], 0)
        self.assertEqual(self.judge("second/mossferry")[0], 0)
        save = "userdata/saves/midwinter.voyage"
        for name, data, words in (
            (save, b'{"format": 5}', "voyage format 5"),
            (save, b'{"format": 4', "damaged"),
            (save, b'{"format": 4, "captain": 1}', "captain is missing"),
            ("userdata/settings.ini", b"[General]\nSettingsFormat = 2\n", "settings format 2"),
            ("userdata/controls.json", b'{"format": 2}', "controls format 2"),
            ("version.txt", b"Mossferry build 2.0\n", "mixed builds"),
        ):
            path = self.path("mossferry", *name.split("/"))
            with open(path, "rb") as file:
                whole = file.read()
            write(self.path("mossferry"), {name: data})
            status, said = self.judge()
            self.assertEqual((status, words in said), (1, True), said)
            write(self.path("mossferry"), {name: whole})
        os.remove(self.path("mossferry", "data", "tides.ini"))
        self.assertIn("program files are missing", self.judge()[1])

    def test_the_game_needs_nothing_of_ours(self) -> None:
        """It runs on the bare interpreter."""
        write(self.path("bare"), build_release("2.0"))
        done = subprocess.run(
            [sys.executable, "-I", "-S", self.path("bare", "mossferry.py")],
            capture_output=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stdout)


class Examples(Case):
    def test_every_example_runs_and_says_how_it_ended(self) -> None:
        """On a play area of its own."""
        endings = {
            "the_whole_move.py": "2 changes taken back: 1.4",
            "a_fleet_of_servers.py": "All: {'waits': 19, 'error': 1}",
            "first_backup.py": "Everything is as it was kept.",
            "move_to_a_new_build.py": "Back at 1.4. Does it load everything? Everything loads.",
            "edits_on_both_sides.py": "program/data/harbours.json: [id=7].name: both added it, not the "
            "same: Otter Pool and Gannet Landing",
            "keep_while_it_runs.py": "Landed: Peat Maiden, Wet Lantern",
            "carry_to_another_install.py": "Let it give way with `overwrite=PATTERN`, keep it with "
            "`keep=PATTERN`, have both with `both=PATTERN`, or merge settings key by key with"
            " `merge=PATTERN`.",
            "edit_inside_files.py": "Everything else is as it was.",
            "convert_saves.py": "beside them now: voyages/first-light.6.mfsv, "
            "voyages/low-water.6.mfsv, voyages/reed-cutting.6.mfsv",
            "apply_a_patch.py": "an edited one is near to first.chart: 99.9% of it is the same",
            "convert_packs.py": "after undo: mod.json, reeds.cache, reeds.dat",
            "an_older_build_for_an_evening.py": "and back: saves-of-2.0.txt",
            "clean_or_beside.py": "taken back: 1.4 again, and gone is mossferry-2.0",
            "edits_after_an_update.py": "Taken back: it is 1.3 again.",
            "edits_without_a_card.py": "mossferry@1.4 with 1 file edited, 12 unknown",
            "install_in_parts.py": "taken back; lamps are left: False; 2.1 is left: False",
            "mod_a_program_archive.py": "taken back; the very archive: True",
            "two_machines_meet.py": "the same on both: True: first-crossing.voyage, "
            "long-way-round.voyage, midwinter (laptop).voyage, midwinter.voyage, thaw.voyage",
            "on_a_rented_server.py": "taken back: True",
            "on_a_handheld.py": "on the card now: evening.pocket, evening.pocket.bak, night-0.pocket, "
            "night-1.pocket, night-2.pocket",
            "write_a_step.py": '{"format": 3, "name": "Nowhere", "planks": null, "kind": "Stage"}',
            "one_ledger_for_two_machines.py": "Every byte is as it was written.",
            "describe_a_title.py": "undone: True",
            "mods_that_do_not_load.py": "With 2.0 they load as peatlib, tidelib, ropes, lanterns, "
            "quaykit, reedlight, heron-song, bog-mist.",
            "slim_a_pack.py": "In the archive: cover.png, mod.json, tides.ini, tiles/000.tile, "
            "tiles/001.tile, tiles/dusk-sky.tile",
            "a_world_over_an_update.py": "Bells before and after: 93, 93",
            "a_long_game_in_a_new_world.py": "Every game opens.",
            "a_library_that_moved.py": "Swapped back, every file is what it was: True",
        }
        folder = os.path.join(ROOT, "examples")
        self.assertEqual({n for n in os.listdir(folder) if n.endswith(".py")}, set(endings))
        for name, ending in endings.items():
            done = subprocess.run(
                [sys.executable, os.path.join(folder, name), self.path(name)],
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertEqual(done.stdout.splitlines()[-1], ending)

    def test_the_example_of_the_readme_runs(self) -> None:
        """As it stands there, in the demo's folder; it is short, and the place ends as it began."""
        with open(os.path.join(ROOT, "README.md"), encoding="utf-8") as file:
            text = file.read()
        self.assertLess(text.count("\n"), 150)
        match = re.search(r"```python\n(.*?)```", text, re.S)
        assert match is not None
        self.assertLessEqual(len([line for line in match[1].splitlines() if line]), 15)
        build_play_area(self.path("play"))
        before = snapshot(self.path("play", "mossferry"))
        done = subprocess.run(
            [sys.executable, "-c", match[1]],
            cwd=self.path("play"),
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("134 unchanged, 66 changed, 8 added, 6 removed", done.stdout)
        self.assertEqual(snapshot(self.path("play", "mossferry")), before)

    def test_links_in_the_documentation_lead_somewhere(self) -> None:
        """Every page and picture that is linked is there."""
        pages = [
            os.path.join(top, name)
            for top, _, names in os.walk(os.path.join(ROOT, "docs"))
            for name in names
            if name.endswith(".md")
        ]
        pages += [os.path.join(ROOT, n) for n in ("README.md", "CONTRIBUTING.md", "CHANGELOG.md")]
        for page in pages:
            with open(page, encoding="utf-8") as file:
                text = file.read()
            for target in re.findall(r"\]\(([^)#\s]+)\)", text):
                if "://" not in target:
                    path = os.path.join(os.path.dirname(page), *target.split("/"))
                    self.assertTrue(os.path.exists(path), f"{page} links to {target}")
