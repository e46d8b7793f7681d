"""Files that both the person and the release changed: merged inside, kept, shown, and taken back."""

from __future__ import annotations

import json
import shutil
from typing import Any

from msgspec.structs import replace

from kindred_ledger.cards import Card
from kindred_ledger.changes import undo
from kindred_ledger.convert import NotMerged, merge_inside
from kindred_ledger.errors import DecisionNeeded, LossNotAllowed
from kindred_ledger.finding import Sides
from kindred_ledger.ledger import ReleaseTag, Tag
from kindred_ledger.merge import Policy, Resolution, read_resolutions, write_resolutions
from kindred_ledger.places import MemoryPlace, ZipPlace, read_bytes, scan
from kindred_ledger.updates import UpdateChoices
from tests.support import files_in, kindred, snapshot, write
from tests.updates.test_over_the_top import InstallCase

_LINES = [b"line %d of the log of tides" % number for number in range(9)]


def lines(**changed: bytes) -> bytes:
    return b"\n".join(changed.get(f"n{at}", line) for at, line in enumerate(_LINES)) + b"\n"


BASE = {
    "data/servers.xml": b'<servers>\n  <!-- all -->\n  <server name="a"><port>1</port></server>\n'
    b'  <server name="b"><port>2</port></server>\n</servers>\n',
    "data/rules.json": b'{"coins": 10, "tides": {"spring": 2.40, "neap": 1.10}}\n',
    "data/more.ini": b"[view]\r\nfar = 3\r\nnear = 1\r\n",
    "notes.txt": lines(),
    "logo.bin": b"\0base",
}
THEIRS = {
    "data/servers.xml": BASE["data/servers.xml"].replace(b"<port>1<", b"<port>11<"),
    "data/rules.json": BASE["data/rules.json"].replace(b"2.40", b"2.5"),
    "data/more.ini": BASE["data/more.ini"] + b"[sound]\r\nhorn = 1\r\n",
    "notes.txt": lines(n7=b"theirs"),
    "logo.bin": b"\0theirs",
}
MINE = {
    "data/servers.xml": BASE["data/servers.xml"].replace(b"<port>2<", b"<port>22<"),
    "data/rules.json": BASE["data/rules.json"].replace(b'"coins": 10', b'"coins": 99'),
    "data/more.ini": BASE["data/more.ini"].replace(b"far = 3", b"far = 9"),
    "notes.txt": lines(n1=b"mine"),
}
MERGED = {
    "data/servers.xml": MINE["data/servers.xml"].replace(b"<port>1<", b"<port>11<"),
    "data/rules.json": b'{"coins": 99, "tides": {"spring": 2.5, "neap": 1.10}}\n',
    "data/more.ini": MINE["data/more.ini"] + b"[sound]\r\nhorn = 1\r\n",
    "notes.txt": lines(n1=b"mine", n7=b"theirs"),
    "logo.bin": b"\0theirs",
}


_RULES = """
[formats.rules]
files = ["/program/data/rules.json"]
codec = "json"
version = { key = "format" }
keys = { crew = "n" }
builds = [
  { builds = "<2.0", writes = "1", reads = ["1"] },
  { builds = ">=2.0", writes = "2", reads = ["2"] },
]

[[formats.rules.steps]]
from = "1"
to = "2"
do = [{ rename = "coins", to = "money" }, { drop = "old", reason = "2.0 has none" }]
"""


_DECISIONS = """
[[decisions]]
files = ["/program/logo.bin"]
take = "theirs"

[[decisions]]
files = ["/program/data/rules.json"]
fields = ["tides"]
take = "theirs"

[[decisions]]
files = ["/program/data/rules.json"]
fields = ["tides.spring"]
take = "mine"
"""


