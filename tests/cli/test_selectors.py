"""What is typed and fits nothing is an error; and any encoding of the output will do."""

from __future__ import annotations

import json
import os
import shlex
import subprocess
import sys

from kindred_ledger.changes import restore
from kindred_ledger.cli.catalog import COMMANDS, command_in, groups
from kindred_ledger.convert import convert_install
from kindred_ledger.errors import UsageError
from kindred_ledger.places import Patterns, open_place
from kindred_ledger.planning import compare
from kindred_ledger.updates import update
from kindred_ledger.updates.update import UpdateChoices
from tests.support import PlayCase, kindred, write

# Each selector of each command that has one, with something that is not there.
NOWHERE = """
scan zzz
scan mossferry zzz
file identify zzz
backup zzz
backup mossferry --category zzz
entries --title zzz
show zzz@1.4
compare zzz mossferry
compare mossferry@1.4 zzz
compare mossferry@1.4 mossferry --only "zzz*"
compare mossferry@1.4 mossferry --category zzz
restore zzz@1.4
restore mossferry@1.4 --only "zzz*"
restore mossferry@1.4 --category zzz
ledger export zzz@1.4 out.zip
ledger import zzz.zip
ledger drill zzz@1.4
ledger heal --mirror zzz
ledger confirm zzz
shelf list zzz
shelf fetch 9.9 --index zzz.json
shelf fetch zzz --index downloads/releases.json
shelf remove zzz
shelf add zzz.zip
update zzz downloads/mossferry-2.0.zip
update mossferry zzz.zip
update mossferry downloads/mossferry-2.0.zip --mine "zzz*"
update mossferry downloads/mossferry-2.0.zip --theirs "zzz*"
update mossferry downloads/mossferry-2.0.zip --component zzz
update mossferry downloads/mossferry-2.0.zip --with zzz
update mossferry downloads/mossferry-2.0.zip --clean --keep "zzz*"
world forecast zzz
world forecast fens/game zzz.zip --card fens/fens.card.toml
world forecast fens/game --world zzz --card fens/fens.card.toml
world remap fens/game fens/releases/fens-2.0.zip --inert zzz --card fens/fens.card.toml
world remap fens/game --lists-of zzz --card fens/fens.card.toml
world remap fens/game --consent zzz --card fens/fens.card.toml
world reinstate fens/game --world zzz --card fens/fens.card.toml
world census fens/game --against zzz --card fens/fens.card.toml
world census fens/game --landmark zzz@1,1 --card fens/fens.card.toml
world helper fens/game zzz --card fens/fens.card.toml
world helper fens/game bellkeeper --skip zzz --card fens/fens.card.toml
world baked zzz fleets/new --card fleets/fleets.card.toml
world baked fleets/old fleets/new --save zzz --card fleets/fleets.card.toml
world baked fleets/old fleets/new --fresh zzz --card fleets/fleets.card.toml
world transplant fleets/old zzz --card fleets/fleets.card.toml
world transplant fleets/old fleets/new --save zzz --card fleets/fleets.card.toml
world transplant fleets/old fleets/new --fresh zzz --card fleets/fleets.card.toml
world transplant fleets/old fleets/new --also "crew:zzz*" --card fleets/fleets.card.toml
world transplant fleets/old fleets/new --without "zzz:*" --card fleets/fleets.card.toml
world bundle fleets/new zzz.json --card fleets/fleets.card.toml
world bundle fleets/new --save zzz --card fleets/fleets.card.toml
world started fleets/new --save zzz --card fleets/fleets.card.toml
shelf assemble zzz --into new
shelf assemble downloads/mossferry-2.0.zip --into new --first "zzz*"
switch zzz
carry zzz second/mossferry --category saves
carry mossferry zzz --category saves
carry mossferry second/mossferry --category zzz
carry mossferry second/mossferry --category saves --only "zzz*"
carry mossferry second/mossferry --category saves --keep "zzz*"
carry mossferry second/mossferry --category saves --overwrite "zzz*"
carry mossferry second/mossferry --category saves --both "zzz*"
carry mossferry second/mossferry --category settings --merge "zzz*"
carry mossferry new --only "zzz*"
sync meet zzz
sync watch zzz
convert zzz --to 2.0
convert mossferry --to 2.0 --only "zzz*"
convert mossferry --to 2.0 --leave "zzz*"
convert mossferry --to 2.0 --dry-run --field "zzz*"
reapply zzz second/mossferry
reapply mossferry zzz
reapply mossferry second/mossferry --old zzz
reapply mossferry downloads/mossferry-2.0.zip --old downloads/mossferry-1.4.zip --into new --mine "zzz*"
edits take zzz --out new.toml
edits take mossferry --old zzz --out new.toml
edits show zzz.toml
edits put zzz.toml second/mossferry
edits combine zzz.toml --out new.toml
edits drop zzz.toml "*"
file table zzz
file table server/tables.xml zzz
file table server/tables.xml route --from zzz.csv
file rescue zzz mossferry/userdata/saves/midwinter.voyage
file patch identify zzz mossferry/version.txt
file patch apply zzz.zip mossferry/version.txt
file patch apply downloads/wet-lantern.patches.zip zzz
file patch make zzz mossferry/version.txt --out new.zip
card new zzz
card layout draft zzz
card route zzz
card route voyage --from-format 3 --to-format 99
card route voyage --from-format 99 --to-format 3
file dump zzz
card layout check zzz.layout mossferry/version.txt
card check zzz.card.toml
card check mossferry.card.toml zzz
mod check zzz
mod check mossferry --core zzz --explain zzz
mod trim zzz downloads/mossferry-1.4.zip
mod trim mossferry/mods/reedlight zzz.zip
mod trim mossferry/mods/reedlight downloads/mossferry-1.4.zip --drop "zzz*"
mod relink zzz server
mod relink mossferry/mods zzz
mod relink mossferry/mods server --choose zzz=x
mod users server zzz
mod users zzz mossferry/mods --remove
mod swap a b c --card zzz.card.toml
mod test zzz mossferry --at program/mods
mod test server mossferry --at zzz
mod suspects zzz
migrate zzz downloads/mossferry-2.0.zip
migrate mossferry zzz
migrate mossferry zzz@1.4 --as-stored
migrate mossferry downloads/mossferry-2.0.zip --old zzz
migrate mossferry downloads/mossferry-2.0.zip --runbook zzz
migrate zzz --resume
migrate zzz --sign zzz
migrate zzz --back
migrate "zzz/*" downloads/mossferry-2.0.zip --fleet
migrate mossferry zzz --fleet
card symptoms zzz
card symptoms mossferry zzz
card symptoms mossferry black --try 99
card learn zzz mossferry
card learn mossferry@1.4 zzz
card learn mossferry@1.4 mossferry --old zzz
undo zzz
redo zzz
"""

