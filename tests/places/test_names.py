"""Names from outside: none that could leave its folder or cannot exist everywhere."""

from __future__ import annotations

import os
import unicodedata
import unittest

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.errors import UnsafeName, UsageError
from kindred_ledger.places import Patterns, check_portable, collisions
from tests.support import law

HOSTILE = (
    "", "/etc/passwd", "../up", "a/../../up", "a/./b", "a//b", "a/", "C:/x", "c:x", "\\\\host\\share",
    "a\\b", "con", "a/NUL.txt", "Com1", "lpt9.dat", "conin$", "a\x00b", "a\nb", "name.", "name ",
    "a/ ./b", "x" * 256, "/".join(["long"] * 300), "stream:alt", "wild*", "quo\"te", "p|pe", "\ud800",
)  # fmt: skip


class Names(unittest.TestCase):
    def test_hostile_names_are_refused(self) -> None:
        """Absolute, climbing, drive, device and impossible names, each with what is wrong."""
        for name in HOSTILE:
            with self.assertRaises(UnsafeName, msg=repr(name)) as caught:
                check_portable(name, where="archive.zip")
            self.assertIn("archive.zip", str(caught.exception))

    def test_plain_names_pass(self) -> None:
        """Spaces, dots, umlauts and names that only begin like a device are fine."""
        for name in (
            "a",
            "data/tiles/0.tile",
            ".hidden",
            "käse/ö",
            "console.log",
            "a b/c d",
            "日本",
        ):
            self.assertEqual(check_portable(name), name)

    @law
    @given(st.text(max_size=30))
    def test_what_passes_stays_inside(self, name: str) -> None:
        """Whatever passes, joined to a folder, lies below that folder and is written the same."""
        try:
            check_portable(name)
        except UnsafeName:
            return
        joined = os.path.normpath(os.path.join("/root", name))
        self.assertEqual(joined, f"/root/{name}")
        name.encode()

    def test_collisions_count_case_and_unicode_form(self) -> None:
        """Two names that are one on some system are told, folders on the way included."""
        two_forms = [unicodedata.normalize(form, "ä.txt") for form in ("NFC", "NFD")]
        self.assertEqual(len(collisions(two_forms)), 1)
        self.assertEqual(collisions(["Data/a", "data/b"]), [("Data", "data")])
        self.assertEqual(collisions(["a", "b", "a/c"]), [])


class Selecting(unittest.TestCase):
    def test_patterns_select_as_ignore_files_do(self) -> None:
        """Names at any depth, anchored paths, whole folders, spans of folders, taking back."""
        for include, exclude, inside, outside in (
            (("saves/",), (), ("saves/a", "user/saves/b/c"), ("saves",)),
            (("/saves/",), (), ("saves/a",), ("user/saves/a",)),
            (("*.cfg", "!main.cfg"), (), ("a.cfg", "x/b.cfg"), ("main.cfg", "a.txt")),
            (("data/**/old",), (), ("data/old", "data/a/b/old"), ("old",)),
            ((), ("*.tmp",), ("a", "b/c"), ("x.tmp", "b/x.tmp")),
        ):
            wanted = Patterns(include, exclude)
            for path in inside:
                self.assertTrue(wanted(path), (include, path))
            for path in outside:
                self.assertFalse(wanted(path), (include, path))

    def test_a_pattern_that_cannot_be_read_is_told(self) -> None:
        """Not the library's own exception, and it shows how to write one."""
        with self.assertRaisesRegex(UsageError, "saves/"):
            Patterns(("!",)).check()
