"""The command line as people and scripts use it: statuses, JSON, prompts, help, and the guide."""

from __future__ import annotations

import json
import os
import re
import shlex
import shutil
import subprocess
import sys
import unittest

from kindred_ledger.cli.catalog import COMMANDS, command_in, groups
from kindred_ledger.demo.play_area import build_play_area
from kindred_ledger.demo.practice import project
from tests.cli.screen import OnScreen, pty
from tests.support import ROOT, Case, PlayCase, kindred, snapshot, write

UPDATE = ("update", "mossferry", "downloads/mossferry-2.0.zip")
OLD = ("--old", "downloads/mossferry-1.4.zip")


_ELSEWHERE = {  # in pages of their own
    "file patch make",
    "card new",
    "card layout check",
    "card layout draft",
    "reapply",
    "file table",
    "migrate",
    "card symptoms",
    "card learn",
}
# Pages that play in a folder of their own.
_FOLDERS = {
    "edits.md": "edits",
    "updating/my-server.md": "edits",
    "mods.md": "modding",
    "worlds.md": "fens",
    "census.md": "fens",
    "long-games.md": "fleets",
    "baked.md": "fleets",
}
_STYLES = ("over-the-top.md", "clean.md", "beside.md", "components.md", "assemble.md")


class Guide(PlayCase):
    def test_every_command_of_the_guide_runs(self) -> None:
        """In order, on the demo's folder, each with the status the guide gives it."""
        used = self.run_page("guide.md", least=20)
        self.assertEqual({name for name in used if name.startswith(("shelf", "sync"))}, set())
        elsewhere = ("shelf", "sync", "demo", "edits", "mod", "world")
        rest = {name for name in COMMANDS if not name.startswith(elsewhere)}
        self.assertLessEqual(rest - groups() - _ELSEWHERE, used)

    def test_every_command_of_the_other_pages_runs(self) -> None:
        """Each page on a play area of its own, as it says."""
        styles = (f"updating/{name}" for name in _STYLES)
        used, area = set(), os.path.dirname(self.folder)
        for page in ("releases.md", "transfers.md", "migrating.md", *styles, *_FOLDERS):
            self.folder = os.path.join(area, page.replace("/", "-"))
            build_play_area(self.folder)
            if page in _FOLDERS:
                self.folder = self.path(_FOLDERS[page])
            used |= self.run_page(page, least=2)
        others = {
            name for name in COMMANDS if name.startswith(("shelf", "sync", "edits", "mod", "world"))
        }
        self.assertLessEqual(others - groups() - {"shelf remove", "sync watch"}, used)
        self.assertLessEqual({"reapply", "file table"}, used)

    def run_page(self, page: str, *, least: int) -> set[str]:
        """Run the commands of a page of the documentation; return which they were."""
        with open(os.path.join(ROOT, "docs", *page.split("/")), encoding="utf-8") as file:
            lines = re.findall(r"^\$ kindred (.*)$", file.read(), re.M)
        self.assertGreater(len(lines), least)
        used = set()
        environment = {
            "KINDRED_PASSPHRASE": "peat",
            "KINDRED_NEW_PASSPHRASE": "peat",
            "XDG_DATA_HOME": self.path("data"),
        }
        for line in lines:
            command, _, comment = line.partition("#")
            expected = int(comment.split()[-1]) if comment else 0
            args = shlex.split(command)
            used.add(command_in(args))
            done = kindred(*args, folder=self.folder, environment=environment)
            self.assertEqual(done.returncode, expected, f"{line}\n{done.stdout}{done.stderr}")
            self.assertNotIn("Traceback", done.stderr)
        return used

    def test_the_first_hour_can_be_followed(self) -> None:
        """From top to bottom: each command, and each text to be saved in a file; the result is right."""
        with open(os.path.join(ROOT, "docs", "first-hour.md"), encoding="utf-8") as file:
            lines = file.read().splitlines()
        block: list[str] = []
        said, ran = "", 0
        for line in [*lines, ""]:
            if line.startswith("    "):
                block.append(line[4:])
            elif line or not block:
                if block:
                    self.save(said, "\n".join(block) + "\n")
                    block = []
                if line.startswith("$ kindred "):
                    command, _, comment = line[10:].partition("#")
                    done = kindred(*shlex.split(command), folder=self.folder)
                    expected = int(comment.split()[-1]) if comment else 0
                    self.assertEqual(
                        done.returncode, expected, f"{line}\n{done.stdout}{done.stderr}"
                    )
                    ran += 1
                said = line or said
            elif block and block[-1]:
                block.append("")
        self.assertGreater(ran, 15)
        told = self.kindred("convert", "practice/quaywright-1.0", "--to", "1.1", "--yes")
        self.assertTrue(told["applied"])
        moorings = (("Lantern Sound", 22, 0.5), ("Otter Pool", 11, 0.5))
        with open(
            self.path("practice", "quaywright-1.0", "projects", "night-run.qwp"), "rb"
        ) as got:
            self.assertEqual(got.read(), project("Night run", moorings, format_version=2))

    def save(self, said: str, text: str) -> None:
        """Write a text to the file that the sentence before it names, if it says so."""
        if named := re.search(r"Save this as$|Save this as `([\w.]+)`|^`([\w.]+)`:$", said):
            write(self.folder, {named[1] or named[2]: text.encode()})
        elif named := re.search(r"Add this to `([\w.]+)`|^about `.qwp`:$", said):
            path = self.path("quaywright.card.toml")
            with open(path, encoding="utf-8") as file:
                before = file.read().partition("# 3 files")[0]
            write(self.folder, {"quaywright.card.toml": (before + text).encode()})

    def test_every_command_has_help_with_an_example(self) -> None:
        """And stands in the list of commands, the guide and the README."""
        docs = ""
        pages = (
            "guide.md",
            "releases.md",
            "transfers.md",
            "layouts.md",
            "patches.md",
            "edits.md",
            "mods.md",
            "worlds.md",
            "census.md",
            "long-games.md",
            "baked.md",
            "migrating.md",
            "updating/README.md",
        )
        for name in ("README.md", *(f"docs/{page}" for page in pages)):
            with open(os.path.join(ROOT, *name.split("/")), encoding="utf-8") as file:
                docs += file.read()
        for name in COMMANDS:
            above, _, last = name.rpartition(" ")
            text = kindred("help", *name.split(), folder=self.folder).stdout
            if name not in groups():
                self.assertRegex(text, rf"(?s)Example.*kindred {name}", name)
                self.assertTrue(f"kindred {name}" in docs, name)
            listed = kindred(*above.split(), "-h", folder=self.folder).stdout
            self.assertRegex(listed, rf"(?m)^ .{{1,10}}{last} ")
        self.assertLessEqual(len(kindred("--help", folder=self.folder).stdout.splitlines()), 32)


