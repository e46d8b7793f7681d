"""Bulk: any executor gives the same, a run that is killed goes on where it stopped, names never meet."""

from __future__ import annotations

import errno
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import time
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from typing import Any

from blake3 import blake3

from kindred_ledger.convert import ResultCache, Work, convert_files, prove_files, prove_install
from kindred_ledger.convert.bulk import Done
from kindred_ledger.errors import Cancelled, DecisionNeeded, PlaceError, UsageError
from kindred_ledger.places import FolderPlace, read_bytes
from kindred_ledger.progress import Progress, Task
from kindred_ledger.statement import Statement
from kindred_ledger.versions import Version
from tests.support import LONG, PlayCase, kindred, snapshot

KILLS = 20 if LONG else 8


class Saves(PlayCase):
    """A folder of many voyages, made of the demo's."""

    def voyages(self, count: int) -> str:
        """Write so many voyages of formats 3 and 4, each another; return their folder."""
        place = self.install().place
        folder = self.path("many")
        os.makedirs(folder, exist_ok=True)
        names = ("midwinter", "first-crossing", "eel-season", "long-way-round")
        texts = [read_bytes(place, f"user/saves/{name}.voyage") for name in names]
        for number in range(count):
            text = texts[number % len(texts)].replace(
                b'"captain"', b'"voyage": %d, "captain"' % number
            )
            with open(os.path.join(folder, f"voyage {number:03}.voyage"), "wb") as file:
                file.write(text)
        return folder

    def change(self, folder: str, **options: Any) -> Any:
        ledger = self.ledger()
        return convert_files(FolderPlace(folder), self.card, ledger=ledger, version="6", **options)


