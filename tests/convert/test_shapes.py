"""What a card's steps make of old files, held against the files that a release ships in the new format."""

from __future__ import annotations

from kindred_ledger.cards import Card
from kindred_ledger.convert import Sample, check_card
from kindred_ledger.places import FolderPlace
from kindred_ledger.releases.shelving import shelve
from tests.support import PEATBOG, Case, write

CARD = (
    PEATBOG
    + """[[detect]]
file = "version.txt"
pattern = "{version}"
[formats.parts]
files = ["/program/parts/*.json"]
codec = "json"
version = { key = "format" }
builds = [{ builds = "<2", writes = "1", reads = ["1"] }, { builds = ">=2", writes = "2", reads = ["2"] }]
[[formats.parts.steps]]
from = "1"
to = "2"
do = [{ rename = "len", to = "length" }]
"""
)
OLD = b'{"format": 1, "len": 250, "colour": "red", "ids": {"b1": 1, "b2": 2}, "rows": [{"a": 1}]}'


class Shapes(Case):
    def unlike(self, shipped: dict[str, bytes], card: str = CARD) -> dict[str | None, str]:
        """Shelve a release with some files; return what is unlike them, by field."""
        write(self.folder, {"peatbog.card.toml": card.encode()})
        write(self.path("release"), {"peat.exe": b"MZ", "version.txt": b"2.0", **shipped})
        ledger, found = self.ledger(), Card.load(self.path("peatbog.card.toml"))
        shelve([FolderPlace(self.path("release"))], found, ledger=ledger, version="2.0")
        report = check_card(found, [Sample("parts/mine.json", OLD)], ledger=ledger)
        self.assertTrue(report.is_sound)
        return {f.field: f.what for f in report.findings if f.code == "unlike-release"}

    def test_what_a_step_forgot(self) -> None:
        """A key that did not come, one that stayed, another kind or scale; names of things are none."""
        shipped = (
            b'{"format": 2, "length": 2.5, "hue": "red", "ids": {"c7": 3}, "rows": [{"a": "x"}]}'
        )
        told = self.unlike({f"parts/{n}.json": shipped for n in "ab"})
        self.assertEqual(
            told,
            {
                "hue": "every file of the release has it, and no result",
                "colour": "every result has it, and no file of the release",
                "rows[*].a": "it is a number, and a text in the release",
                "length": "it goes up to 250, and up to 2.5 in the release",
            },
        )

    def test_what_is_right_is_silent(self) -> None:
        """Also where some of the files have a key and others do not."""
        good = b'{"format": 2, "length": 90, "colour": "sky", "ids": {}, "rows": []}'
        more = b'{"format": 2, "length": 90, "colour": null, "extra": 1, "ids": {}, "rows": []}'
        self.assertEqual(self.unlike({"parts/a.json": good, "parts/b.json": more}), {})

    def test_files_that_tell_nothing(self) -> None:
        """One that is damaged, and one that is of no format: the rest is checked all the same."""
        self.assertEqual(self.unlike({"parts/a.json": b"not json", "else.json": b"{}"}), {})