class InUse(PlayCase):
    def test_a_running_game_is_named_before_anything_is_done(self) -> None:
        """By scan, by a backup and its entry, by previews; and a change waits until it is closed."""
        game = [sys.executable, os.path.join("mossferry", "mossferry.py"), "--run"]
        change = (*UPDATE, *OLD, "--json")
        with subprocess.Popen(
            game, cwd=self.folder, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        ) as running:
            assert running.stdout is not None
            running.stdout.readline()
            who = f"(process {running.pid}), started with mossferry.py"
            for args, status in (
                (("scan",), 1),
                (("backup", "mossferry"), 0),
                (("show", "latest"), 0),
                ((*change, "--dry-run"), 0),
                ((*change, "--yes"), 3),
            ):
                done = kindred(*args, folder=self.folder)
                self.assertEqual(done.returncode, status, done.stderr)
                self.assertIn(who, done.stdout)
            running.kill()
        self.assertEqual(kindred(*change, "--yes", folder=self.folder).returncode, 0)


class Json(PlayCase):
    def test_the_whole_way_in_json(self) -> None:
        """One object a command: scan, backup, update, convert, history, undo, entries, show."""
        scanned = self.kindred("scan")
        self.assertEqual([i["version"] for i in scanned["installs"]], ["1.1", "1.4", "2.0"])
        belongings = {b["category"]: b["files"] for b in scanned["installs"][1]["belongings"]}
        self.assertEqual((belongings["saves"], belongings["(uncategorised)"]), (4, 3))
        entry = self.kindred("backup", "mossferry", "--note", "n")["entry"]
        self.assertEqual((entry["tag"]["version"], entry["note"]), ("1.4", "n"))
        some = self.kindred("backup", "mossferry", "--category", "saves")
        missed = [{"folder": "user/pictures/", "files": 3, "size_bytes": 10839}]
        self.assertEqual(some["uncategorised"], missed)
        self.assertEqual(scanned["installs"][1]["uncategorised"], missed)
        before = snapshot(self.path("mossferry"))

        looked = self.kindred(*UPDATE, *OLD, "--dry-run")
        self.assertTrue(looked["dry_run"])
        self.assertEqual(snapshot(self.path("mossferry")), before)
        updated = self.kindred(*UPDATE, *OLD, "--yes", "--lines")
        books = updated["applied"]["books"][0]
        self.assertEqual(
            books["before"] + books["totals"]["added"] - books["totals"]["removed"], books["after"]
        )
        self.assertEqual(sum(books["totals"].values()), len(books["lines"]))

        refused = self.kindred("convert", "mossferry", "--yes", status=3)
        self.assertEqual(refused["error"]["kind"], "LossNotAllowed")
        self.kindred("convert", "mossferry", "--yes", "--allow-loss")
        self.assertEqual(self.judge()[0], 0)
        compared = self.kindred("compare", entry["id"], "mossferry", status=1)
        settings = next(d for d in compared["differences"] if d["path"] == "user/settings.ini")
        self.assertEqual((settings["status"], settings["category"]), ("changed", "settings"))
        self.assertIn(
            {"field": "Display.Width", "before": "2560", "after": None}, settings["fields"]
        )
        changes = self.kindred("history")["changes"]
        self.assertEqual([c["operation"] for c in changes], ["update", "convert"])
        self.assertGreater(min(c["touched"] for c in changes), 0)
        for change in reversed(changes):
            self.kindred("undo", change["id"], "--yes")
        self.assertEqual(snapshot(self.path("mossferry")), before)
        self.assertEqual(self.kindred("compare", entry["id"], "mossferry")["differences"], [])
        self.assertEqual(len(self.kindred("entries")["entries"]), 6)
        shown = self.kindred("show", "mossferry@1.4")
        self.assertEqual(
            (shown["categories"]["saves"]["files"], shown["entry"]["id"]), (4, entry["id"])
        )
        self.assertEqual(
            self.kindred("recover"), {"command": "recover", "status": 0, "recovered": []}
        )

    def test_errors_in_json(self) -> None:
        """What, where, the remedy and the kind, with the exit status within."""
        error = self.kindred("show", "nothing", status=2)["error"]
        self.assertEqual((error["kind"], bool(error["remedy"])), ("NoLedger", True))
        write(self.path("mossferry"), {"version.txt": b"Mossferry build 2.0\n"})
        odd = self.kindred("scan", status=1)["installs"][1]["findings"]
        self.assertEqual([each["code"] for each in odd], ["version-disputed"])
        error = self.kindred(*UPDATE, "--yes", status=3)["error"]
        self.assertIn("--build VERSION", error["remedy"])
        self.kindred(*UPDATE, "--yes", "--build", "1.4")

    def test_as_a_module(self) -> None:
        """`python -m kindred_ledger` is the command line, too."""
        done = subprocess.run(
            [sys.executable, "-m", "kindred_ledger", "entries", "--json", "--ledger", "none"],
            capture_output=True, text=True, check=False, cwd=self.folder,
        )  # fmt: skip
        self.assertEqual(json.loads(done.stdout)["command"], "entries", done.stderr)

    def test_a_release_is_known_as_one(self) -> None:
        """An archive of a title is compared part by part with an install, and kept with its tag."""
        entry = self.kindred("backup", "downloads/mossferry-2.0.zip")["entry"]
        self.assertEqual((entry["tag"]["title"], entry["tag"]["version"]), ("mossferry", "2.0"))
        found = self.kindred("compare", "second/mossferry", "downloads/mossferry-2.0.zip", status=1)
        self.assertTrue(all(d["path"].startswith("user/") for d in found["differences"]))