class Inside(InstallCase):
    def setUp(self) -> None:
        super().setUp()
        self.old = self.release("1.4", BASE, "old.zip")
        self.new = self.release("2.0", THEIRS, "new.zip")
        write(self.path("mossferry"), {**BASE, **MINE})

    def there(self) -> dict[str, bytes]:
        found = files_in(self.path("mossferry"))
        return {path: found[path] for path in BASE}

    def test_what_is_clean_is_merged(self) -> None:
        """XML, JSON, INI and text: told, with books that balance; undo gives the very bytes back."""
        before = snapshot(self.path("mossferry"))
        change = self.change(old=self.old)
        self.assertEqual((change.conflicts, change.losses), ((), ()))
        told = {line.item: (line.outcome.value, line.reason) for line in change.preview().lines}
        self.assertEqual(
            told["program/data/rules.json"],
            ("changed", "merged: 1 of your changes applied, 1 of theirs taken"),
        )
        self.assertEqual(snapshot(self.path("mossferry")), before)
        done = change.apply(self.kept)
        self.assertEqual(self.there(), MERGED)
        books = {s.subject: s for s in done.statements}
        for path in MINE:
            statement = books[f"program/{path}"]
            self.assertIsNotNone(statement.counted_before, path)
            reasons = {line.reason for line in statement.lines}
            self.assertTrue({"you changed it"} <= reasons, (path, reasons))
        undo(ledger=self.kept).apply(self.kept)
        self.assertEqual(snapshot(self.path("mossferry")), before)

    def test_from_the_shelf(self) -> None:
        """The old release is found there; where only digests are shelved, the question stays."""
        old = ZipPlace(self.path("old.zip"))
        self.kept.shelf.add(old, Tag(title="mossferry", version="1.4"), ReleaseTag())
        self.assertEqual(self.change().conflicts, ())
        shutil.rmtree(self.path("ledger"))
        self.kept = self.ledger()
        label = ReleaseTag(whole=False)
        self.kept.shelf.add(
            old, Tag(title="mossferry", version="1.4"), label, contents=lambda path: False
        )
        torn = self.change().conflicts
        self.assertEqual({c.where.removeprefix("program/") for c in torn}, set(MINE))
        self.assertTrue(all("only the digest is shelved" in c.what for c in torn), torn)

    def test_what_is_not_clean_is_asked(self) -> None:
        """The same value changed by both, binary files: a question that names what; others still merge."""
        write(
            self.path("mossferry"),
            {"data/rules.json": BASE["data/rules.json"].replace(b"2.40", b"9"), "logo.bin": b"\0m"},
        )
        before = snapshot(self.path("mossferry"))
        change = self.change(old=self.old)
        reasons = {c.where: c for c in change.conflicts}
        self.assertEqual(set(reasons), {"program/data/rules.json", "program/logo.bin"})
        asked = reasons["program/data/rules.json"]
        self.assertEqual((asked.field, asked.sides), ("tides.spring", Sides("2.40", "9", "2.5")))
        with self.assertRaises(DecisionNeeded):
            change.apply(self.kept)
        self.assertEqual(snapshot(self.path("mossferry")), before)
        chosen = UpdateChoices(
            mine=lambda path: path.endswith("rules.json"), theirs=lambda path: path.endswith("bin")
        )
        self.change(old=self.old, choices=chosen).apply(self.kept, allow_loss=True)
        self.assertIn(b'"spring": 9', self.there()["data/rules.json"])
        self.assertEqual(self.there()["data/servers.xml"], MERGED["data/servers.xml"])

    def test_one_side_has_all_of_it(self) -> None:
        """Edits that the release made, too: its file comes, or mine stays, and both are said so."""
        write(
            self.path("mossferry"),
            {"data/rules.json": THEIRS["data/rules.json"].replace(b'": 10', b'": 99'),
             "notes.txt": THEIRS["notes.txt"].replace(b"theirs", b"theirs  ")},
        )  # fmt: skip
        change = self.change(old=self.old)
        lines = {line.item: line for line in change.statements[0].lines}
        line = lines["program/data/rules.json"]
        self.assertEqual(line.reason, "yours stays: what the release changed is in it, too")
        self.assertEqual([c.where for c in change.conflicts], ["program/notes.txt"])

    def test_what_was_read_is_what_was_looked_at(self) -> None:
        """A side that is another one by the time it is read is not merged."""
        places = [
            MemoryPlace({"program/data/rules.json": files["data/rules.json"]})
            for files in (BASE, MINE, THEIRS)
        ]
        path = "program/data/rules.json"
        sides = [(place, scan(place)[path]) for place in places]
        self.assertTrue(merge_inside(self.card, path, sides, policy=Policy()).node.digest)
        for at, (place, _) in enumerate(sides):
            stale = [*sides[:at], (place, sides[at - 1][1]), *sides[at + 1 :]]
            with self.assertRaisesRegex(NotMerged, "changed since it was looked at"):
                merge_inside(self.card, path, stale, policy=Policy())

    def test_a_comment_that_is_lost(self) -> None:
        """It needs consent, with its text; what is merged is right all the same."""
        self.new = self.release(
            "2.0", {**THEIRS, "data/more.ini": b"[view]\r\nfar = 3\r\nnear = 2\r\n"}, "other.zip"
        )
        for far in (b"9 ", b"3"):  # something is left of mine, or nothing
            mine = b"[view]\r\nfar = %s\r\n; mine\r\nnear = 1\r\n" % far
            write(self.path("mossferry"), {"data/more.ini": mine})
            change = self.change(old=self.old)
            self.assertEqual(
                [loss.what for loss in change.losses],
                ["your comment is not in the merged file: mine"],
            )
            with self.assertRaises(LossNotAllowed):
                change.apply(self.kept)

    def test_a_new_format_version(self) -> None:
        """Base and mine go through the card's steps first; what I changed is what is merged."""
        with open(self.path("mossferry.card.toml"), "a", encoding="utf-8") as file:
            file.write(_RULES)
        self.card = Card.load(self.path("mossferry.card.toml"))
        base = b'{"format": "1", "coins": 10, "old": 1, "crew": [{"id": 1, "n": 1}]}'
        theirs = b'{"format": "2", "money": 10, "new": 5, "crew": [{"id": 2, "n": 1}]}'
        self.old = self.release("1.4", {**BASE, "data/rules.json": base}, "old.zip")
        self.new = self.release("2.0", {**THEIRS, "data/rules.json": theirs}, "new.zip")
        mine = base.replace(b'"coins": 10', b'"coins": 99').replace(b'"n": 1', b'"n": 1, "x": 2')
        for old, lost in ((b'"old": 1', []), (b'"old": 7', ["program/data/rules.json: old"])):
            write(self.path("mossferry"), {"data/rules.json": mine.replace(b'"old": 1', old)})
            change = self.change(old=self.old)
            self.assertEqual(([loss.place for loss in change.losses], change.conflicts), (lost, ()))
            action = next(a for a in change.actions if a.path.endswith("rules.json"))
            assert action.source is not None
            made = json.loads(read_bytes(action.source, action.source_path))
            wanted = {"format": "2", "money": 99, "new": 5, "crew": [{"id": 2, "n": 1, "x": 2}]}
            self.assertEqual(made, wanted)

    def test_on_the_command_line(self) -> None:
        """What is merged is shown with its books, on screen and in the JSON."""
        args = ("update", "mossferry", "new.zip", "--old", "old.zip")
        shown = kindred(*args, "--dry-run", folder=self.folder)
        self.assertEqual(shown.returncode, 0, shown.stderr)
        self.assertIn("merged: 1 of your changes applied, 1 of theirs taken", shown.stdout)
        self.assertIn("you changed it  view.far, coins", shown.stdout)
        found = self.kindred(*args, "--yes")
        books = {each["subject"]: each for each in found["change"]["books"]}
        self.assertEqual(books["program/data/rules.json"]["totals"]["changed"], 1)
        self.assertEqual(self.there(), MERGED)


