"""Remotes: one contract for every kind, on real servers; who may be trusted, and with what."""

from __future__ import annotations

import os
import threading
import time
import unittest
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, nullcontext
from http.server import BaseHTTPRequestHandler, HTTPServer

from kindred_ledger.demo.rented_server import rented_server
from kindred_ledger.errors import KindredError, PlaceError, UsageError, Vanished
from kindred_ledger.places import read_bytes
from kindred_ledger.places.remotes import (
    Login,
    Remote,
    RemotePlace,
    connect,
    digest_of,
    fetch,
    login_for,
    send,
)
from tests.servers import PASSWORD, USER, object_store, sftp_server, webdav_server
from tests.support import Case


class Contract:
    """What holds for every kind of remote; a kind says by `serve` how to start one."""

    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        raise NotImplementedError

    def setUp(self) -> None:
        super().setUp()
        os.mkdir(self.path("served"))
        url, self.login = self.enterContext(self.serve())
        self.url = f"{url}/ledger of ferries"
        self.remote = self.open()
        self.remote.make_folder("packs")

    def open(self) -> Remote:
        remote = connect(self.url, self.login)
        self.addCleanup(remote.close)
        return remote

    def read(self, path: str, **part: int) -> bytes:
        return b"".join(self.remote.read(path, **part))

    def test_what_was_written_is_there(self) -> None:
        """Whole, from an offset, a part; by name, size and time; of any size; from anywhere."""
        data = os.urandom(5 << 20)
        for name, content in (("big", data), ("none", b""), ("ümläut name", b"moss")):
            self.remote.write(f"packs/{name}", iter([content[: 1 << 20], content[1 << 20 :]]))
            self.assertEqual(self.read(f"packs/{name}"), content)
        self.assertEqual(self.read("packs/big", start=4 << 20), data[4 << 20 :])
        self.assertEqual(self.read("packs/big", start=100, length=2000), data[100:2100])
        self.assertEqual(self.read("packs/big", start=len(data) - 5, length=50), data[-5:])
        self.assertEqual(self.read("packs/big"), data)  # after one that was left in the middle
        found = self.open().list("packs")
        sizes = [("big", len(data)), ("none", 0), ("ümläut name", 4)]
        self.assertEqual([(one.name, one.size) for one in found], sizes)
        self.assertTrue(all(one.changed for one in found))
        self.assertEqual(self.remote.stat("packs/big"), found[0])

    def test_what_is_not_there(self) -> None:
        self.assertEqual(self.remote.list("nowhere"), [])
        self.assertEqual(self.remote.list("packs"), [])
        for none in ("packs/none", "packs"):  # a folder is no file
            self.assertIsNone(self.remote.stat(none))
        self.remote.delete("packs/none")
        with self.assertRaises(Vanished):
            self.read("packs/none")
        with self.assertRaises(Vanished):
            fetch(self.remote, "packs/none", self.path("here"))
        self.assertEqual(digest_of(self.remote, "packs/none"), b"")

    def test_a_listing_while_files_come_and_go(self) -> None:
        """What was there all the while is listed each time, whatever vanishes beside it."""
        folder = self.path("served", "ledger of ferries", "packs")
        if not os.path.isdir(folder):
            self.skipTest("what it serves is no folder here")
        kept = [f"kept{number}" for number in range(20)]
        for name in kept:
            self.remote.write(f"packs/{name}", iter([b"moss"]))
        stop = threading.Event()

        def churn(number: int) -> None:
            turn = 0
            while not stop.is_set():
                path = os.path.join(folder, f"{number}-{turn % 50}")
                with open(path + ".part", "wb"):
                    pass
                os.rename(path + ".part", path)
                os.remove(path)
                turn += 1
                stop.wait(0.0005)  # as fast as machines write, not as fast as this one can

        with ThreadPoolExecutor(2) as pool:
            churning = [pool.submit(churn, number) for number in range(2)]
            try:
                for _ in range(200):
                    names = {one.name for one in self.remote.list("packs")}
                    self.assertLessEqual(set(kept), names)
            finally:
                stop.set()
            for each in churning:
                each.result()

    def test_a_remote_is_a_place(self) -> None:
        """Kept with all its folders; what is as it was, by size and time, is not fetched again."""
        self.remote.make_folder("worlds/deep")
        files = {"top.cfg": b"a = 1", "worlds/a.bog": os.urandom(300_000), "worlds/deep/b": b"b"}
        for path, data in files.items():
            self.remote.write(path, [data])
        ledger = self.ledger()
        place = RemotePlace(self.remote)
        entry = ledger.backup(place)
        kept = ledger.place(entry)
        self.assertEqual({p: read_bytes(kept, p) for p in kept.survey().files}, files)
        fetched: list[str] = []
        read = self.remote.read

        def counted(path: str, **part: int) -> Iterator[bytes]:
            fetched.append(path)
            return read(path, **part)

        time.sleep(2.2)  # what was changed just now may change again within a tick of its clock
        self.remote.read = counted  # type: ignore[method-assign]
        ledger.scan(place)
        fetched.clear()
        ledger.scan(place)
        self.assertEqual(fetched, [])
        self.remote.write("top.cfg", [b"a = 22"])
        later = ledger.scan(place)
        self.assertEqual(fetched, ["top.cfg"])
        found = [(d.path, d.status) for d in kept.survey().diff(later) if d.status != "touched"]
        self.assertEqual(found, [("top.cfg", "changed")])

    def test_a_folder_goes_only_when_it_is_empty(self) -> None:
        """What is in it is never taken with it; one that is not there is fine."""
        self.remote.make_folder("worlds/deep")
        self.remote.write("worlds/deep/a.bog", [b"bog"])
        if self.remote.capabilities.folders:
            for folder in ("worlds/deep", "worlds"):
                with self.assertRaises(PlaceError):
                    self.remote.remove_folder(folder)
        self.assertEqual(self.read("worlds/deep/a.bog"), b"bog")
        self.remote.delete("worlds/deep/a.bog")
        self.remote.remove_folder("worlds/deep")
        self.remote.remove_folder("worlds/deep")
        self.assertEqual(self.remote.inside("worlds").folders, [])

    def test_names_are_given_and_taken(self) -> None:
        """Over what has them; a folder is made once or twice."""
        self.remote.write("packs/a", [b"one"])
        self.remote.write("packs/b", [b"two"])
        self.remote.rename("packs/a", "packs/b")
        self.assertEqual(self.read("packs/b"), b"one")
        self.remote.delete("packs/b")
        self.assertEqual(self.remote.list("packs"), [])
        self.remote.make_folder("packs")
        self.remote.make_folder("deep/er")
        self.remote.write("deep/er/x", [b"x"])
        self.assertEqual([one.name for one in self.remote.list("deep/er")], ["x"])

    def test_only_one_of_many_makes_a_file(self) -> None:
        """All at once, each over its own connection; and nobody after that."""
        several = [self.open() for _ in range(4)]
        gate = threading.Barrier(len(several))

        def make(number: int) -> bool:
            gate.wait()
            try:
                several[number].create("packs/claimed", b"%d" % number * 100)
            except FileExistsError:
                return False
            return True

        with ThreadPoolExecutor(len(several)) as pool:
            made = list(pool.map(make, range(len(several))))
        self.assertEqual(made.count(True), 1)
        self.assertEqual(self.read("packs/claimed"), b"%d" % made.index(True) * 100)
        with self.assertRaises(FileExistsError):
            self.remote.create("packs/claimed", b"late")
        self.assertEqual([one.name for one in self.remote.list("packs")], ["claimed"])

    def test_a_file_is_sent_whole_and_read_back(self) -> None:
        """And a try that was cut off is gone on with, where that can be, if it is of this content."""
        with open(self.path("here"), "wb") as file:
            file.write(os.urandom(3 << 20))
        send(self.remote, self.path("here"), "packs/there")
        fetch(self.remote, "packs/there", self.path("back"))
        with open(self.path("here"), "rb") as one, open(self.path("back"), "rb") as two:
            data = one.read()
            self.assertEqual(two.read(), data)
        for part in (data[: 2 << 20], b"of something else", data, data + b"more"):
            watched = _Watched(self.remote)
            if self.remote.capabilities.resume:
                self.remote.write("packs/again.part", [part])
            send(watched, self.path("here"), "packs/again")
            self.assertEqual(self.read("packs/again"), data)
            if self.remote.capabilities.resume and data.startswith(part):
                self.assertEqual(watched.sent, len(data) - len(part))
            self.assertNotIn("again.part", [one.name for one in self.remote.list("packs")])

    def test_what_is_not_kept_is_noticed(self) -> None:
        """A remote that takes a file and does not have it afterwards, or has another."""
        with open(self.path("here"), "wb") as file:
            file.write(b"peat" * 1000)
        for spoil in (lambda blocks: [], lambda blocks: [b"PEAT" * 1000]):
            forgetful = _Watched(self.remote, spoil)
            with self.assertRaisesRegex(PlaceError, "could not be verified"):
                send(forgetful, self.path("here"), "packs/lost")
            self.assertEqual(self.remote.list("packs"), [])

    def test_a_wrong_password_is_refused_and_not_told(self) -> None:
        if not self.login.password:
            self.skipTest("this kind has none")
        from msgspec.structs import replace

        remote = connect(self.url, replace(self.login, password="not-the-secret"))
        self.addCleanup(remote.close)
        try:
            remote.write("packs/x", [b"x"])
            remote.list("packs")
        except KindredError as error:
            self.assertNotIn("not-the-secret", str(error) + repr(error.__cause__))
            self.assertIn("docs/remotes.md", error.remedy)
        else:
            self.skipTest("this server takes any")
        self.assertNotIn(self.login.password, repr(self.login))


