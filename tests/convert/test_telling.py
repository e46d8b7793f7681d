"""Which format version a file is in: by all that tells it, and a question where that disagrees."""

from __future__ import annotations

import os

from kindred_ledger.cards import Card, draft_card, identify
from kindred_ledger.changes import undo
from kindred_ledger.convert import Sample, check_card, convert_bytes, convert_files, format_version
from kindred_ledger.errors import FormatError, VersionUntold
from kindred_ledger.formats import LayoutDocument
from kindred_ledger.formats.layouts import Layout
from kindred_ledger.places import FolderPlace, read_bytes
from tests.support import PEATBOG, Case, write

CARD = (
    PEATBOG
    + """[formats.chart]
files = ["*.chart"]
"""
)
BUILDS = """
builds = [
    { builds = "<2", writes = "1", reads = ["1"] },
    { builds = ">=2", writes = "3", reads = ["2", "3"] },
]
"""
# No field tells the version: 1 has no depth, 2 a wider one than 3, and the name of 3 is longer.
KEYLESS = """
layout chart
little endian
versions 1 to 3
magic  bytes 2 = "CH"
quays  table u8 {
    at     u16
    depth  u16  since 2 until 2 default 5
    sound  u32  since 3 default 7
}
"""


def chart_of(fields: str) -> str:
    return f"layout chart\nlittle endian\nversions 1 to 3\n{fields}"


class TellingCase(Case):
    def card(self, formats: str, **files: str) -> Card:
        contents = {"peatbog.card.toml": (CARD + formats).encode()}
        contents |= {f"{name}.layout": text.encode() for name, text in files.items()}
        write(self.folder, contents)
        return Card.load(self.path("peatbog.card.toml"))

    def keyless(self, more: str = "", chart: str = "") -> Card:
        text = f'codec = "layout"\nlayout = "chart.layout"\n{more}' + BUILDS
        return self.card(text, chart=chart or KEYLESS)


class Layouts(TellingCase):
    """Files of a layout that say their version nowhere: what fits tells it, or it is a question."""

    def test_the_version_that_fits(self) -> None:
        """Every version is read as itself, not as the first; converted, it reads back as the target."""
        chart = self.keyless().formats["chart"]
        one, two, three = (
            b"CH\x02" + b"".join(n.to_bytes(2, "little") + more for n in (8, 9))
            for more in (b"", b"\5\0", b"\7\0\0\0")
        )
        for version, data in (("1", one), ("2", two), ("3", three)):
            self.assertEqual(str(format_version(data, chart)), version)
            for target, wanted in (("1", one), ("2", two), ("3", three)):
                made = convert_bytes(data, chart, target, name="a.chart")
                self.assertEqual((made.data, str(made.source)), (wanted, version))
        told = chart.evidence_of(chart.decode(two), chart.scheme.parse("2"))
        self.assertEqual(
            told, "it can be read in no other version of the layout chart, which means 2"
        )
        with self.assertRaisesRegex(FormatError, "no version of the layout, 1 to 3, fits; as"):
            chart.decode(b"CH\x01abcdefg")

    def test_several_fit(self) -> None:
        """An empty table is the same in all versions: asked, unless the build or a sign tells it."""
        card = self.keyless()
        chart = card.formats["chart"]
        self.assertEqual(chart.decode(b"CH\0").fits, (1, 2, 3))  # type: ignore[attr-defined]
        for builds in ((), (card.build("1.0"), card.build("2.0"))):
            with self.assertRaisesRegex(VersionUntold, "in format 1 and 2 and 3 alike"):
                format_version(b"CH\0", chart, builds)
        self.assertEqual(str(format_version(b"CH\0", chart, [card.build("1.0")])), "1")
        other = chart_of("a u8, b u8 since 2 until 2 default 0, c u8 since 3 default 0")
        with self.assertRaisesRegex(VersionUntold, "format 2 and 3 alike, and .* have written 1"):
            format_version(b"ab", self.keyless(chart=other).formats["chart"], [card.build("1.0")])
        made = convert_bytes(b"CH\0", chart, "3", name="a.chart", source="2")
        self.assertEqual(made.data, b"CH\0")
        signed = self.keyless(
            'version = { signs = { "1" = { folder = "v1" }, "2" = { folder = "v2" } } }'
        )
        self.assertEqual(
            str(format_version(b"CH\0", signed.formats["chart"], name="x/v2/a.chart")), "2"
        )
        with self.assertRaisesRegex(VersionUntold, "disagrees: it can be read in no other .* which means 2; "
                                    "it lies in v1, which means 1"):  # fmt: skip
            two = b"CH\x01\x08\0\5\0"
            format_version(two, signed.formats["chart"], name="v1/a.chart")

    def test_on_disk(self) -> None:
        """The change converts what can be told and asks for the rest; undo gives the bytes back."""
        card, ledger = self.keyless(), self.ledger()
        files = {"a.chart": b"CH\x01\x08\0", "b.chart": b"CH\0"}
        place = self.place(files)
        change = convert_files(place, card, "2.0", ledger=ledger)
        self.assertIn(
            "in format 1 and 2 and 3 alike", str([str(each) for each in change.conflicts])
        )
        change = convert_files(place, card, "2.0", ledger=ledger, only="a.chart")
        done = change.apply(ledger)
        self.assertEqual(read_bytes(place, "a.chart"), b"CH\x01\x08\0\7\0\0\0")
        undo(done, ledger=ledger).apply(ledger)
        self.assertEqual(read_bytes(place, "a.chart"), files["a.chart"])

    def test_an_edit_stays_in_its_version(self) -> None:
        """Written again, a file is in the version it was read in; another can be said."""
        layout = Layout.parse(KEYLESS)
        document = LayoutDocument(b"CH\x01\x08\0\5\0", layout)
        document.set("quays[0].depth", 6)
        self.assertEqual(document.encode(), b"CH\x01\x08\0\6\0")
        with self.assertRaisesRegex(FormatError, "the layout has no version 4"):
            LayoutDocument(b"CH\0", layout, version=4)
        found = identify("a.chart", b"CH\0", [self.keyless()])
        self.assertEqual([each.code for each in found.findings], ["version-untold"])

    def test_the_check_of_a_card_knows_what_it_made_up(self) -> None:
        """Files made up from the layout are in the version they were made in, whatever else they fit."""
        report = check_card(self.keyless())
        self.assertEqual(
            [str(each) for each in report.findings if each.severity.name == "ERROR"], []
        )
        self.assertGreater(report.conversions, 100)