class Statuses(PlayCase):
    def status(self, *args: str, words: str = "") -> int:
        done = kindred(*args, folder=self.folder)
        self.assertNotIn("Traceback", done.stderr)
        self.assertIn(words, done.stdout + done.stderr)
        return done.returncode

    def test_wrong_usage(self) -> None:
        """Status 2, with the near miss."""
        self.assertEqual(self.status("bakcup", words="Did you mean: kindred backup"), 2)
        self.assertEqual(self.status("backup", words="Missing argument"), 2)
        self.assertEqual(self.status("backup", "gone/away", words="no such file or folder"), 2)
        self.assertEqual(self.status("backup", "downloads", "--category", "saves", words="card"), 2)
        self.assertEqual(self.status("undo", "zz", words="no ledger here"), 2)
        self.assertEqual(self.status("backup", "mossferry"), 0)
        self.assertEqual(self.status("undo", "zz", words="no change"), 2)
        self.assertEqual(self.status("scan", "--folder", "x", words="not NAME=PATH"), 2)
        self.assertEqual(self.status("ledger", words="check the ledger for corruption"), 2)
        self.assertEqual(self.status("--version", words="kindred 0"), 0)
        write(self.folder, {"wrong.card.toml": b"card = 1\ntitel = 'x'\n"})
        self.assertEqual(self.status("scan", words="did you mean 'title'"), 0)  # others go on
        self.assertEqual(self.status("backup", "mossferry", words="not used"), 0)
        self.assertEqual(self.status("backup", "downloads", words="may describe it"), 2)
        self.assertEqual(self.status("scan", "--card", "wrong.card.toml", words="'title'"), 2)

    def test_nobody_to_ask(self) -> None:
        """Without a terminal and without --yes nothing is written: status 3."""
        before = snapshot(self.path("mossferry"))
        self.assertEqual(self.status(*UPDATE, words="there is no terminal to ask on"), 3)
        self.assertEqual(snapshot(self.path("mossferry")), before)

    def test_damage(self) -> None:
        """A pack or an entry that is cut short: status 5, with its name, and all else goes on."""
        self.assertEqual(self.status("backup", "mossferry"), 0)
        packs = self.path("ledger", "packs")
        pack = os.path.join(packs, os.listdir(packs)[0])
        os.truncate(pack, os.path.getsize(pack) // 2)
        os.remove(self.path("ledger", "index.sqlite"))
        self.assertEqual(self.status("show", "latest"), 0)
        into = ("--into", "back", "--yes")
        self.assertEqual(self.status("restore", "latest", *into, words="cut short"), 5)
        self.assertEqual(self.status("ledger", "verify", words="206 files lost"), 5)
        self.assertEqual(self.status("backup", "mossferry"), 0)
        self.assertEqual(self.status("restore", "latest", *into), 0)
        entries = self.path("ledger", "entries")
        entry = os.path.join(entries, min(os.listdir(entries)))
        os.truncate(entry, 20)
        os.remove(self.path("ledger", "index.sqlite"))
        self.assertEqual(self.status("entries", words=os.path.basename(entry)), 5)
        self.assertEqual(self.status("entries", words="mossferry@1.4"), 5)
        self.assertEqual(self.status("restore", "latest", *into), 0)

    def test_a_reader_that_goes_away(self) -> None:
        """`kindred show … | head` ends quietly."""
        self.assertEqual(self.status("backup", "mossferry"), 0)
        shown = subprocess.Popen(
            [sys.executable, "-m", "kindred_ledger.cli.main", "show", "latest", "--json"],
            cwd=self.folder,
            env={**os.environ, "KINDRED_LEDGER": "ledger"},
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )
        assert shown.stdout is not None and shown.stderr is not None
        shown.stdout.read(10)
        shown.stdout.close()
        self.assertEqual((shown.wait(), shown.stderr.read()), (0, b""))
        shown.stderr.close()


@unittest.skipIf(pty is None, "needs a terminal")
class Terminal(OnScreen, PlayCase):
    def test_a_passphrase_is_typed_unseen(self) -> None:
        """A new one twice, and again whenever the ledger is opened."""
        home = {"KINDRED_LEDGER": "hidden", "XDG_DATA_HOME": self.path("data")}
        new = ("New passphrase", "Repeat")
        status, made = self.converse("ledger", "passphrase", answer="peat-71", prompts=new, **home)
        self.assertEqual(status, 0, made)
        asked = ("Passphrase of the ledger",)
        status, opened = self.converse("entries", answer="peat-71", prompts=asked, **home)
        self.assertEqual(status, 0, opened)
        self.assertNotIn("peat-71", made + opened)
        status, _ = self.converse("entries", answer="reed", prompts=asked, **home)
        self.assertEqual(status, 2)

    def test_the_preview_is_shown_and_asked_about(self) -> None:
        """No leaves everything; yes goes ahead, and covers the losses that were shown."""
        before = snapshot(self.path("mossferry"))
        status, shown = self.converse(*UPDATE, *OLD, answer="n")
        self.assertEqual((status, "Nothing was changed" in shown), (3, True), shown)
        self.assertEqual(snapshot(self.path("mossferry")), before)
        status, shown = self.converse(*UPDATE, *OLD, answer="y")
        self.assertEqual(status, 0, shown)
        self.assertIn("\x1b[", shown)
        status, shown = self.converse("convert", "mossferry", answer="y")
        self.assertIn("allow these losses?", shown)
        self.assertEqual((status, self.judge()[0]), (0, 0), shown)


class StartUp(Case):
    @unittest.skipIf(os.name == "nt", "a folder in use is not deleted there")
    def test_a_folder_that_was_deleted_meanwhile(self) -> None:
        """Whoever stands in it is told so, and no program breaks."""
        write(self.folder, {"kept/a.txt": b"1"})
        script = 'cd gone && rmdir ../gone && exec "$0" -m kindred_ledger.cli.main "$@"'
        for args, word in ((["scan"], "was deleted"), ([], "was deleted"), (["entries", "--ledger",
                           self.path("none")], "no ledger here"), (["--help"], "keep")):  # fmt: skip
            os.makedirs(self.path("gone"), exist_ok=True)
            done = subprocess.run(
                ["sh", "-c", script, sys.executable, *args], cwd=self.folder, check=False,
                capture_output=True, text=True,
            )  # fmt: skip
            self.assertIn(word, done.stdout + done.stderr)
            self.assertNotIn("Traceback", done.stderr)

    def test_names_and_paths_with_signs_are_shown_as_they_are(self) -> None:
        """Brackets and percent signs in a name are no markup."""
        write(self.path("[red]place"), {"a[1].txt": b"1"})
        done = kindred("backup", "./[red]place", folder=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        shown = kindred("show", "latest", "--files", folder=self.folder)
        self.assertIn("[red]place", shown.stdout)
        self.assertIn("a[1].txt", shown.stdout)

    def test_a_version_that_was_read_nowhere(self) -> None:
        """The backup of a folder without a card does not say that a version was read."""
        write(self.path("m"), {"a.txt": b"1"})
        done = kindred("backup", "m", folder=self.folder)
        self.assertEqual((done.returncode, "read from" in done.stdout), (0, False), done.stdout)

    def test_a_ledger_of_another_format(self) -> None:
        """Refused, with what to do."""
        write(self.path("ledger"), {"ledger.toml": b"format = 2\n"})
        done = kindred("entries", folder=self.folder)
        self.assertEqual((done.returncode, "Update this program" in done.stderr), (2, True))

    @unittest.skipUnless(shutil.which("python3") and os.name != "nt", "asks the shell")
    def test_json_is_alone_on_standard_output(self) -> None:
        """Even where something is wrong."""
        done = kindred("show", "nothing", "--json", folder=self.folder)
        self.assertEqual(json.loads(done.stdout)["status"], 2)