# What names a step or a part, of a migration that is under way.
UNDER_WAY = """
migrate --done zzz
migrate --skip zzz
migrate --sign zzz
migrate --back --to-step zzz
"""

WITHOUT = {
    "ledger verify",
    "ledger mirror",
    "ledger retire",
    "ledger passphrase",
    "history",
    "recover",
    "demo",
}  # select nothing


class Selectors(PlayCase):
    fens = fleets = True

    def test_what_fits_nothing_is_status_2(self) -> None:
        """In every command, for every selector, with what was typed in the message; nothing is written."""
        kindred("backup", "mossferry", folder=self.folder)
        os.mkdir(self.path("new"))
        before = sorted(os.listdir(self.folder))
        lines = NOWHERE.strip().splitlines()
        named = {command_in(line.split()) for line in lines}
        self.assertEqual(named, {*COMMANDS} - groups() - WITHOUT)
        self._refused(lines)
        self.assertEqual(sorted(os.listdir(self.folder)), before)
        begun = ("migrate", "mossferry", "downloads/mossferry-2.0.zip", "--allow-loss", "--yes")
        done = kindred(*begun, folder=self.folder)
        self.assertEqual(done.returncode, 3, done.stdout + done.stderr)  # it waits for the sign-off
        self._refused(UNDER_WAY.strip().splitlines())

    def _refused(self, lines: list[str]) -> None:
        for line in lines:
            with self.subTest(line):
                done = kindred(*shlex.split(line), folder=self.folder)
                self.assertEqual(done.returncode, 2, done.stdout + done.stderr)
                self.assertRegex(done.stderr, "zzz|99")
                self.assertNotIn("Traceback", done.stderr)

    def test_the_nearest_match_is_named(self) -> None:
        """For paths, categories, entries, patterns and fields."""
        kindred("backup", "mossferry", folder=self.folder)
        for line, near in (
            ("scan mosferry", "mossferry"),
            ("backup mossferry --category savs", "saves"),
            ("show mosferry@1.4", "mossferry@1.4"),
            ("restore mossferry@1.4 --only midwintr.voyage", "user/saves/midwinter.voyage"),
            ("convert mossferry --dry-run --to 2.0 --field crew.moral", "morale"),
        ):
            done = kindred(*shlex.split(line), folder=self.folder)
            self.assertRegex(done.stderr, f"Did you mean .*{near}", line)
        kindred("shelf", "add", "downloads/mossferry-2.0.zip", folder=self.folder)
        for line in ("migrate mossferry 2.0", "update mossferry mossferry@2.0"):
            done = kindred(*line.split(), folder=self.folder)
            self.assertIn("The shelf has it: release:mossferry@2.0", done.stderr)

    def test_in_python_too(self) -> None:
        """Patterns that fit nothing, and a function that selects nothing."""
        install, kept = self.install(), self.ledger()
        entry = kept.backup(install)
        nothing = Patterns(("zzz*",))
        release = open_place(self.new_zip)
        for call in (
            lambda: restore(entry, ledger=kept, only=nothing),
            lambda: restore(entry, ledger=kept, only=lambda path: False),
            lambda: convert_install(install, ledger=kept, only=nothing),
            lambda: convert_install(install, ledger=kept, leave=nothing),
            lambda: compare(install, install, ledger=kept, only=nothing),
            lambda: kept.backup(install, only=nothing),
            lambda: update(install, release, ledger=kept, choices=UpdateChoices(mine=nothing)),
        ):
            with self.assertRaises(UsageError):
                call()

    def test_restoring_elsewhere(self) -> None:
        """A dry run makes no folder; what was taken in from an archive is not restored into it."""
        kindred("ledger", "import", "downloads/mossferry-1.4.zip", folder=self.folder)
        done = kindred("restore", "mossferry@1.4", "--yes", folder=self.folder)
        self.assertEqual(done.returncode, 2, done.stderr)
        self.assertIn("--into FOLDER", done.stderr)
        self.kindred("restore", "mossferry@1.4", "--into", "a/b", "--dry-run")
        self.kindred("restore", "mossferry@1.4", "--into", "a/b", status=3)
        self.assertFalse(os.path.exists(self.path("a")))
        kindred(
            "backup", "mossferry", folder=self.folder
        )  # older than the import or not, it is meant
        kindred("ledger", "import", "downloads/mossferry-1.4.zip", folder=self.folder)
        self.kindred("restore", "mossferry@1.4", "--dry-run")
        self.kindred("restore", "mossferry@1.4", "--into", "a/b", "--yes")
        self.assertTrue(os.path.exists(self.path("a", "b")))
        write(self.path("plain"), {"empty/inner": None, "a.txt": b"1"})
        entry = self.kindred("backup", "plain")["entry"]["id"]
        self.kindred("restore", entry, "--into", "made/anew", "--yes")
        self.assertTrue(os.path.isdir(self.path("made", "anew", "empty", "inner")))