class Signs(TellingCase):
    """What a card says of files without a version key."""

    def test_a_key_and_a_sign_disagree(self) -> None:
        """What was believed before, the key alone, is now a question that shows both."""
        version = 'version = { key = "format", signs = { "1" = { has = "keys" } } }'
        chart = self.card(f'codec = "json"\n{version}' + BUILDS).formats["chart"]
        self.assertEqual(str(format_version(b'{"format": 3}', chart)), "3")
        with self.assertRaisesRegex(
            VersionUntold, "format = 3, which means 3; there is keys, which means 1"
        ):
            format_version(b'{"format": 3, "keys": 1}', chart)

    def test_no_step_is_needed_where_the_build_reads_it(self) -> None:
        """Left as it is, and told once for all such files; no fault of the card either."""
        card = self.card('codec = "json"\nversion = { key = "format" }' + BUILDS)
        place, ledger = (
            self.place({f"{n}.chart": b'{"format": 2}' for n in range(3)}),
            self.ledger(),
        )
        change = convert_files(place, card, "2.0", ledger=ledger)
        self.assertEqual((change.actions, change.conflicts), ((), ()))
        self.assertEqual(
            [note.what for note in change.notes],
            ["chart format 2 stays: peatbog 2.0 reads it, and no step leads to 3"],
        )
        codes = [each.code for each in check_card(card).findings]
        self.assertEqual(
            codes.count("no-route"), 1
        )  # from 1 to 3 alone, which build 2 does not read

    def test_a_first_card_tells_versions_apart(self) -> None:
        """By names, by folders, by keys that only some have; one sign a file, and no key is made up."""
        files = {
            "Saves/a.v1.json": b'{"x": 1}', "Saves/b.v2.json": b'{"x": 1}',
            "Worlds/v7/a.yaml": b"x: 1\n", "Worlds/v8/a.yaml": b"x: 1\n",
            "Settings/a.json": b'{"keys": 1}', "Settings/b.json": b'{"bindings": 1, "keyed": 1}',
        }  # fmt: skip
        write(self.path("Bog 1.2"), {"bog.exe": b"MZ", **files})
        os.utime(self.path("Bog 1.2", "Settings", "b.json"), (1, 1))
        write(
            self.folder,
            {"bog.card.toml": draft_card(FolderPlace(self.path("Bog 1.2")), "Bog 1.2").encode()},
        )
        card = Card.load(self.path("bog.card.toml"))
        told = {}
        for path, data in files.items():
            format = card.format_of(f"program/{path}")
            assert format is not None
            self.assertEqual(format.version_key, "")
            told[path] = str(format_version(data, format, name=f"program/{path}"))
        self.assertEqual([*told.values()], ["1", "2", "7", "8", "2", "1"])
        samples = [Sample(f"program/{path}", data) for path, data in files.items()][:-1]
        self.assertIn("no sample shows the sign of format 1: there is bindings",
                      str([each.what for each in check_card(card, samples).findings]))  # fmt: skip
