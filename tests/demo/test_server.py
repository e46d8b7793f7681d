"""The files of the dedicated server and the handheld: what we read is what they read."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from decimal import Decimal
from typing import Any

from kindred_ledger.cards import Card
from kindred_ledger.convert import convert_bytes
from kindred_ledger.formats import Document
from tests.support import PlayCase, kindred, write


class Server(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        self.card = Card.load(self.path("mossferry.card.toml"))

    def files(self) -> dict[str, Document]:
        """Return the server's files by path, each decoded as the card says."""
        out = {}
        for top in ("server", "handheld"):
            for folder, _, names in os.walk(self.path(top)):
                for name in names:
                    formats = [f for f in self.card.formats.values() if f.fits_name(name)]
                    if formats:
                        with open(os.path.join(folder, name), "rb") as file:
                            out[os.path.join(folder, name)] = formats[0].decode(file.read())
        return out

    def judged(self, path: str) -> Any:
        done = subprocess.run(
            [
                sys.executable,
                "-I",
                "-S",
                self.path("server", "mossferry_server.py"),
                "--read",
                path,
            ],
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stdout)
        return json.loads(done.stdout)

    def test_all_versions_come_back_and_agree_with_the_server(self) -> None:
        """Voyages 3 to 6, worlds 1 and 2, tuning, tables, the handheld's: bytes and values."""
        files = self.files()
        self.assertEqual(len(files), 9)
        for path, document in files.items():
            with open(path, "rb") as file:
                self.assertEqual(document.encode(), file.read())
            self.assertEqual(_as_the_server(path, document), self.judged(path), path)

    def test_what_was_edited_is_what_the_server_reads(self) -> None:
        """Tables grow, blocks move and are compressed anew, checksums follow: the server loads all."""
        edits: dict[str, tuple[tuple[Any, Any], ...]] = {
            ".mfsv": (
                (("captain",), "Ada Fenwick of the Long Haul"),
                (("crew", 4), {"id": 5, "name": "Gil"}),
                (("holds", "goods", 1, "amount"), 700),
                (("marks", "moored"), True),
            ),
            ".bog": (
                (("ground", 0, "ids", 5), 2),
                (("grounds", 6), "sand"),
                (("ground", 9, "ids", 0), 6),
            ),
            ".bin": ((("tables", 1, "rows", 2), {"key": "dew", "value": Decimal("0.1")}),),
            ".xml": ((("route", 0, "stop", 1, "@quay"), "Dunlin & Steps"),),
            ".pocket": ((("coins",), 70_000), (("crew", 3), "Gil")),
        }
        for path, document in self.files().items():
            for where, value in edits[os.path.splitext(path)[1]]:
                document.set(where, value)
            data = document.encode()
            write(os.path.dirname(path), {os.path.basename(path): data})
            format = next(f for f in self.card.formats.values() if f.fits_name(path))
            self.assertEqual(_as_the_server(path, format.decode(data)), self.judged(path), path)
            if path.endswith((".mfsv", ".pocket", ".xml")):
                self.assertEqual(document.get(edits[os.path.splitext(path)[1]][0][0]),
                                 edits[os.path.splitext(path)[1]][0][1])  # fmt: skip

    def test_a_voyage_of_another_version_by_the_layout_alone(self) -> None:
        """What came since has its default; what has no place any more is refused, and named."""
        path = self.path("server", "voyages", "low-water.mfsv")
        document = self.files()[path]
        document.set(("header", "format"), 5)
        document.set(("header", "build"), "2.0")
        document.set(("coins",), document.get(("purse",)))
        with self.assertRaisesRegex(Exception, "'purse' has no place in version 5"):
            document.encode()
        document.remove(("purse",))
        write(os.path.dirname(path), {"low-water.mfsv": document.encode()})
        told = self.judged(path)
        self.assertEqual((told["format"], {hand["morale"] for hand in told["crew"]}), (5, {50}))

    def test_tuning_and_tables_of_2_1(self) -> None:
        """Wider by the layout alone, renamed and rescaled in XML: the server reads the same; and back."""
        for path in (self.path("server", "data", "tuning.bin"), self.path("server", "tables.xml")):
            format = next(f for f in self.card.formats.values() if f.fits_name(path))
            with open(path, "rb") as file:
                old = file.read()
            told = self.judged(path)
            one, two = map(format.scheme.parse, "12")
            new = convert_bytes(old, format, two, name=path, source=one).data
            write(os.path.dirname(path), {os.path.basename(path): new})
            self.assertEqual(self.judged(path), told)
            back = convert_bytes(new, format, one, name=path).data
            if path.endswith(".xml"):
                self.assertEqual(back.replace(b' format="1"', b""), old)
            write(os.path.dirname(path), {os.path.basename(path): back})
            self.assertEqual(self.judged(path), told)

    def test_identify_and_the_layout_commands(self) -> None:
        """Kind, format, version and builds; a wrong name; a dump; a check; damage with its place."""
        done = kindred("file", "identify", "--json", "server", "handheld", folder=self.folder)
        told = {f["name"]: f for f in json.loads(done.stdout)["files"]}
        voyage = told["server/voyages/reed-cutting.mfsv"]["matches"][0]
        self.assertEqual((voyage["format"], voyage["version"]), ("server-voyage", "5"))
        self.assertEqual(
            (voyage["writes"], voyage["reads"]), ([">=2.0,<2.1"], [">=2.0,<2.1", ">=2.1"])
        )
        self.assertEqual(told["handheld/evening.pocket"]["kind"], "cbor")
        with open(self.path("mossferry", "userdata", "controls.json"), "rb") as file:
            write(self.folder, {"odd.xml": file.read()})
        done = kindred("file", "identify", "odd.xml", folder=self.folder)
        self.assertEqual(done.returncode, 1)
        self.assertIn(
            "its name says xml (.xml), its content is json: such files are named .json", done.stdout
        )
        done = kindred("file", "dump", "server/voyages/long-haul.mfsv", folder=self.folder)
        self.assertRegex(done.stdout, r"000000  4d 46 53 56 +magic +\"MFSV\"")
        voyages = [
            f"server/voyages/{n}" for n in sorted(os.listdir(self.path("server", "voyages")))
        ]
        done = kindred("card", "layout", "check", "voyage.layout", *voyages, folder=self.folder)
        self.assertEqual((done.returncode, "Every field" in done.stdout), (0, True), done.stdout)
        done = kindred("card", "layout", "check", "voyage.layout", voyages[0], folder=self.folder)
        self.assertEqual(
            (done.returncode, "no sample is of versions 4 to 6" in done.stdout), (1, True)
        )
        newer = "mossferry/userdata/saves/newer.voyage"
        write(self.folder, {newer: b'{"format": 5}'})
        done = kindred("file", "identify", newer, folder=self.folder)
        told = (
            "an install of 1.4, which writes format 4 and reads 3, 4: format 5 is of another build"
        )
        self.assertEqual((done.returncode, told in done.stdout), (1, True), done.stdout)
        write(self.path("server", "voyages"), {"bad.mfsv": b"MFSV\x05\x00\xffabc"})
        done = kindred("file", "identify", "server/voyages/bad.mfsv", folder=self.folder)
        self.assertEqual(
            (done.returncode, "byte 7 (header.build)" in done.stdout), (1, True), done.stdout
        )


