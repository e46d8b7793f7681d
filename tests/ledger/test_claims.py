"""Making what nobody else may make, on servers that cannot: killed at every send, and waited for."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import threading
import unittest
from contextlib import AbstractContextManager
from typing import Any
from unittest import mock

from msgspec.structs import asdict

from kindred_ledger.demo.rented_server import rented_server
from kindred_ledger.errors import PlaceError
from kindred_ledger.ledger import Ledger, RetentionPolicy, plan_retirement
from kindred_ledger.places.remotes import Login, claims, connect
from tests.ledger.killed_remote import KILLED
from tests.servers import object_store, sftp_server, webdav_server
from tests.support import LONG, ROOT, Case

_LEASE = "kindred_ledger.places.remotes.{}.LEASE_SECONDS"


@unittest.skipUnless(hasattr(os, "fork"), "there is no fork")
class Killed:
    """The making of a ledger and its first backup."""

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        raise NotImplementedError

    def setUp(self) -> None:
        super().setUp()  # type: ignore[misc]
        os.mkdir(self.path("served"))  # type: ignore[attr-defined]
        url, login = self.enterContext(self.serve())  # type: ignore[attr-defined]
        command = [sys.executable, "-m", "tests.ledger.killed_remote", self.folder, url]  # type: ignore[attr-defined]
        self.program: Any = self.enterContext(  # type: ignore[attr-defined]
            subprocess.Popen(
                [*command, json.dumps(asdict(login))],
                cwd=ROOT,
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                text=True,
            )
        )

    def done(self, name: str, dies_at: int = 0) -> tuple[int, int, str]:
        """Return how a process ended, what it sent, and what it said."""
        self.program.stdin.write(f"{name} {dies_at}\n")
        self.program.stdin.flush()
        status, sends, said = json.loads(self.program.stdout.readline())
        return status, sends, said

    def test_at_every_send(self) -> None:
        """Whatever is left there, the next command makes the ledger, backs up and finds no fault."""
        check: Any = self
        status, sends, said = self.done("whole")
        check.assertEqual(status, 0, said)
        check.assertGreater(sends, 20)
        for at in range(1, sends, 1 if LONG else max(3, sends // 15)):
            check.assertEqual(self.done(f"at {at}", at)[0], KILLED)
            status, _, said = self.done(f"at {at}")
            check.assertEqual(status, 0, (at, said))
        self.program.stdin.close()


class KilledOverFtp(Killed, Case):
    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return rented_server(self.path("served"), self.folder)


class KilledOverSftp(Killed, Case):
    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return sftp_server(self.path("served"))


class KilledOverWebDav(Killed, Case):
    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return webdav_server(self.path("served"))


class KilledObjects(Killed, Case):
    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return object_store()


class Claims(Case):
    def setUp(self) -> None:
        super().setUp()
        os.mkdir(self.path("served"))
        self.url, self.login = self.enterContext(rented_server(self.path("served"), self.folder))
        self.enterContext(mock.patch(_LEASE.format("claims"), 1.5))
        self.enterContext(mock.patch(_LEASE.format("server"), 1.5))

    def remote(self) -> Any:
        remote = connect(self.url, self.login)
        self.addCleanup(remote.close)
        return remote

    def left(self, owner: str) -> None:
        os.mkdir(self.path("served", "x.claim"))
        if owner:
            with open(self.path("served", f"x.{owner}.part"), "wb") as file:
                file.write(b"theirs")

    def create(self) -> float:
        watch = claims.Watch("")
        self.remote().create("x", b"mine")
        with open(self.path("served", "x"), "rb") as file:
            self.assertEqual(file.read(), b"mine")
        self.assertNotIn("x.claim", os.listdir(self.path("served")))
        return watch.seconds()

    def test_of_a_machine_that_is_gone(self) -> None:
        """It holds for a lease, from when it is seen; then somebody else goes on, and its part stays."""
        self.left("0badf00d-1-00000000")
        self.assertGreater(self.create(), 2.2)
        self.assertIn("x.0badf00d-1-00000000.part", os.listdir(self.path("served")))

    def test_of_nobody(self) -> None:
        """Without a part, or with that of a process of this machine that died, it is taken at once."""
        for owner in ("", _dead()):
            self.left(owner)
            self.assertLess(self.create(), 2.2)  # before a lease is over
            self.assertEqual(os.listdir(self.path("served")), ["x"])
            os.remove(self.path("served", "x"))

    def test_who_is_too_slow_gives_up(self) -> None:
        """A maker that a server keeps waiting for longer than a lease makes nothing."""
        remote = self.remote()
        look = remote.stat

        def slow(path: str) -> Any:
            claims.time.sleep(1.7)
            return look(path)

        with (
            mock.patch.object(remote, "stat", slow),
            self.assertRaisesRegex(PlaceError, "too long"),
        ):
            remote.create("x", b"late")
        self.assertEqual(os.listdir(self.path("served")), [])

    def test_several_at_once(self) -> None:
        """One of them makes it, the others are told that it is there; also beside a claim of nobody."""
        for round in range(3):
            if round:
                self.left("" if round == 1 else _dead())
            made: list[str] = []
            barrier = threading.Barrier(6)

            def make(name: str, made: list[str] = made, start: Any = barrier) -> None:
                remote = connect(self.url, self.login)
                start.wait()
                try:
                    with contextlib.suppress(FileExistsError):
                        remote.create("x", name.encode())
                        made.append(name)
                finally:
                    remote.close()

            threads = [threading.Thread(target=make, args=(str(n),)) for n in range(6)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            self.assertEqual(len(made), 1, round)
            with open(self.path("served", "x"), encoding="ascii") as file:
                self.assertEqual(file.read(), made[0])
            os.remove(self.path("served", "x"))

    def test_what_is_left_goes_with_the_next_retire(self) -> None:
        """Parts that are days old, and claims of nobody; what may be under way stays."""
        ledger = Ledger.open(self.remote(), local_cache=self.path("near"))
        self.addCleanup(ledger.index.close)
        ledger.backup(self.place({"a": b"moss"}))
        before = sorted(os.listdir(self.path("served", "entries")))
        for name, days in (("old", 3), ("young", 0)):
            os.mkdir(self.path("served", "entries", f"{name}.claim"))
            part = self.path("served", "entries", f"{name}.0badf00d-1-00000000.part")
            with open(part, "wb"):
                pass
            os.utime(part, (os.stat(part).st_mtime - days * 86_400,) * 2)
        os.mkdir(self.path("served", "entries", "bare.claim"))
        for _ in range(2):  # the claim of the old part is nobody's from then on
            plan_retirement(ledger, RetentionPolicy(last=9)).carry_out(ledger)
        left = sorted({*os.listdir(self.path("served", "entries"))} - {*before})
        self.assertEqual(left, ["young.0badf00d-1-00000000.part", "young.claim"])

    def test_where_no_folder_can_be_made(self) -> None:
        """That is said, and not that the file is there."""
        remote = self.remote()
        with (
            mock.patch.object(remote, "_claim", lambda path: False),
            self.assertRaisesRegex(PlaceError, "makes no folder"),
        ):
            remote.create("x", b"mine")
        self.assertEqual(os.listdir(self.path("served")), [])


def _dead() -> str:
    """Return an owner of this machine whose process is over."""
    with subprocess.Popen([sys.executable, "-c", ""]) as program:
        pass
    with claims.owned() as owner:
        machine, _, rest = owner.split("-")
    return f"{machine}-{program.pid}-{rest}"
