"""Versions: what people write, ordered as they mean it."""

from __future__ import annotations

import itertools
import unittest

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.errors import VersionError
from kindred_ledger.versions import DATE, DECIMAL, INTEGER, NUMBER, Version, VersionRange, scheme
from tests.support import law

IN_ORDER = (
    "0.9 1.2-dev 1.2-snapshot4 1.2-alpha 1.2-alpha.2 1.2-beta 1.2-beta3 1.2-pre3 1.2-pre10 1.2rc1 "
    "1.2-rc.2 1.2 1.2a 1.2b 1.2.0.1 1.2.1 1.9 1.10 1.10.2 1.12.2 1.12.2a 2.0-pre3 2.0 10.0"
).split()

texts = st.builds(
    lambda numbers, suffix: ".".join(map(str, numbers)) + suffix,
    st.lists(st.integers(0, 30), min_size=1, max_size=5),
    st.sampled_from(("", "-pre3", " alpha 2", "rc1", "-beta", "a", "b2", "-hotfix1", "+build7")),
)


class Ordering(unittest.TestCase):
    def test_real_versions_stand_in_the_order_people_mean(self) -> None:
        """Every pair of a list in order compares as its places do."""
        for (i, one), (j, other) in itertools.product(enumerate(IN_ORDER), repeat=2):
            a, b = NUMBER.parse(one), NUMBER.parse(other)
            self.assertEqual((a < b, a == b, a > b), (i < j, i == j, i > j), f"{one} and {other}")

    def test_different_texts_of_one_version_are_equal(self) -> None:
        """Trailing zeros, a leading v, spaces and build names do not count."""
        for one, other in (
            ("2.0", "2.0.0"), ("v1.4", "1.4"), ("2.0 alpha 2", "2.0-alpha.2"),
            ("2.1rc1", "2.1-RC-1"), ("1.0+linux", "1.0"), ("2.0b1", "2.0-beta1"),
        ):  # fmt: skip
            self.assertEqual(NUMBER.parse(one), NUMBER.parse(other))
            self.assertEqual(hash(NUMBER.parse(one)), hash(NUMBER.parse(other)))

    def test_other_schemes(self) -> None:
        """Dates, integers, decimals and listed names each order their own way."""
        self.assertLess(DATE.parse("2026.08.28"), DATE.parse("2026-11-02"))
        self.assertLess(DATE.parse("20260828"), DATE.parse("2026.08.28b"))
        self.assertLess(INTEGER.parse("9"), INTEGER.parse("10"))
        self.assertLess(DECIMAL.parse("1.03"), DECIMAL.parse("1.3"))
        self.assertLess(DECIMAL.parse("1.25"), DECIMAL.parse("1.3"))
        self.assertEqual(DECIMAL.parse("1.30"), DECIMAL.parse("1.3"))
        names = scheme("listed", ("Heron", "Bittern", "Crane"))
        self.assertLess(names.parse("heron"), names.parse("Crane"))

    def test_schemes_do_not_mix(self) -> None:
        """A date against a number is an error that says so, never an answer."""
        date = Version.parse("2026.08.28")
        self.assertEqual(date.scheme, DATE)
        with self.assertRaisesRegex(VersionError, "different schemes"):
            date < NUMBER.parse("2.0")  # noqa: B015
        self.assertNotEqual(date, NUMBER.parse("2026.08.28"))
        with self.assertRaises(VersionError):
            date in VersionRange.parse(">=1.2")  # noqa: B015

    def test_what_cannot_be_ordered_is_refused(self) -> None:
        """Unknown words, empty and endless texts are no versions."""
        for text in ("", "  ", "heron", "1.4-gilded", "1..2", "1.4 of May", "9" * 200):
            with self.assertRaises(VersionError, msg=text):
                NUMBER.parse(text)
        for bad, reader in (("2026.13.01", DATE), ("1.4", INTEGER), ("1.2.3", DECIMAL)):
            with self.assertRaises(VersionError):
                reader.parse(bad)
        for name, order in (("roman", ()), ("listed", ()), ("number", ("a",))):
            with self.assertRaises(VersionError):
                scheme(name, order)

    @law
    @given(texts, texts, texts)
    def test_order_is_total(self, a: str, b: str, c: str) -> None:
        """Of two versions exactly one of <, ==, > holds; the order is transitive."""
        x, y, z = map(NUMBER.parse, (a, b, c))
        self.assertEqual((x < y) + (x == y) + (x > y), 1)
        if x <= y and y <= z:
            self.assertLessEqual(x, z)


class Ranges(unittest.TestCase):
    def test_ranges_hold_what_they_say(self) -> None:
        """Bounds, exact versions, exceptions and everything."""
        for text, inside, outside in (
            (">=1.2,<2", ("1.2", "1.10", "2.0-pre3"), ("1.1.9", "2.0")),
            ("1.4", ("1.4", "1.4.0"), ("1.4.1",)),
            (">1.2,!=1.3,<=1.4", ("1.2.1", "1.4"), ("1.2", "1.3", "1.4.1")),
            ("*", ("0.1", "99"), ()),
        ):
            found = VersionRange.parse(text)
            for version in inside:
                self.assertIn(version, found, text)
            for version in outside:
                self.assertNotIn(version, found, text)
        with self.assertRaises(VersionError):
            VersionRange.parse(">=1.2,")