class StepDescription(PlayCase):
    def test_what_will_not_be_read(self) -> None:
        """Undoing an update below a conversion, and converting beyond the install's build, say so."""
        old = ("--old", "downloads/mossferry-1.4.zip", "--yes", "--allow-loss")
        updated = self.kindred("update", "mossferry", "downloads/mossferry-2.0.zip", *old)
        converted = self.kindred("convert", "mossferry", "--yes", "--allow-loss")["applied"]["id"]
        undone = self.kindred("undo", updated["applied"]["id"], "--dry-run")["change"]
        self.assertIn(f"kindred undo {converted}", str(undone["findings"]))
        beyond = self.kindred("convert", "mossferry", "--to", "2.1", "--dry-run")["change"]
        self.assertIn("does not read voyage format 6: 4 files", str(beyond["findings"]))
        self.kindred("undo", converted, "--yes", "--allow-loss")
        undone = self.kindred("undo", updated["applied"]["id"], "--dry-run")["change"]
        warned = [each["code"] for each in undone["findings"] if each["severity"] == "warning"]
        self.assertEqual(warned, [])

    def test_a_pristine_install_with_files_in_categories(self) -> None:
        """What lies in categories is left out of both sides: nothing of the release is missing."""
        release = self.path("release")
        place = open_place(self.new_zip)
        files = {path: b"".join(blocks) for path, blocks in place.read(place.survey().files)}
        contents = {path.partition("/")[2]: data for path, data in files.items()}
        write(
            release,
            {**contents, "portable.txt": b"", "mods/extra/mod.json": b"{}", "mods/extra/a": b"1"},
        )
        kindred("shelf", "add", "release", folder=self.folder)
        for name in ("a", "mod.json"):
            os.unlink(os.path.join(release, "mods", "extra", name))
        (found,) = self.kindred("scan", "release")["installs"]
        self.assertRegex(found["by_content"], "mossferry@2.0, unedited")