class Folder(Contract, Case):
    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return nullcontext((f"file://{self.path('served')}", Login()))


class Ftp(Contract, Case):
    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return rented_server(self.path("served"), self.folder, tls=False)


class FtpWithTls(Contract, Case):
    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return rented_server(self.path("served"), self.folder)

    def test_an_unknown_certificate_is_refused(self) -> None:
        """Before the password is sent."""
        remote = connect(self.url, Login(USER, PASSWORD))
        with self.assertRaisesRegex(PlaceError, "certificate"):
            remote.stat("packs/x")

    def test_a_connection_that_went_is_made_again(self) -> None:
        self.remote.write("packs/x", [b"x"])
        self.remote._client.sock.close()  # type: ignore[attr-defined]
        self.assertEqual(self.read("packs/x"), b"x")


class Sftp(Contract, Case):
    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return sftp_server(self.path("served"))

    def test_a_server_with_another_key_is_refused(self) -> None:
        """Unknown, or not the one that is known."""
        unknown = connect(self.url, Login(USER, PASSWORD))
        with self.assertRaisesRegex(PlaceError, "key is not known"):
            unknown.stat("packs/x")
        import asyncssh

        other = asyncssh.generate_private_key("ssh-ed25519").export_public_key().decode()
        false = connect(self.url, Login(USER, PASSWORD, host_key=other))
        with self.assertRaisesRegex(PlaceError, "not the one that is known"):
            false.stat("packs/x")


