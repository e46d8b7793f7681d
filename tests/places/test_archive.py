"""Zip archives: hostile ones refused, untouched members carried byte for byte."""

from __future__ import annotations

import io
import os
import struct
import tempfile
import time
import unittest
import zipfile
from typing import Any

from hypothesis import given

from kindred_ledger.errors import KindredError, UnsafeArchive, UnsafeName
from kindred_ledger.places import FILE, Node, ZipPlace, open_place, read_bytes, rewrite_zip, scan
from tests.support import Case, contents, opened_files, side_law


def made(members: dict[str, bytes], **info: Any) -> bytes:
    """Return an archive; `info` sets attributes of every member."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in members.items():
            member = zipfile.ZipInfo(name, (2026, 5, 28, 12, 0, 0))
            member.compress_type = zipfile.ZIP_DEFLATED
            for key, value in info.items():
                setattr(member, key, value)
            archive.writestr(member, data)
    return out.getvalue()


class Guards(Case):
    def refuse(self, data: bytes, expected: type[KindredError], words: str) -> None:
        path = self.path("release.zip")
        with open(path, "wb") as file:
            file.write(data)
        with self.assertRaisesRegex(expected, words) as caught:
            scan(open_place(path))
        self.assertIn("release.zip", str(caught.exception))
        self.assertEqual(os.listdir(self.folder), ["release.zip"])

    def test_names_that_escape_or_cannot_be(self) -> None:
        """Parent steps, absolute paths, drives and devices."""
        for name in ("../up.txt", "/etc/cron", "C:\\x", "a/../../b", "NUL", "data/com1.txt"):
            self.refuse(made({"ok.txt": b"1", name: b"2"}), UnsafeName, "path")

    def test_links_and_devices(self) -> None:
        """A member that would become a link."""
        self.refuse(made({"link": b"/etc"}, external_attr=0o120777 << 16), UnsafeArchive, "link")

    def test_names_that_collide(self) -> None:
        """Plainly twice; those that differ by case or Unicode form only are refused where they arrive."""
        with self.assertWarns(UserWarning):
            twice = io.BytesIO()
            with zipfile.ZipFile(twice, "w") as archive:
                archive.writestr("a", b"1")
                archive.writestr("a", b"2")
        self.refuse(twice.getvalue(), UnsafeArchive, "twice")

    def test_growth_without_bound(self) -> None:
        """A thousandfold expansion is refused before a byte of it is unpacked."""
        self.refuse(made({"zeros": bytes(40_000_000)}), UnsafeArchive, "times its size")

    def test_overlapping_members(self) -> None:
        """Two names over one piece of data, as archives are made to multiply it."""
        data = bytearray(made({"a": b"x" * 1000, "b": b"x" * 1000}))
        first = data.index(b"PK\x01\x02")
        second = data.index(b"PK\x01\x02", first + 4)
        data[second + 42 : second + 46] = data[first + 42 : first + 46]
        self.refuse(bytes(data), UnsafeArchive, "overlaps")

    def test_encrypted_members(self) -> None:
        """Encryption is named as the reason, not guessed at."""
        data = bytearray(made({"a": b"1"}))
        data[data.index(b"PK\x01\x02") + 8] |= 1
        self.refuse(bytes(data), UnsafeArchive, "encrypted")

    def test_every_cut_and_every_flip_is_noticed(self) -> None:
        """A cut archive is never whole; a flipped byte never gives other contents in silence."""
        members = {"a.txt": b"reeds and eels " * 40, "b.bin": bytes(range(256))}
        data = made(members)
        path = self.path("release.zip")
        for cut in range(0, len(data) - 1, 7):
            with open(path, "wb") as file:
                file.write(data[:cut])
            with self.assertRaises(KindredError):
                scan(ZipPlace(path))
        for at in range(0, len(data), 3):
            flipped = bytearray(data)
            flipped[at] ^= 0x10
            with open(path, "wb") as file:
                file.write(flipped)
            try:
                place = ZipPlace(path)
                found = {name: read_bytes(place, name) for name in place.survey().files}
            except KindredError:
                continue
            for name, content in found.items():
                self.assertIn(content, members.values(), f"byte {at}: {name}")

    def test_a_wrong_size_in_the_directory_does_not_pass(self) -> None:
        """A member that unpacks to another size than it says."""
        data = bytearray(made({"a": b"x" * 1000}))
        at = data.index(b"PK\x01\x02") + 24
        data[at : at + 4] = struct.pack("<I", 999)
        path = self.path("release.zip")
        with open(path, "wb") as file:
            file.write(data)
        with self.assertRaises(KindredError):
            scan(ZipPlace(path))


class Rewriting(unittest.TestCase):
    @side_law
    @given(contents, contents)
    def test_a_rewritten_archive_holds_what_was_asked(
        self, old: dict[str, Any], new: dict[str, Any]
    ) -> None:
        """Removed, replaced and added members are so; the others keep every byte; twice the same."""
        before = {p: d for p, d in old.items() if isinstance(d, bytes)}
        put = {p: d for p, d in new.items() if isinstance(d, bytes)}
        gone = set(list(before)[::2])
        with _Archive(made(before)) as path:
            outs = []
            for _ in range(2):
                out = io.BytesIO()
                nodes = {p: Node(FILE, len(d), mtime_ns=10**18, mode=0o640) for p, d in put.items()}
                rewrite_zip(path, out, remove=gone, put=nodes, content=lambda p: [put[p]])
                outs.append(out.getvalue())
            self.assertEqual(*outs)
            with zipfile.ZipFile(io.BytesIO(outs[0])) as archive:
                self.assertIsNone(archive.testzip())
                found = {info.filename: archive.read(info) for info in archive.infolist()}
            kept = {p: d for p, d in before.items() if p not in gone}
            self.assertEqual(found, {**kept, **put})
            if not put and not gone:
                with open(path, "rb") as file:
                    self.assertEqual(outs[0], file.read())

    def test_untouched_members_keep_odd_headers(self) -> None:
        """Extra fields, comments, stored members and the archive's comment are carried over."""
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.comment = b"signed by nobody"
            odd = zipfile.ZipInfo("odd.bin", (1999, 12, 31, 23, 59, 58))
            odd.extra, odd.comment = b"\xfe\xca\x04\x00abcd", b"note"
            archive.writestr(odd, b"stored")
            archive.writestr("other.txt", b"x" * 100, zipfile.ZIP_BZIP2)
        with _Archive(out.getvalue()) as path:
            new = io.BytesIO()
            rewrite_zip(path, new, put={"z": Node(FILE, 1)}, content=lambda _: [b"z"])
        with _Archive(b"#!/bin/sh\n" + out.getvalue()) as path:
            behind = io.BytesIO()
            rewrite_zip(path, behind, remove=["other.txt"])
        self.assertTrue(behind.getvalue().startswith(b"#!/bin/sh\nPK\x03\x04"))
        with zipfile.ZipFile(behind) as archive:
            self.assertEqual(archive.read("odd.bin"), b"stored")
        local = out.getvalue()[: out.getvalue().index(b"PK\x01\x02")]
        self.assertTrue(new.getvalue().startswith(local))
        with zipfile.ZipFile(new) as archive:
            self.assertEqual(archive.comment, b"signed by nobody")
            self.assertEqual(archive.getinfo("odd.bin").comment, b"note")
            self.assertEqual(archive.namelist(), ["odd.bin", "other.txt", "z"])


class Remembered(Case):
    def test_an_unchanged_archive_is_not_unpacked_again(self) -> None:
        """The digests of a known archive come from memory."""
        path = self.path("release.zip")
        with open(path, "wb") as file:
            file.write(made({"a": b"1", "b/c": b"2"}))
        os.utime(path, ns=(10**18, 10**18))
        ledger = self.ledger()
        place = ZipPlace(path)
        time.sleep(0.1)
        first = ledger.scan(place)
        self.assertEqual(first.leaves, ("a", "b/c"))
        known = place.survey(seen=ledger.seen(place))
        self.assertEqual(known, first)
        with opened_files(self.folder) as opened:
            place.survey(seen=ledger.seen(place))
        self.assertLessEqual(opened.count(path), 1)


class _Archive:
    """An archive in a file, for the block."""

    def __init__(self, data: bytes) -> None:
        self._data = data

    def __enter__(self) -> str:
        handle, self._path = tempfile.mkstemp()
        with os.fdopen(handle, "wb") as file:
            file.write(self._data)
        return self._path

    def __exit__(self, *exc: object) -> None:
        os.remove(self._path)