class Bulk(Saves):
    def test_any_executor_gives_the_same(self) -> None:
        """Threads, processes, or nobody else: the same actions, books, losses and notes, in one order."""
        folder = self.voyages(40)
        room = ResultCache(self.path("room"))
        told = [self.change(folder), self.change(folder, work=Work(cache=room))]
        for pool, kept in (
            (ThreadPoolExecutor(3), None),
            (ProcessPoolExecutor(2), ResultCache(self.path("room 2"))),
        ):
            with pool:
                told.append(self.change(folder, work=Work(pool, 2, kept)))
        plain = [
            (
                [(a.path, a.after, a.reason) for a in change.actions],
                change.statements,
                change.losses,
                change.notes,
            )
            for change in told
        ]
        self.assertEqual(len(plain[0][0]), 40)
        for other in plain[1:]:
            self.assertEqual(other, plain[0])
        for change in told[1::2]:  # what lies in a room is what is written
            for action in change.actions:
                self.assertEqual(
                    len(read_bytes(action.source, action.source_path)), action.after.size
                )

    def test_finished_files_are_not_done_twice(self) -> None:
        """What a room has is taken from there, unless it is damaged, or anything it was made of differs."""
        folder = self.voyages(6)
        room = ResultCache(self.path("room"))
        first = self.change(folder, work=Work(cache=room))
        keys = [action.source_path for action in first.actions]
        before = {key: os.stat(room.path(key)).st_ino for key in keys}
        with open(room.path(keys[2]), "r+b") as file:
            file.write(b"damage")
        again = self.change(folder, work=Work(cache=room))
        self.assertEqual([a.source_path for a in again.actions], keys)
        redone = [key for key in keys if os.stat(room.path(key)).st_ino != before[key]]
        self.assertEqual(redone, [keys[2]])
        with open(self.path("mossferry.card.toml"), "a", encoding="utf-8") as file:
            file.write("# another card\n")
        other = self.change(folder, work=Work(cache=room))
        self.assertFalse({a.source_path for a in other.actions} & {*keys})

    def test_one_that_fails_stops_no_other(self) -> None:
        """Damaged, at sea, of an unknown format: each listed with its place; the others are there."""
        folder = self.voyages(12)
        for name, edit in (
            ("voyage 003", lambda text: text[: len(text) // 2]),
            ("voyage 004", lambda text: text.replace(b'"moored": true', b'"moored": false')),
            ("voyage 005", lambda text: text.replace(b'"format": 3', b'"format": 77')),
        ):
            path = os.path.join(folder, f"{name}.voyage")
            with open(path, "rb") as file:
                text = file.read()
            with open(path, "wb") as file:
                file.write(edit(text))
        with ThreadPoolExecutor(2) as pool:
            change = self.change(folder, work=Work(pool, 2))
        self.assertEqual(len(change.actions), 9)
        told = {conflict.where: conflict.what for conflict in change.conflicts}
        self.assertEqual(sorted(told), [f"voyage {n:03}.voyage" for n in (3, 4, 5)])
        self.assertIn("no valid JSON", told["voyage 003.voyage"])
        self.assertIn("moor at a quay", told["voyage 004.voyage"])
        self.assertIn("does not know", told["voyage 005.voyage"])
        with self.assertRaises(DecisionNeeded):
            change.apply(self.ledger(), allow_loss=True)

    def test_outputs_beside_never_share_a_name(self) -> None:
        """Whatever is there already, and whatever the case of letters."""
        folder = self.voyages(2)
        for name in ("Voyage 000.voyage", "voyage 000.6.voyage", "VOYAGE 001.6.VOYAGE"):
            os.link(os.path.join(folder, "voyage 001.voyage"), os.path.join(folder, name))
        before = snapshot(folder)
        ledger = self.ledger()
        change = self.change(folder, beside=True)
        names = [action.path for action in change.actions]
        self.assertEqual(
            len({name.casefold() for name in (*names, *os.listdir(folder))}), len(names) + 4
        )
        change.apply(ledger, allow_loss=True)
        after = snapshot(folder)
        self.assertEqual({name: after[name] for name in before}, before)
        for name in names:
            with open(os.path.join(folder, name), "rb") as file:
                self.assertEqual(json.loads(file.read())["format"], 6)

    def test_from_totals_to_single_fields(self) -> None:
        """Long lists are one line each; a row that is asked for has its own, and the totals are the same."""
        path = self.path("long.voyage")
        with open(self.path("mossferry", "userdata", "saves", "midwinter.voyage"), "rb") as file:
            voyage = json.loads(file.read())
        voyage["crew"] = [{**voyage["crew"][0], "id": number} for number in range(1200)]
        voyage["log"] = [f"day {number}: wet" for number in range(2000)]
        with open(path, "w", encoding="utf-8") as file:
            json.dump(voyage, file, indent=1)
        told = []
        for field in ("crew*", "crew[1199].*", "log[17]"):
            command = ("convert", path, "--to-format", "6", "--dry-run", "--field", field)
            books = self.kindred(*command)["change"]["books"][0]
            told.append([(x["outcome"], x["item"], x.get("count", 1)) for x in books.pop("lines")])
            self.assertEqual(books["totals"], {**books["totals"], "changed": 2004, "added": 1201})
        self.assertIn(("added", "crew[*].morale", 1200), told[0])
        self.assertIn(("added", "crew[1199].morale", 1), told[1])
        self.assertEqual(told[2], [("changed", "log[17]", 1)])

    def test_what_is_there_already_is_not_made_again(self) -> None:
        """Beside the originals, once more, as after a recovery: nothing is left to do; what differs is."""
        folder = self.voyages(4)
        ledger = self.ledger()

        def beside() -> Any:
            return self.change(folder, beside=True, only=lambda path: path.count(".") == 1)

        beside().apply(ledger, allow_loss=True)
        after = snapshot(folder)
        again = beside()
        self.assertEqual(again.actions, ())
        self.assertEqual(sum("is there already as" in str(note) for note in again.notes), 4)
        name = next(path for path in after if ".6." in path)
        with open(os.path.join(folder, name), "ab") as file:
            file.write(b"\n")
        (action,) = beside().actions
        self.assertIn(".6 2.", action.path)

    def test_a_worker_that_dies(self) -> None:
        """What it and the others had is converted by another; the result is the same."""
        folder = self.voyages(12)
        told = self.change(folder)
        with ProcessPoolExecutor(2, initializer=os._exit, initargs=(9,)) as pool:
            change = self.change(folder, work=Work(pool, 2))
        self.assertEqual([a.path for a in change.actions], [a.path for a in told.actions])
        self.assertEqual(change.statements, told.statements)
        self.assertEqual(change.conflicts, ())

    def test_a_full_disk_is_no_decision(self) -> None:
        """It is the system that refuses, not a file that needs one."""

        class Full(ResultCache):
            def put(self, done: Any, data: bytes) -> None:
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), self.path(done.key))

        from kindred_ledger.convert import bulk

        folder = self.voyages(3)
        real, bulk.ResultCache = bulk.ResultCache, Full  # type: ignore[misc]
        try:
            with self.assertRaisesRegex(PlaceError, "No space left") as caught:
                self.change(folder, work=Work(cache=Full(self.path("room"))))
        finally:
            bulk.ResultCache = real  # type: ignore[misc]
        self.assertEqual(caught.exception.exit_status, 4)
        self.assertIn("Free some space", caught.exception.remedy)

    def test_fields_of_very_many_files(self) -> None:
        """Those asked for are shown, though what was kept is one line a file; a wrong name is told."""
        folder = self.voyages(201)
        command = ("convert", folder, "--to-format", "6", "--dry-run", "--field")
        books = self.kindred(*command, "ship.name")["change"]["books"]
        shown = [[(x["outcome"], x["item"]) for x in one["lines"]] for one in books]
        self.assertEqual(shown, [[("unchanged", "ship.name")]] * 201)
        told = self.kindred(*command, "ship.nam", status=2)["error"]
        self.assertIn("no file or field here fits 'ship.nam'", told["what"])

    def test_it_stops_when_asked(self) -> None:
        """Nothing is written, and no job goes on."""

        class Impatient(Progress):
            def moved(self, task: Task) -> None:
                if task.label == "converting" and task.done == 3:
                    self.cancel()

        folder = self.voyages(30)
        before = snapshot(folder)
        with ThreadPoolExecutor(2) as pool, self.assertRaises(Cancelled):
            self.change(folder, work=Work(pool, 2), progress=Impatient())
        self.assertEqual(snapshot(folder), before)
        with self.assertRaisesRegex(UsageError, "either a build or a format version"):
            convert_files(FolderPlace(folder), self.card, ledger=self.ledger())

    def test_what_does_not_come_back_is_named(self) -> None:
        """Of each file of the install: the fields that are lost on the way there and back, and no others."""
        proofs: dict[str, Any] = dict(prove_install(self.install(), Version.parse("2.0")))
        self.assertTrue(proofs["user/controls.json"].same_bytes)
        told = {
            d.name: (d.before, d.after) for d in proofs["user/saves/midwinter.voyage"].unrecovered
        }
        self.assertEqual(set(told), {"ship.lantern_glow", "scratch.seed_hash", "scratch"})
        self.assertEqual(told["scratch"], (None, "{}"))
        oldest = proofs["user/saves/first-crossing.voyage"]
        self.assertEqual({d.name: d.after for d in oldest.unrecovered}["build"], '"1.3"')
        done = self.kindred("convert", "mossferry", "--to", "2.0", "--prove", status=1)
        self.assertEqual(len(done["proofs"]), 6)
        loose = self.kindred(
            "convert", "mossferry/userdata/saves", "--to", "2.0", "--prove", status=1
        )
        saves = {f"user/saves/{one['file']}": one for one in loose["proofs"]}
        for one in done["proofs"]:
            if one["file"] in saves:
                self.assertEqual(one["unrecovered"], saves[one["file"]]["unrecovered"])
        self.assertEqual(len(saves), 4)
        with self.assertRaisesRegex(UsageError, "either a build or a format version"):
            next(prove_files(FolderPlace(self.path("mossferry")), self.card))

    def test_the_same_is_told_once(self) -> None:
        """Files that come back alike, or for which there is no way back, stand together."""
        folder = self.voyages(1)
        path = os.path.join(folder, sorted(os.listdir(folder))[0])
        for number in range(17):
            shutil.copy(path, f"{path[:-7]}{number}.voyage")
        told = kindred("convert", folder, "--to-format", "5", "--prove", folder=self.folder).stdout
        self.assertIn(", and 17 more files", told)
        self.assertEqual(told.count("→"), 2, told)
        self.assertIn("0 of 18 files come back byte for byte", told)