def _as_the_server(path: str, document: Document) -> Any:
    """Return a document in the shape the server prints."""
    values = document.get(())
    kind = os.path.splitext(path)[1]
    if kind == ".mfsv":
        crew = [_plain(hand) for hand in values["crew"]]
        return {
            "format": values["header"]["format"],
            "build": values["header"]["build"],
            "captain": values["captain"],
            "money": values.get("purse", values.get("coins")),
            "weather": values["weather"],
            "moored": values["marks"]["moored"],
            "lantern": values["marks"]["lantern"],
            "crew": crew,
            "goods": {row["good"]: row["amount"] for row in values["holds"]["goods"]},
            "log": values.get("log", values.get("journal")),
        }
    if kind == ".bog":
        tiles = [None if tile is None else tile["ids"] for tile in values["ground"]]
        names = ("format", "wide", "high", "grounds")
        season = values.get("season", "reed")
        return {**{n: values[n] for n in names}, "season": season, "tiles": tiles}
    if kind == ".bin":
        names = [row["name"] for row in values["directory"]]
        rows = [{r["key"]: float(r["value"]) for r in t["rows"]} for t in values["tables"]]
        return dict(zip(names, rows, strict=True))
    if kind == ".xml":
        routes = {
            r["@id"]: [[s["@quay"], int(s["@minutes"]) * 60] for s in r["stop"]]
            for r in values["route"]
        }
        return {"server": values["@name"], "routes": routes}
    return _plain(values)


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _plain(inner) for key, inner in value.items()}
    return float(value) if isinstance(value, Decimal) else value
