"""Exporting and taking in: archives that anybody can open, and archives that strangers made."""

from __future__ import annotations

import io
import os
import shutil
import subprocess
import tarfile
import tempfile
from typing import Any

from hypothesis import given

from kindred_ledger.errors import KindredError, UnsafeArchive, UnsafeName, UsageError
from kindred_ledger.ledger import Ledger, export, zstd
from kindred_ledger.places import FolderPlace, TarPlace, open_place, read_bytes, scan
from tests.support import Case, contents, side_law, write


def tar_of(*members: tuple[tarfile.TarInfo, bytes], mode: str = "w") -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode=mode) as archive:  # type: ignore[call-overload]
        for info, data in members:
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    return out.getvalue()


def member(name: str, kind: bytes = tarfile.REGTYPE, link: str = "") -> tarfile.TarInfo:
    info = tarfile.TarInfo(name)
    info.type, info.linkname = kind, link
    return info


class Export(Case):
    @side_law
    @given(contents)
    def test_what_is_exported_comes_back(self, kept: dict[str, Any]) -> None:
        """To tar and back: kinds, bytes, links, modes and times to the nanosecond; twice the same."""
        with tempfile.TemporaryDirectory() as folder:
            write(f"{folder}/place", kept)
            ledger = Ledger.open(f"{folder}/ledger")
            entry = ledger.backup(FolderPlace(f"{folder}/place"))
            export(entry, f"{folder}/a.tar.zst", ledger=ledger)
            export(entry, f"{folder}/b.tar.zst", ledger=ledger)
            self.assertEqual(scan(TarPlace(f"{folder}/a.tar.zst")), ledger.tree(entry))
            again = ledger.backup(open_place(f"{folder}/a.tar.zst"))
            self.assertEqual(ledger.tree(again), ledger.tree(entry))
            with open(f"{folder}/a.tar.zst", "rb") as one, open(f"{folder}/b.tar.zst", "rb") as two:
                self.assertEqual(one.read(), two.read())
            export(entry, f"{folder}/a.zip", ledger=ledger)
            found = scan(open_place(f"{folder}/a.zip"))
            self.assertTrue(all(read_bytes(ledger.place(entry), p) == read_bytes(
                open_place(f"{folder}/a.zip"), p) for p in found.files))  # fmt: skip
            self.assertEqual(found.files, ledger.tree(entry).files)
            ledger.index.close()

    def test_other_programs_open_it(self) -> None:
        """`zstd` and `tar` unpack what was exported."""
        if not (shutil.which("zstd") and shutil.which("tar")):
            self.skipTest("needs the programs tar and zstd")
        files = {"a/b.txt": b"peat", "large": os.urandom(5 << 20)}
        ledger = self.ledger()
        export(ledger.backup(self.place(files)), self.path("out.tar.zst"), ledger=ledger)
        os.mkdir(self.path("out"))
        line = f"zstd -dc {self.path('out.tar.zst')} | tar -x -C {self.path('out')}"
        self.assertEqual(subprocess.run(["sh", "-c", line], check=False).returncode, 0)
        for name, data in files.items():
            with open(self.path("out", name), "rb") as file:
                self.assertEqual(file.read(), data)

    def test_nothing_is_overwritten_or_left_half_done(self) -> None:
        """An archive that is there, an ending that means none, and contents that are damaged."""
        ledger = self.ledger()
        entry = ledger.backup(self.place({"a": os.urandom(3000)}))
        write(self.folder, {"there.zip": b"mine"})
        with self.assertRaisesRegex(UsageError, "something here already"):
            export(entry, self.path("there.zip"), ledger=ledger)
        with self.assertRaisesRegex(UsageError, "--into FOLDER"):
            export(entry, self.path("out.rar"), ledger=ledger)
        packs = self.path("ledger", "packs")
        with open(os.path.join(packs, os.listdir(packs)[0]), "r+b") as file:
            file.seek(100)
            file.write(bytes(50))
        for name in ("out.zip", "out.tar.zst"):
            with self.assertRaisesRegex(KindredError, "entry:"):
                export(entry, self.path(name), ledger=ledger)
        self.assertEqual({n for n in os.listdir(self.folder) if "." in n}, {"there.zip"})


class Tar(Case):
    def refuse(self, data: bytes, expected: type[KindredError], words: str) -> None:
        write(self.folder, {"kept.tar": data})
        with self.assertRaisesRegex(expected, words) as caught:
            scan(TarPlace(self.path("kept.tar")))
        self.assertIn("kept.tar", str(caught.exception))
        self.assertEqual(str(caught.exception).count("kept.tar"), 1)

    def test_hostile_archives(self) -> None:
        """Names that escape, hard links, devices, twins, and growth without bound."""
        for name in ("../up", "/etc/cron", "a/../../b", "NUL", "c:x"):
            self.refuse(tar_of((member(name), b"1")), UnsafeName, "path")
        self.refuse(
            tar_of((member("a", tarfile.LNKTYPE, "/etc/passwd"), b"")), UnsafeArchive, "hard"
        )
        self.refuse(tar_of((member("a", tarfile.CHRTYPE), b"")), UnsafeArchive, "device")
        self.refuse(tar_of((member("a"), b"1"), (member("a"), b"2")), UnsafeArchive, "twice")
        bomb = zstd.compress(tar_of((member("zeros"), bytes(30 << 20))))
        self.refuse(bomb, UnsafeArchive, "times its size")

    def test_a_cut_or_flipped_archive_is_noticed(self) -> None:
        """In every packing that carries a checksum: never wrong contents in silence."""
        data = os.urandom(3000)
        for packed in (
            zstd.compress(tar_of((member("a"), data))),
            tar_of((member("a"), data), mode="w:gz"),
        ):
            for at in range(20, len(packed) - 1, 97):
                flipped = bytearray(packed)
                flipped[at] ^= 0x20
                for bad in (bytes(flipped), packed[:at]):
                    write(self.folder, {"kept.tar.x": bad})
                    try:
                        place = TarPlace(self.path("kept.tar.x"))
                        found = [read_bytes(place, name) for name in scan(place).files]
                    except KindredError:
                        continue
                    self.assertTrue(set(found) <= {data}, f"byte {at}")

    def test_links_are_kept_and_not_followed(self) -> None:
        """A link in an archive is a link; what is packed in other ways is read too."""
        made = (member("dir", tarfile.DIRTYPE), b""), (member("dir/a"), b"1"), (
            member("door", tarfile.SYMTYPE, "/etc"), b"")  # fmt: skip
        for mode in ("w", "w:gz", "w:bz2", "w:xz"):
            write(self.folder, {"kept.tar.any": tar_of(*made, mode=mode)})
            place = open_place(self.path("kept.tar.any"))
            tree = scan(place)
            self.assertEqual((tree["door"].kind, tree["door"].target), ("link", "/etc"))
            self.assertEqual(read_bytes(place, "dir/a"), b"1")
        with self.assertRaises(UnsafeArchive):
            read_bytes(place, "gone")
