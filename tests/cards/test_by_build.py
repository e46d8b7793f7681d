"""What of a card depends on the build, or on the case rule of the place."""

from __future__ import annotations

import os
import unittest
from typing import Any
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.cards import Card
from kindred_ledger.errors import CardError
from kindred_ledger.places import FolderPlace, Patterns
from tests.support import PEATBOG, Case, law, write

CARD = (
    PEATBOG
    + """[[detect]]
file = "Version.txt"
pattern = "build {version}"
[locations.user]
linux = ["$BOG/user"]
macos = ["$BOG/user"]
windows = ["%BOG%/user"]
[locations.voyages]
linux = ["$BOG/voyages"]
macos = ["$BOG/voyages"]
windows = ["%BOG%/voyages"]
builds = ">=2.0"
[categories.saves]
include = ["/user/saves/"]
exclude = ["*.tmp"]
protect = true
by_build = [
    { builds = ">=3", include = ["/voyages/"] },
    { builds = ">=2", include = ["/voyages/", "/user/saves/"], exclude = ["*.tmp", "*.log"] },
]
[formats.saves]
files = ["/user/Saves/*.sav"]
codec = "json"
version = { key = "format", signs = { "1" = { folder = "saves" } } }
builds = [{ builds = "*", writes = "1", reads = ["1"] }]
"""
)


class BogCase(Case):
    def setUp(self) -> None:
        super().setUp()
        write(self.folder, {"peatbog.card.toml": CARD.encode(), "user/a": b"", "voyages/b": b""})
        self.card = Card.load(self.path("peatbog.card.toml"))

    def install(self, build: str, *, told_by: str = "Version.txt", **options: Any) -> Any:
        write(self.path("bog"), {"peat.exe": b"", told_by: f"build {build}".encode()})
        with mock.patch.dict(os.environ, {"BOG": self.folder}):
            return self.card.open(self.path("bog"), **options)


class ByBuild(BogCase):
    """Locations and categories."""

    def test_locations_and_categories(self) -> None:
        """Each build has its own, said or told; where it is not known, all count."""
        for build, parts, saves in (
            ("1.4", {"program", "user"}, "yn"),
            ("2.0", {"program", "user", "voyages"}, "yy"),
            ("3.1", {"program", "user", "voyages"}, "ny"),
        ):
            for install in (self.install(build), self.install("9", version=build)):
                self.assertEqual(set(install.place.parts), parts)
                paths = ("user/saves/a.sav", "voyages/a.sav")
                found = "".join("yn"[not install.card.category_of(path)] for path in paths)
                self.assertEqual(found, saves)
                self.assertEqual(install.tag.categories, install.card.categories)
                self.assertEqual(str(install.again().card.bound_to), "9")
        unknown = self.card.categories["saves"]
        told = [unknown(path) for path in ("user/saves/a.log", "voyages/a.sav", "voyages/a.tmp")]
        self.assertEqual(told, [True, True, True])  # a row without `exclude` takes those, too

    def test_faults_are_told(self) -> None:
        """A range that is none, and a pattern that cannot be read."""
        for wrong in (
            CARD.replace('builds = ">=2.0"', 'builds = "from 2"'),
            CARD.replace('builds = ">=3"', 'builds = ">=x y"'),
            CARD.replace('["/voyages/"]', '["**/**/**/**/a"]'),
        ):
            write(self.folder, {"bad.card.toml": wrong.encode()})
            with self.assertRaises(CardError):
                Card.load(self.path("bad.card.toml"))


class Cases(BogCase):
    """The case rule of the place holds for patterns, names of formats, signs and files that tell versions."""

    def test_a_place_that_takes_both_for_the_same(self) -> None:
        with mock.patch.object(FolderPlace, "tells_apart", lambda self, tree: False):
            install = self.install("1.4", told_by="version.TXT")
        strict = self.install("1.4", told_by="version.TXT")
        for card, fits in ((install.card, True), (strict.card, False)):
            self.assertEqual(bool(card.category_of("user/SAVES/a.sav")), fits)
            self.assertEqual(card.format_of("user/saves/A.SAV") is not None, fits)
            self.assertEqual(card.formats["saves"].fits_name("A.SAV"), fits)
            self.assertEqual(card.formats["saves"].is_named("SAVES", "saves"), fits)
        self.assertEqual((str(install.version), strict.version), ("1.4", None))
        self.assertEqual(str(install.again().version), "1.4")

    @law
    @given(st.text("aBc/*.", max_size=8), st.text("aBc/.", min_size=1, max_size=8))
    def test_patterns(self, pattern: str, path: str) -> None:
        """What fits fits in any case, and no more than what fits in small letters alone."""
        found = Patterns((pattern or "*",), any_case=True)
        self.assertEqual(found(path), found(path.swapcase()))
        self.assertEqual(found(path), Patterns(((pattern or "*").lower(),))(path.lower()))


if __name__ == "__main__":
    unittest.main()
