"""Changes of what lies on remotes: one contract for every kind, and what servers do to people.

Servers that break off at each command, are full, lie, refuse, or are written to meanwhile: nothing is
lost, never a mix after `recover`, and the next run goes on.
"""

from __future__ import annotations

import contextlib
import os
import random
import shutil
import time
import unittest
from collections import Counter
from collections.abc import Iterator
from contextlib import AbstractContextManager, nullcontext
from typing import Any
from unittest import mock

from kindred_ledger.changes import Action, Changeset, recover, restore, undo
from kindred_ledger.demo.rented_server import rented_server
from kindred_ledger.errors import KindredError, PlaceBusy, PlaceChanged, PlaceError
from kindred_ledger.ledger import Ledger
from kindred_ledger.places import MemoryPlace, read_bytes, scan
from kindred_ledger.places.remotes import Login, Remote, RemotePlace, connect
from tests.servers import Manner, object_store, sftp_server, webdav_server
from tests.support import LONG, Case, change_to, write

_STEP = 1 if LONG else 5
OLD = {
    "server.cfg": b"players = 4\n",
    "worlds/bog.world": b"bog" * 100_000,
    "worlds/reed.world": b"reed" * 50_000,
    "logs/old.log": b"calm\n" * 10,
}
NEW = {
    "server.cfg": b"players = 8\n",
    "worlds/bog.world": b"bog" * 100_000,
    "worlds/reed.world": b"REED" * 150_000,
    "mods/lantern/lantern.dat": b"glow" * 1000,
}


class RemoteCase(Case):
    """A served folder with OLD in it, and a ledger that knows how to connect to it."""

    kind = ""

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return rented_server(self.path("served"), self.folder, tls=False, manner=Manner)

    def setUp(self) -> None:
        super().setUp()
        Manner.reset()
        self.addCleanup(Manner.reset)
        os.mkdir(self.path("served"))
        url, self.login = self.enterContext(self.serve())
        self.url = f"{url}/mossferry server"
        self.remote = self.open()
        self.remote.make_folder("")
        self.fill(OLD)
        self.kept = self.ledger(connect=lambda url: self.open())
        self.place = RemotePlace(self.remote)

    def open(self) -> Remote:
        remote = connect(self.url, self.login)
        self.addCleanup(remote.close)
        return remote

    def fill(self, files: dict[str, bytes]) -> None:
        for path, data in files.items():
            self.remote.make_folder(path.rpartition("/")[0])
            self.remote.write(path, [data])

    def there(self) -> dict[str, bytes]:
        """Return what is on the remote: read with no code of changes, work folders included."""

        def walk(folder: str) -> Iterator[str]:
            found = self.remote.inside(folder)
            start = f"{folder}/" if folder else ""
            yield from (start + one.name for one in found.files)
            for name in found.folders:
                yield from walk(start + name)

        return {path: b"".join(self.remote.read(path)) for path in walk("")}

    def change(self, new: dict[str, bytes] = NEW) -> Changeset:
        """Return the change to other contents, folders that are left empty removed."""
        change = change_to(self.place, new)
        filled = {part for path in new for part in _above(path)}
        gone = [p for p, n in change.after.items() if n.kind == "dir" and p not in filled]
        actions = [Action(path, change.before[path], None, reason="empty") for path in gone]
        return Changeset(self.place, "test", "a test", change.before, (*change.actions, *actions))

    def assert_clean(self) -> None:
        left = os.listdir(self.path("ledger", "work"))
        self.assertEqual([name for name in left if name.startswith("change-")], [])
        self.assertNotIn(".kindred-work", self.remote.inside("").folders)


def _above(path: str) -> list[str]:
    parts = path.split("/")[:-1]
    return ["/".join(parts[: n + 1]) for n in range(len(parts))]