class Encodings(PlayCase):
    def test_any_encoding_of_the_output(self) -> None:
        """In cp1252, cp437 and ASCII no command ends with a traceback; JSON is UTF-8 in all of them."""
        write(self.path("mossferry", "userdata", "saves"), {"größe→.voyage": b"{}"})
        kindred("backup", "mossferry", folder=self.folder)
        kindred("shelf", "add", "downloads/mossferry-1.4.zip", folder=self.folder)
        for number, line in enumerate(SHOWN.strip().splitlines()):
            encoding = ("ascii", "cp1252", "cp437")[number % 3]
            usual, done = (self.run_in(each, line) for each in ("utf-8", encoding))
            self.assertEqual(done.returncode, usual.returncode, (line, done.stderr))
            self.assertNotIn("Traceback", done.stderr, line)
            self.assertEqual(len(done.stdout.splitlines()), len(usual.stdout.splitlines()), line)
        told = kindred(
            "scan", "--json", folder=self.folder, environment={"PYTHONIOENCODING": "ascii"}
        )
        self.assertEqual(json.loads(told.stdout)["status"], told.returncode)
        shown = kindred("show", "mossferry@1.4", "--json", folder=self.folder,
                        environment={"PYTHONIOENCODING": "ascii", "PYTHONUTF8": "1"})  # fmt: skip
        self.assertIn("größe→.voyage", json.dumps(json.loads(shown.stdout), ensure_ascii=False))

    def run_in(self, encoding: str, line: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "kindred_ledger.cli.main", *shlex.split(line)],
            cwd=self.folder,
            env={**os.environ, "KINDRED_LEDGER": "ledger", "PYTHONIOENCODING": encoding},
            capture_output=True,
            encoding=encoding,
            check=False,
        )


SHOWN = """
scan
file identify mossferry/userdata
entries
show mossferry@1.4
history
ledger verify
ledger drill
compare mossferry second/mossferry
restore mossferry@1.4 --dry-run
card route voyage
convert mossferry --to 2.0 --dry-run --leave größe*
shelf list
card check mossferry.card.toml
carry mossferry second/mossferry --category saves --dry-run
ledger retire --last 1 --dry-run
update mossferry downloads/mossferry-2.0.zip --dry-run
undo zzz
"""