class Decided(InstallCase):
    """What was decided of single fields, typed or in a file, and what that must not decide."""

    def setUp(self) -> None:
        super().setUp()
        mine = {
            "data/rules.json": BASE["data/rules.json"]
            .replace(b"2.40", b"9")
            .replace(b"1.10", b"8"),
            "logo.bin": b"\0mine",
        }
        theirs = {**THEIRS, "data/rules.json": THEIRS["data/rules.json"].replace(b"1.10", b"7")}
        self.old = self.release("1.4", BASE, "old.zip")
        self.new = self.release("2.0", theirs, "new.zip")
        write(self.path("mossferry"), {**BASE, **mine})
        self.file = self.path("decided.toml")

    def decided(self, *args: str, status: int = 3) -> dict[str, Any]:
        """Return what update says of the change when these options are given."""
        done = kindred(
            "update", "mossferry", "new.zip", "--old", "old.zip", "--dry-run", "--json", *args,
            folder=self.folder,
        )  # fmt: skip
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        found: dict[str, Any] = json.loads(done.stdout)
        return found

    def asked(self, found: dict[str, Any]) -> list[str]:
        """Return the fields, or files, that are in question."""
        each = [one for one in found["change"]["findings"] if one["severity"] == "conflict"]
        return [one.get("field", one["where"]) for one in each]

    def test_typed(self) -> None:
        """Field by field; what gives way to theirs is a loss; a slip decides nothing, and is told."""
        open_ = ["tides.spring", "tides.neap", "program/logo.bin"]
        self.assertEqual(self.asked(self.decided()), open_)
        found = self.decided(
            "--mine", "rules.json:tides.spring", "--theirs", "rules.json:tides.neap"
        )
        self.assertEqual(self.asked(found), open_[2:])
        lost = [one for one in found["change"]["findings"] if one["severity"] == "loss"]
        self.assertEqual([(x["code"], x["field"]) for x in lost], [("overwritten", "tides.neap")])
        self.assertIn("8 is now 7", lost[0]["what"])
        self.assertEqual(self.asked(self.decided("--mine", "rules.json:tides")), open_[2:])
        for slip in ("rules.json:tides.sprng", "rules.json:tides.spr", "rulez.json:tides.spring"):
            error = self.decided("--mine", slip, status=2)["error"]
            self.assertIn(repr(slip) if "rules" in slip else "'rulez.json'", error["what"])

    def test_the_card_decides(self) -> None:
        """Fields and files, later rows first; what gives way is a loss; who types otherwise is heeded."""
        with open(self.path("mossferry.card.toml"), "a", encoding="utf-8") as file:
            file.write(_DECISIONS)
        found = self.decided("--lines", status=0)
        lost = [x for x in found["change"]["findings"] if x["severity"] == "loss"]
        self.assertEqual(
            [(x["where"], x.get("field")) for x in lost],
            [("program/data/rules.json", "tides.neap"), ("program/logo.bin", None)],
        )
        lines = {x["item"]: x for book in found["change"]["books"] for x in book["lines"]}
        self.assertEqual(lines["program/logo.bin"]["reason"], "replaced: the card says so")
        self.assertEqual(lines["tides.spring"]["reason"], "the card says so")
        typed = self.decided("--theirs", "rules.json:tides.spring", "--mine", "logo.bin", status=0)
        losses = [x for x in typed["change"]["findings"] if x["severity"] == "loss"]
        self.assertEqual([x["field"] for x in losses], ["tides.spring", "tides.neap"])
        kept = self.decided("--mine", "rules.json:tides", "--mine", "logo.bin", "--lines", status=0)
        lines = {x["item"]: x for book in kept["change"]["books"] for x in book["lines"]}
        self.assertEqual(
            lines["program/data/rules.json"]["reason"], "yours stays: decided field by field"
        )

    def test_without_the_old_release(self) -> None:
        """What is mine by decision stays then, too; what nobody decided gives way to the release."""
        change = self.change(choices=UpdateChoices(mine=lambda path: path.endswith("logo.bin")))
        told = {line.item: line.reason for line in change.statements[0].lines}
        self.assertEqual(told["program/logo.bin"], "yours stays: you decided so")
        self.assertIn("the old release is not known", told["program/data/rules.json"])

    def test_a_colon_without_a_field(self) -> None:
        """It would mean every record of a list at the top, so it is refused."""
        error = self.decided("--theirs", "rules.json:", status=2)["error"]
        self.assertIn("'rules.json:' names no field", error["what"])

    def test_a_file_of_resolutions(self) -> None:
        """It is filled with what is open, decides once it is filled in, and no more if a side changed."""
        found = self.decided("--resolutions", "decided.toml")
        with open(self.file, encoding="utf-8") as file:
            made = read_resolutions(file.read())
        self.assertEqual([each.field or each.file for each in made], self.asked(found))
        self.assertEqual(made[0].sides, Sides("2.40", "9", "2.5"))
        takes = [
            replace(each, take=take)
            for each, take in zip(made, ("mine", "theirs", "theirs"), strict=True)
        ]
        write(self.folder, {"decided.toml": write_resolutions(takes).encode()})
        change = self.decided("--resolutions", "decided.toml", status=0)["change"]
        self.assertEqual(
            [(x["where"], x.get("field")) for x in change["findings"] if x["severity"] == "loss"],
            [("program/data/rules.json", "tides.neap"), ("program/logo.bin", None)],
        )
        rules = BASE["data/rules.json"].replace(b"2.40", b"10").replace(b"1.10", b"8")
        write(self.path("mossferry"), {"data/rules.json": rules, "logo.bin": b"\0mine, and new"})
        found = self.decided("--resolutions", "decided.toml")
        self.assertEqual(self.asked(found), ["tides.spring", "program/logo.bin"])
        with open(self.file, encoding="utf-8") as file:
            again = {each.field: each for each in read_resolutions(file.read())}
        self.assertEqual(again["tides.neap"].take, "theirs")
        spring = again["tides.spring"]
        self.assertEqual((spring.take, spring.mine), ("", "10"))
        self.assertEqual(spring.before, "mine, of 2.40 | 9 | 2.5")

    def test_what_is_no_such_file(self) -> None:
        """Named, with the place; it is left as it was."""
        for text, words in (
            ("[[resolutions]]\nfile = 1\n", "no file of resolutions"),
            ("x = [", "no file of resolutions"),
            (
                write_resolutions([Resolution("a", "b", "1", "2", "3", "both")]),
                "'both' cannot be taken",
            ),
        ):
            write(self.folder, {"decided.toml": text.encode()})
            error = self.decided("--resolutions", "decided.toml", status=2)["error"]
            self.assertIn(words, error["what"])
            with open(self.file, encoding="utf-8") as file:
                self.assertEqual(file.read(), text)