class Contract:
    """What holds for every kind of remote."""

    def test_there_and_back(self) -> None:
        """Through made-up contents, each undone and done again: bytes hold, and the books by count."""
        rng = random.Random(self.kind)
        names = ["a.cfg", "b/c.world", "b/d e.world", "b/f/g.dat", "ü/h.txt"]
        for turn in range(4):
            new = {
                name: rng.randbytes(rng.choice((0, 10, 70_000)))
                for name in names
                if rng.random() < 0.7
            } or {"a.cfg": b"one"}
            before = self.there()
            done = self.change(new).apply(self.kept)
            self.assertEqual(self.there(), new, turn)
            books = done.statements[0]
            self.assertEqual((books.counted_before, books.counted_after), (len(before), len(new)))
            back = undo(done.record.id, ledger=self.kept).apply(self.kept, allow_loss=True)
            self.assertEqual(self.there(), before, turn)
            undo(back.record.id, ledger=self.kept).apply(self.kept, allow_loss=True)
            self.assertEqual(self.there(), new, turn)
            self.assert_clean()

    def test_what_is_not_its_own_is_not_touched(self) -> None:
        """Of what did not change nothing is written; a link cannot be sent, and that is said first."""
        stamps = {one.name: one.changed for one in self.remote.inside("worlds").files}
        self.change().apply(self.kept)
        after = {one.name: one.changed for one in self.remote.inside("worlds").files}
        self.assertEqual(after["bog.world"], stamps["bog.world"])
        with self.assertRaisesRegex(KindredError, "a link, and a server holds none"):
            change_to(self.place, {**NEW, "link": "server.cfg"})


class Folder(Contract, RemoteCase):
    kind = "folder"

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return nullcontext((f"file://{self.path('served')}", Login()))


class FtpWithTls(Contract, RemoteCase):
    kind = "ftps"

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return rented_server(self.path("served"), self.folder)


class FtpWithoutRenames(Contract, RemoteCase):
    kind = "no renames"

    def setUp(self) -> None:
        super().setUp()
        Manner.refused = {"RNFR"}


class FtpOfOldDays(Contract, RemoteCase):
    """No facts, no times, no way to set them."""

    kind = "old"

    def setUp(self) -> None:
        super().setUp()
        Manner.refused = {"MLSD", "MLST", "MDTM", "MFMT"}


class Sftp(Contract, RemoteCase):
    kind = "sftp"

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return sftp_server(self.path("served"))


class Webdav(Contract, RemoteCase):
    kind = "webdav"

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return webdav_server(self.path("served"))


class Objects(Contract, RemoteCase):
    kind = "s3"

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return object_store()