class Killed(Saves):
    def test_a_run_killed_again_and_again_ends_with_the_same_bytes(self) -> None:
        """As one that was not; what was finished before a kill is not done again."""
        folder = self.voyages(1500)
        whole = self.path("whole")
        subprocess.run(["cp", "-r", folder, whole], check=True)
        self.assertEqual(self._run("whole", {"KINDRED_LEDGER": "other"}).wait(120), 0)
        wanted = contents(whole)
        room = self.path("ledger", "work", "converted")
        rng = random.Random(4)
        kills, seen, grown = 0, set[str](), 0
        start, patience = time.monotonic(), 1.0
        while kills < KILLS and time.monotonic() - start < 120:
            process = self._run("many")
            time.sleep(rng.uniform(0.3, 0.6) * patience)
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGKILL)
                kills += 1
            process.wait(60)
            now = {name for name in _inside(room) if name.endswith(".json")}
            self.assertLessEqual(seen, now or seen)
            grown += len(now) > len(seen)
            patience *= (
                1.0 if len(now) > len(seen) else 1.3
            )  # on a slow machine starting takes long
            seen = now
            if process.returncode == 0:
                break  # faster than the kills; all is done
        kindred("recover", folder=self.folder)
        self.assertEqual(self._run("many").wait(120), 0)
        self.assertEqual(contents(folder), wanted)
        self.assertGreater(kills, 2)
        self.assertGreater(grown, 1)
        self.assertEqual([name for name in _inside(room) if not name.endswith(".new")], [])

    def test_results_that_were_taken_are_cleared(self) -> None:
        """A conversion that was cut off when it was recorded left them; others wait to be gone on with."""
        folder = self.voyages(2)
        self.assertEqual(self._run("many").wait(120), 0)
        room = ResultCache(self.path("ledger", "work", "converted", "of-a-place"))
        room.tidy()
        for key, data in (("0a", next(iter(contents(folder).values()))), ("0b", b"not yet")):
            digest = blake3(data).digest()
            books = Statement("x", "fields", ())
            room.put(Done("p", "f", "1", "2", key, len(data), digest, books, ()), data)
        told = json.loads(kindred("recover", "--json", folder=self.folder).stdout)
        self.assertEqual(told["left_overs"], ["1 result of a conversion that was finished"])
        self.assertEqual(_names(room.folder), ["0b", "0b.json"])

    def _run(self, name: str, environment: dict[str, str] | None = None) -> subprocess.Popen[bytes]:
        command = ("convert", name, "--to-format", "6", "--workers", "2", "--yes", "--allow-loss")
        return subprocess.Popen(
            [sys.executable, "-m", "kindred_ledger.cli.main", *command],
            cwd=self.folder,
            env={**os.environ, "KINDRED_LEDGER": "ledger", **(environment or {})},
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
        )


def contents(folder: str) -> dict[str, bytes]:
    """Return the bytes of the files of a folder."""
    place = FolderPlace(folder)
    return {path: read_bytes(place, path) for path in place.survey().files}


def _inside(folder: str) -> list[str]:
    """Return the names in the folders of a folder."""
    return [name for each in _names(folder) for name in _names(os.path.join(folder, each))]


def _names(folder: str) -> list[str]:
    return sorted(os.listdir(folder)) if os.path.isdir(folder) else []