class Webdav(Contract, Case):
    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return webdav_server(self.path("served"))


class StrangeAnswers(Case):
    def test_a_listing_with_a_document_type_is_refused(self) -> None:
        """Nothing is resolved, expanded, or taken from it; nor from what is no XML."""

        class Answering(BaseHTTPRequestHandler):
            def do_PROPFIND(self) -> None:
                self.send_response(207)
                self.send_header("Content-Length", str(len(said[0])))
                self.end_headers()
                self.wfile.write(said[0])

            def log_message(self, format: str, *args: object) -> None:
                pass

        bomb = b'<!DOCTYPE a [<!ENTITY b "bbbbbbbb"><!ENTITY c SYSTEM "file:///etc/passwd">]>'
        said = [
            bomb + b'<multistatus xmlns="DAV:"><response><href>/&c;</href></response></multistatus>'
        ]
        server = HTTPServer(("127.0.0.1", 0), Answering)
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        remote = connect(f"webdav://127.0.0.1:{server.server_address[1]}/x", Login())
        with self.assertRaisesRegex(PlaceError, "it has a document type"):
            remote.inside("")
        said[0] = b"<html>welcome"
        with self.assertRaisesRegex(PlaceError, "listing cannot be read"):
            remote.inside("")


class Objects(Contract, Case):
    def serve(self) -> AbstractContextManager[tuple[str, Login]]:
        return object_store()


