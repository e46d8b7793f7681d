"""Nobody else reads what is kept: 0700 and 0600 at all times, whatever the umask; nothing is written over."""

from __future__ import annotations

import os
import stat
import sys
import unittest
from collections.abc import Iterator

from kindred_ledger.changes import recover, undo
from kindred_ledger.errors import KindredError, UsageError
from kindred_ledger.ledger import Ledger
from kindred_ledger.ledger.exporting import export
from kindred_ledger.places import FolderPlace
from kindred_ledger.places.remotes import login_for
from tests.support import Case, change_to, files_in, kindred, write


def open_to_others(root: str) -> Iterator[str]:
    """Yield what of a folder and all below it others may read or enter."""
    for top, folders, files in os.walk(os.path.dirname(root)):
        for name in (*folders, *files):
            path = os.path.join(top, name)
            inside = path == root or path.startswith(root + os.sep)
            if inside and not os.path.islink(path) and os.lstat(path).st_mode & 0o077:
                yield os.path.relpath(path, root)


@unittest.skipIf(os.name == "nt", "Windows has other permissions")
class Modes(Case):
    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(os.umask, os.umask(0o022))
        write(self.path("place"), {"a.txt": b"a" * 300_000, "b/private.key": b"secret"})
        os.chmod(self.path("place", "b", "private.key"), 0o600)

    def test_at_all_times(self) -> None:
        """At every change to the disk: the ledger, its mirror, and what is staged in the place."""
        seen: set[str] = set()
        watched = [self.path("ledger"), self.path("mirror"), self.path("place", ".kindred-work")]

        def hook(event: str, args: tuple[object, ...]) -> None:
            if watched and event in ("os.rename", "os.remove", "os.rmdir", "os.mkdir", "open"):
                roots, watched[:] = list(watched), []  # what is done here is not watched
                try:
                    seen.update(
                        f"{root}: {p}"
                        for root in roots
                        for p in open_to_others(root)
                        if not ("kindred-work" in root and root in self.private(p, root))
                    )
                finally:
                    watched[:] = roots

        sys.addaudithook(hook)
        try:
            ledger = self.ledger()
            place = FolderPlace(self.path("place"))
            ledger.backup(place)
            done = change_to(place, {"a.txt": b"new", "b/private.key": b"secret two"}).apply(ledger)
            undo(done.record.id, ledger=ledger).apply(ledger)
            recover(ledger)
            kindred("ledger", "mirror", "mirror", folder=self.folder)
            ledger.finish()
        finally:
            watched.clear()
        self.assertEqual(sorted(seen), [])
        self.assertEqual([*open_to_others(self.path("ledger"))], [])
        self.assertEqual([*open_to_others(self.path("mirror"))], [])
        self.assertEqual(os.stat(self.path("place", "b", "private.key")).st_mode & 0o777, 0o600)

    def private(self, path: str, root: str) -> str:
        """Return the root if nobody else can come to a path: a folder above it is closed."""
        top = os.path.join(root, path.split(os.sep, maxsplit=1)[0])
        closed = not os.stat(root).st_mode & 0o077 if os.path.isdir(root) else False
        return root if closed or not os.stat(top).st_mode & 0o077 else ""

    def test_an_encrypted_ledger_and_what_is_near(self) -> None:
        root, near = self.path("sealed"), self.path("near")
        Ledger.create_encrypted(root, "peat", cost=1 << 12)
        ledger = Ledger.open(root, local_cache=near, passphrase=lambda: "peat")
        ledger.backup(FolderPlace(self.path("place")))
        ledger.finish()
        ledger.index.close()
        self.assertEqual([*open_to_others(root), *open_to_others(near)], [])

    @unittest.skipUnless(hasattr(os, "getuid") and os.getuid() == 0, "only root gives files away")
    def test_logins_of_another_user_are_refused(self) -> None:
        write(self.folder, {"remotes.toml": b'["ftp://x"]\nuser = "eel"\n'})
        os.chmod(self.path("remotes.toml"), 0o600)
        os.chown(self.path("remotes.toml"), 12345, 12345)
        with self.assertRaisesRegex(UsageError, "another user's"):
            login_for("ftp://x", {}, file=self.path("remotes.toml"))


class NothingIsWrittenOver(Case):
    def test_export(self) -> None:
        """What lies where a part could be stays; the name may not be taken; nothing is left."""
        kept = self.ledger()
        entry = kept.backup(self.place({"a.txt": b"a"}))
        write(self.folder, {"out/x.zip.part": b"mine", "elsewhere": b"theirs"})
        os.symlink(self.path("elsewhere"), self.path("out", "y.tar.zst.part"))
        for name in ("x.zip", "y.tar.zst"):
            export(entry, self.path("out", name), ledger=kept)
            self.assertTrue(stat.S_ISREG(os.lstat(self.path("out", name)).st_mode))
            with self.assertRaises(KindredError):
                export(entry, self.path("out", name), ledger=kept)
        os.symlink(self.path("elsewhere"), self.path("out", "z.zip"))
        with self.assertRaises(KindredError):
            export(entry, self.path("out", "z.zip"), ledger=kept)
        left = files_in(self.path("out"))
        self.assertEqual(
            sorted(left), ["x.zip", "x.zip.part", "y.tar.zst", "y.tar.zst.part", "z.zip"]
        )
        self.assertEqual(left["x.zip.part"], b"mine")
        self.assertEqual((left["z.zip"], left["y.tar.zst.part"]), (b"theirs", b"theirs"))