class Faults(RemoteCase):
    """What a server over FTP does to people."""

    def setUp(self) -> None:
        super().setUp()
        self.enterContext(mock.patch("kindred_ledger.changes.remote._PAUSES_SECONDS", (0.0, 0.0)))

    def fresh(self) -> None:
        """Put everything back to where it began, as if nothing had been tried."""
        Manner.reset()
        self.remote.close()
        shutil.rmtree(self.path("served"))
        os.mkdir(self.path("served"))
        self.remote.make_folder("")
        self.fill(OLD)
        self.remote.close()

    def test_it_drops_the_connection_at_each_command(self) -> None:
        """Once, or for good: before or after, when recovered, and never a mix; the next run goes on."""
        Manner.count = 0
        self.change().apply(self.kept)
        commands = Manner.count
        self.assertGreater(commands, 60)
        outcomes: Counter[str] = Counter()
        for stay_away in (False, True):
            for at in range(1, commands + 1, _STEP):
                self.fresh()
                Manner.drop_at, Manner.stay_away = at, stay_away
                back = at % 2 == 1
                try:
                    self.change().apply(self.kept)
                    outcomes["done"] += 1
                except KindredError as error:
                    outcomes[type(error).__name__] += 1
                    self.assertTrue(error.remedy, error)
                Manner.reset()
                self.remote.close()
                recover(self.kept, back=back)
                self.assertIn(self.there(), (OLD, NEW), (at, stay_away))
                self.assert_clean()
                if self.there() == OLD:
                    self.change().apply(self.kept)
                    self.assertEqual(self.there(), NEW)
                    self.assert_clean()
        points = commands // _STEP
        self.assertGreater(outcomes["PlaceError"], points // 3, outcomes)
        self.assertGreater(outcomes["done"], points // 3, outcomes)

    @unittest.skipUnless(hasattr(os, "fork"), "there is no fork")
    def test_the_program_dies(self) -> None:
        """Without a word, at each thing it asks of the server: `recover` ends it either way."""
        for refused in (set[str](), {"RNFR"}):
            at, alive = 0, False
            outcomes: Counter[str] = Counter()
            while not alive:
                at += _STEP
                self.fresh()
                Manner.refused = refused
                alive = self.dies_at(at)
                self.remote.close()
                outcomes += Counter(
                    one.outcome for one in recover(self.kept, back=at // 2 % 2 == 1)
                )
                self.assertIn(self.there(), (OLD, NEW), (at, refused))
                self.assert_clean()
            self.assertEqual(self.there(), NEW)
            self.assertTrue({"finished", "taken back"} <= outcomes.keys(), outcomes)

    def dies_at(self, number: int) -> bool:
        """Change everything in a process that dies before or after a call; tell whether it lived."""
        child = os.fork()
        if child:
            return os.waitpid(child, 0)[1] == 0
        with contextlib.suppress(BaseException):
            remote: Any = _Dying(connect(self.url, self.login), number)
            ledger = Ledger.open(self.path("ledger"), connect=lambda url: remote)
            self.place = RemotePlace(remote)
            self.change().apply(ledger)
            os._exit(0)
        os._exit(1)

    def test_what_came_through_is_not_sent_again(self) -> None:
        """A line that breaks in a large file: the next run sends what is left of it."""
        large = {**OLD, "worlds/wide.world": os.urandom(6 << 20)}
        sent: list[str] = []
        Manner.before, Manner.cut_after = lambda cmd, *args: sent.append(cmd), 4 << 20
        with self.assertRaisesRegex(PlaceError, "waits: run this again to go on"):
            self.change(large).apply(self.kept)
        Manner.reset()
        self.assertEqual({**self.there(), **OLD}.keys() - OLD.keys(), {*self.waiting()})
        part = sum(map(len, (self.there()[path] for path in self.waiting() if "/new/" in path)))
        self.assertGreater(part, 1 << 20)
        Manner.before = lambda cmd, *args: sent.append(cmd)
        self.change(large).apply(self.kept)
        self.assertLess(Manner.stored, len(large["worlds/wide.world"]) - part + 50_000)
        self.assertIn("REST", sent)
        self.assertEqual(self.there(), large)
        self.assert_clean()

    def waiting(self) -> list[str]:
        return [path for path in self.there() if path.startswith(".kindred-work/")]

    def test_recover_lets_go_of_what_waits(self) -> None:
        Manner.room = 4500
        with self.assertRaisesRegex(PlaceError, "disk there is full"):
            self.change().apply(self.kept)
        Manner.reset()
        self.assertTrue(self.waiting())
        self.assertEqual([one.outcome for one in recover(self.kept)], ["taken back"])
        self.assertEqual(self.there(), OLD)
        self.assert_clean()

    def test_it_keeps_less_than_it_took(self) -> None:
        """A server that says all is well and stores half: noticed before anything is replaced."""
        Manner.halves = True
        with self.assertRaisesRegex(PlaceError, "could not be verified"):
            self.change().apply(self.kept)
        Manner.reset()
        recover(self.kept)
        self.assertEqual(self.there(), OLD)

    def test_it_lies_about_sizes(self) -> None:
        """A listing with wrong sizes is no reason to keep something that is not there."""
        Manner.refused, Manner.lie = {"MLSD"}, 5
        with self.assertRaisesRegex(PlaceChanged, "changes while it is read"):
            scan(self.place, tries=2)
        Manner.reset()
        change = self.change()
        Manner.lie = 5
        with contextlib.suppress(KindredError):
            change.apply(self.kept)
        Manner.reset()
        recover(self.kept, back=True)
        self.assertIn(self.there(), (OLD, NEW))

    def test_files_change_meanwhile(self) -> None:
        """Between looking, keeping and replacing, to the same size and time: it is there, or is kept."""
        path = self.path("served", "mossferry server", "worlds", "reed.world")
        for moment in ("STOR", "RNFR", "RNTO", "RETR"):
            for number in range(1, 12, _STEP):
                self.fresh()
                theirs = (b"%d" % number).ljust(len(OLD["worlds/reed.world"]))
                writer = _Writer(path, moment, number, theirs)
                change = self.change()
                Manner.before = writer.write
                with contextlib.suppress(KindredError):
                    change.apply(self.kept)
                Manner.reset()
                recover(self.kept)
                if writer.wrote:
                    there = self.there()["worlds/reed.world"]
                    self.assertIn(theirs, [there, *self.contents_kept()], (moment, number))
                self.assert_clean()

    def contents_kept(self) -> Iterator[bytes]:
        for entry in self.kept.entries():
            place = self.kept.place(entry)
            for _, blocks in place.read(place.survey().files):
                yield b"".join(blocks)

    def test_evidence_is_no_proof(self) -> None:
        """A file of the same size and time is another one: what is replaced was read, and is kept."""
        self.kept.backup(self.place)
        time.sleep(2.2)
        self.kept.scan(self.place)
        path = self.path("served", "mossferry server", "server.cfg")
        stat = os.stat(path)
        with open(path, "wb") as file:
            file.write(b"players = 7\n")
        os.utime(path, ns=(stat.st_atime_ns, stat.st_mtime_ns))
        before = self.kept.scan(self.place)  # it looks as it was
        source = MemoryPlace({"server.cfg": b"players = 9\n"})
        action = Action(
            "server.cfg", before["server.cfg"], source.survey()["server.cfg"], source, "server.cfg"
        )
        change = Changeset(self.place, "test", "a test", before, (action,))
        with self.assertRaisesRegex(PlaceChanged, r"server\.cfg changed since"):
            change.apply(self.kept)
        self.assertEqual(self.there()["server.cfg"], b"players = 7\n")

    def test_a_clock_that_is_an_hour_off(self) -> None:
        """All times an hour on: everything is read again, and nothing is taken for changed."""
        entry = self.kept.backup(self.place)
        top = self.path("served", "mossferry server")
        for folder, _, files in os.walk(top):
            for name in files:
                path = os.path.join(folder, name)
                os.utime(path, (os.stat(path).st_mtime + 3600,) * 2)
        now = self.kept.scan(self.place)
        self.assertTrue(now.same_content(self.kept.tree(entry)))
        self.assertEqual(restore(entry, self.place, ledger=self.kept).actions, ())

    def test_names_that_cannot_be_held(self) -> None:
        """They are told and left alone; all else is kept and changed."""
        odd = ["logs/2026-11-26 10:04.log", "what?.cfg", "aux", "end. "]
        for name in odd:
            with open(os.path.join(self.path("served", "mossferry server"), name), "wb") as file:
                file.write(b"odd")
        entry = self.kept.backup(self.place)
        tree = self.kept.tree(entry)
        others = sorted(path for path, node in tree.items() if node.kind == "other")
        self.assertEqual(
            others,
            ["aux", "end%2E%20", "logs/2026-11-26%2010%3A04%2Elog", "what%3F%2Ecfg"],
        )
        self.assertEqual({p: read_bytes(self.kept.place(entry), p) for p in tree.files}, OLD)
        back = restore(entry, self.place, ledger=self.kept)
        told = [x.item for x in back.statements[0].lines if "neither file nor link" in x.reason]
        self.assertEqual(sorted(told), others)
        self.assertEqual(back.actions, ())
        change = change_to(self.place, {"server.cfg": b"new"})
        only = [a for a in change.actions if a.path == "server.cfg"]
        Changeset(self.place, "test", "a test", change.before, tuple(only)).apply(self.kept)
        there = self.there()
        self.assertEqual({name: there[name] for name in odd}, dict.fromkeys(odd, b"odd"))
        self.assertEqual(there["server.cfg"], b"new")

    @unittest.skipUnless(hasattr(os, "fork"), "there is no fork")
    def test_another_folder_is_not_taken_for_the_one_that_was_changed(self) -> None:
        """Cut off while renaming, and then the address leads elsewhere: nothing is given up or touched."""
        at = 1
        while not self.waiting() or not any("/old/" in path for path in self.waiting()):
            recover(self.kept, back=True)
            self.fresh()
            at += 2
            self.assertFalse(self.dies_at(at))
            self.remote.close()
        served, hidden = self.path("served", "mossferry server"), self.path("hidden")
        os.rename(served, hidden)
        os.mkdir(served)
        for back in (False, True):
            with self.assertRaisesRegex(PlaceError, "is this another server, or folder"):
                recover(self.kept, back=back)
        self.assertEqual(os.listdir(served), [])
        os.rmdir(served)
        os.rename(hidden, served)
        self.assertEqual([one.outcome for one in recover(self.kept, back=True)], ["taken back"])
        self.assertEqual(self.there(), OLD)
        self.assert_clean()

    def test_what_a_server_says_of_owners_is_not_trusted(self) -> None:
        """Ids that lead elsewhere, escape codes, no end: refused in plain words, nothing here is touched."""
        self.remote.make_folder(".kindred-work")
        victim = self.path("ledger", "victim")
        write(victim, {"journal.json": b"{}"})
        for said in (
            b'{"ledger": "%s", "id": "../victim", "machine": "%s"}'
            % (self.kept.location.encode(), self.kept.machine.encode()),
            b'{"ledger": "x\\u001b[2J", "id": "a", "machine": "\\u0007"}',
        ):
            self.remote.write(".kindred-work/owner.json", [said])
            with self.assertRaises(PlaceBusy) as caught:
                self.change().apply(self.kept)
            self.assertTrue(str(caught.exception).replace("\n", "").isprintable())
        self.assertEqual(os.listdir(victim), ["journal.json"])

    def test_another_machine_is_at_it(self) -> None:
        """What another ledger began, or left, is not meddled with; it is said whose it is."""
        Manner.room = 4500
        with self.assertRaises(PlaceError):
            self.change().apply(self.kept)
        Manner.reset()
        other = self.ledger("other", machine="laptop", connect=lambda url: self.open())
        with self.assertRaisesRegex(PlaceBusy, "is changing this, or was cut off"):
            self.change().apply(other)
        self.change().apply(self.kept)
        self.assertEqual(self.there(), NEW)


class _Writer:
    """The program on the server: writes to a file of its own when the Nth of a command comes in."""

    def __init__(self, path: str, moment: str, number: int, data: bytes) -> None:
        self._path, self._moment, self._left, self._data = path, moment, number, data
        self.wrote = False

    def write(self, command: str, *args: str) -> None:
        self._left -= command == self._moment
        if not self._left and not self.wrote and os.path.exists(self._path):
            stat = os.stat(self._path)
            with open(self._path, "wb") as file:
                file.write(self._data)
            os.utime(self._path, ns=(stat.st_atime_ns, stat.st_mtime_ns))  # no evidence of it
            self.wrote = True


class _Dying:
    """A remote in whose Nth call the process dies, before it or after."""

    def __init__(self, remote: Remote, at: int) -> None:
        self._remote = remote
        self._left = (at + 1) // 2
        self._after = at % 2 == 0

    def __getattr__(self, name: str) -> Any:
        found = getattr(self._remote, name)
        if not callable(found):
            return found

        def call(*args: Any, **options: Any) -> Any:
            self._left -= 1
            if not self._left and not self._after:
                os._exit(9)
            result = found(*args, **options)
            if not self._left:
                os._exit(9)
            return result

        return call


if __name__ == "__main__":
    unittest.main()
