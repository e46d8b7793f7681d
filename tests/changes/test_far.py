"""Changes of what lies on remotes: one contract for every kind, and what servers do to people.

Servers that break off at each command, are full, lie, refuse, or are written to meanwhile: nothing is
lost, never a mix after `recover`, and the next run goes on.
"""

from __future__ import annotations

import os
import random
from collections.abc import Iterator
from contextlib import AbstractContextManager
from typing import Any, ClassVar

from kindred_ledger.changes import Changeset, undo
from kindred_ledger.demo.rented_server import rented_server
from kindred_ledger.errors import KindredError
from kindred_ledger.places.remotes import Login, Remote, RemotePlace, connect
from tests.servers import object_store, sftp_server
from tests.support import Case, change_to

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


class FarCase(Case):
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
        from kindred_ledger.changes import Action

        actions = [Action(path, change.before[path], None, reason="empty") for path in gone]
        return Changeset(self.place, "test", "a test", change.before, (*change.actions, *actions))

    def assert_clean(self) -> None:
        self.assertEqual(os.listdir(self.path("ledger", "work")), [])
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
            self.assertEqual((books.counted_in, books.counted_out), (len(before), len(new)))
            back = undo(self.kept, done.record.id).apply(self.kept, allow_loss=True)
            self.assertEqual(self.there(), before, turn)
            undo(self.kept, back.record.id).apply(self.kept, allow_loss=True)
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


class Folder(Contract, FarCase):
    kind = "folder"

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return _Plain((f"file://{self.path('served')}", Login()))


class FtpWithTls(Contract, FarCase):
    kind = "ftps"

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return rented_server(self.path("served"), self.folder)


class FtpWithoutRenames(Contract, FarCase):
    kind = "no renames"

    def setUp(self) -> None:
        super().setUp()
        Manner.refused = {"RNFR"}


class FtpOfOldDays(Contract, FarCase):
    """No facts, no times, no way to set them."""

    kind = "old"

    def setUp(self) -> None:
        super().setUp()
        Manner.refused = {"MLSD", "MLST", "MDTM", "MFMT"}


class Sftp(Contract, FarCase):
    kind = "sftp"

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return sftp_server(self.path("served"))


class Objects(Contract, FarCase):
    kind = "s3"

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return object_store()


class _Plain(AbstractContextManager[tuple[str, Login]]):
    def __init__(self, value: tuple[str, Login]) -> None:
        self._value = value

    def __enter__(self) -> tuple[str, Login]:
        return self._value

    def __exit__(self, *exc: object) -> None:
        pass


class Manner:
    """How the FTP server misbehaves: comes before pyftpdlib's own handler."""

    refused: ClassVar[set[str]] = set()
    drop_at = 0  # of the commands that come in
    stay_away = False  # after that nobody gets in
    away = False
    count = 0
    room = -1  # bytes that can still be stored
    before: Any = None  # called with each command, before it is carried out
    lie = 0  # bytes that sizes are said to be larger

    @classmethod
    def reset(cls) -> None:
        cls.refused, cls.drop_at, cls.stay_away, cls.away = set(), 0, False, False
        cls.count, cls.room, cls.before, cls.lie = 0, -1, None, 0

    def process_command(self, cmd: str, *args: Any, **kwargs: Any) -> None:
        Manner.count += 1
        if Manner.away or Manner.count == Manner.drop_at:
            Manner.away = Manner.stay_away
            self.close()
            return
        if Manner.before is not None:
            Manner.before(cmd, *args)
        if cmd in Manner.refused:
            self.respond(f"502 {cmd} is not known here.")
            return
        super().process_command(cmd, *args, **kwargs)  # type: ignore[misc]

    def ftp_STOR(self, file: str, mode: str = "w") -> Any:
        if Manner.room >= 0:
            Manner.room -= 1000
            if Manner.room < 0:
                self.respond("552 There is no room left.")
                return None
        return super().ftp_STOR(file, mode)  # type: ignore[misc]

    def ftp_SIZE(self, path: str) -> None:
        if not Manner.lie:
            super().ftp_SIZE(path)  # type: ignore[misc]
            return
        self.respond(f"213 {os.path.getsize(path) + Manner.lie}")