class Credentials(Case):
    def test_where_they_come_from(self) -> None:
        """The environment before the file, the longest beginning of the URL, and then by asking."""
        file = self.path("remotes.toml")
        with open(file, "w", encoding="utf-8") as out:
            out.write('["sftp://a.example"]\nuser = "u"\npassword = "p"\n')
            out.write('["sftp://a.example/deep"]\nuser = "d"\nhost_key = "ssh-ed25519 AAAA"\n')
        os.chmod(file, 0o600)
        asked: list[str] = []

        def ask(question: str) -> str:
            asked.append(question)
            return "typed"

        one = login_for("sftp://a.example/x", {}, file=file, ask=ask)
        self.assertEqual((one.user, one.password, asked), ("u", "p", []))
        two = login_for("sftp://me@a.example/deep/er", {}, file=file, ask=ask)
        self.assertEqual(
            (two.user, two.password, two.host_key), ("me", "typed", "ssh-ed25519 AAAA")
        )
        self.assertEqual(asked, ["Password for me@a.example"])
        environ = {"KINDRED_REMOTE_USER": "e", "KINDRED_REMOTE_PASSWORD": "s"}
        three = login_for("sftp://a.example/x", environ, file=file)
        self.assertEqual((three.user, three.password), ("e", "s"))
        self.assertEqual(login_for("sftp://a.example.org/", {}, file=file), Login())
        keys = {"AWS_ACCESS_KEY_ID": "k", "AWS_SECRET_ACCESS_KEY": "s", "AWS_REGION": "r"}
        four = login_for("s3://bucket/x", keys)
        self.assertEqual((four.user, four.password, four.region), ("k", "s", "r"))

    def test_a_file_that_others_may_read_is_refused(self) -> None:
        """As is one that is not understood; and neither is quoted."""
        file = self.path("remotes.toml")
        for text, mode in (("", 0o640), ('["ftp://a"]\npassword = 7\n', 0o600), ("hush ==", 0o600)):
            with open(file, "w", encoding="utf-8") as out:
                out.write(text)
            os.chmod(file, mode)
            with self.assertRaises(UsageError) as caught:
                login_for("ftp://a", {}, file=file)
            self.assertIn(file, str(caught.exception))
            self.assertNotIn("hush", str(caught.exception))

    def test_urls(self) -> None:
        for url in ("gopher://a", "ftp://me:secret@a/b", "nothing"):
            with self.assertRaises(UsageError) as caught:
                connect(url)
            self.assertNotIn("secret", str(caught.exception).replace("docs", ""))


class _Watched:
    """A remote that counts what it is given to write, and may spoil it."""

    def __init__(self, remote: Remote, spoil=None) -> None:  # type: ignore[no-untyped-def]
        self._remote = remote
        self._spoil = spoil
        self.sent = 0

    def __getattr__(self, name: str) -> object:
        return getattr(self._remote, name)

    def write(self, path: str, blocks: Iterable[bytes], *, start: int = 0) -> None:
        def counted() -> Iterator[bytes]:
            for block in blocks:
                self.sent += len(block)
                yield block

        self._remote.write(path, self._spoil(blocks) if self._spoil else counted(), start=start)


if __name__ == "__main__":
    unittest.main()
