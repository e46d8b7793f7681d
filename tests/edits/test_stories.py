"""A server's tables, a mod's table and a set of edits come to a new release; the ferry house judges each."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import struct
import tomllib
import unittest
import zipfile
from typing import Any

from kindred_ledger.demo.rented_server import write_remotes
from tests.cli.screen import OnScreen, pty
from tests.servers import sftp_server
from tests.support import PlayCase, files_in, kindred, write

BUILDS = ("1.3", "1.4", "2.0")
CONFIG = "program/config/house.ini"
DECIDED = ("--mine", "*goods.xml:good[id=reeds].@price", "--agree")


def contents(folder: str) -> dict[str, bytes]:
    """Return the bytes of every file below a folder, without what a program leaves of itself."""
    return {path: data for path, data in files_in(folder).items() if "__pycache__" not in path}


def conflicts(told: dict[str, Any]) -> list[dict[str, Any]]:
    """Return the conflicts of what a command printed."""
    found = next(told[key] for key in ("change", "error") if key in told)["findings"]
    return [one for one in found if one["severity"] == "conflict"]


def rows(data: bytes) -> dict[int, tuple[float, int]]:
    """Read the currents by hand: pull and depth of each reach."""
    found, at = {}, 8
    while at < len(data):
        number, size = struct.unpack_from("<HB", data, at)
        found[number] = struct.unpack_from("<fH", data, at + 3 + size)
        at += 9 + size
    return found


class EditsCase(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        self.folder = self.path("edits")
        self.shelf(*BUILDS)

    def shelf(self, *builds: str) -> None:
        for build in builds:
            dated = ("--date", build) if build.startswith("20") else ()
            card = ("--card", "ferryhouse.card.toml")
            name = f"downloads/ferryhouse-{build}.zip"
            self.kindred("shelf", "add", name, *card, *dated)

    def text(self, *parts: str) -> str:
        with open(self.path(*parts), encoding="utf-8") as file:
            return file.read()

    def edit(self, name: str, old: str, new: str) -> None:
        before = self.text(*name.split("/"))
        self.assertIn(old, before)
        write(self.folder, {name: before.replace(old, new).encode()})


class Server(EditsCase):
    """Tables edited at 1.3 go to 2.0; 1.4 is skipped, and the format is another."""

    def test_the_story(self) -> None:
        """A conflict, a decision, what must agree, a server that opens, and the way back to the byte."""
        before = contents(self.path("ferryhouse"))
        asked = ("reapply", "ferryhouse", "release:ferryhouse@2.0", "--into", "ferryhouse")
        told = self.kindred(*asked, "--yes", status=3)
        found = conflicts(told)
        self.assertEqual([one["field"] for one in found], ["good[id=reeds].@price"])
        self.assertEqual(found[0]["sides"], {"base": "4", "mine": "6", "theirs": "5"})
        self.assertEqual(contents(self.path("ferryhouse")), before)
        done = self.kindred(*asked, *DECIDED, "--yes", "--allow", "comment-lost")
        self.assertTrue(done["applied"])
        status, said = self.judge("ferryhouse")
        self.assertEqual(status, 0, said)
        self.assertIn("2.0 opens: 14 quays, 9 goods", said)
        self.held(self.path("ferryhouse"))
        after = contents(self.path("ferryhouse"))
        self.assertEqual(after["worlds/northbog.bog"], before["worlds/northbog.bog"])
        self.kindred("undo", "--yes")
        self.assertEqual(contents(self.path("ferryhouse")), before)

    def held(self, folder: str) -> None:
        """Look for the edits of both sides by hand, in the texts."""
        quays, goods = (self.text(folder, "tables", name) for name in ("quays.xml", "goods.xml"))
        mine = (
            'id="3" name="Dunlin',
            'toll="2"',
            'owner="Ada Quill"',
            'id="40" name="Quill Steps"',
        )
        theirs = ('id="0" name="Old Sluice"', 'name="Dunlin Stairs"', 'quays="14"', 'format="2"')
        for part in (*mine[1:], *theirs):
            self.assertIn(part, quays)
        self.assertLess(quays.index('id="9"'), quays.index('id="40"'))
        self.assertLess(quays.index('id="40"'), quays.index('id="10"'))
        for part in ('id="peat" price="9"', 'id="reeds" price="6"', 'id="honey" price="11"'):
            self.assertIn(part, goods)
        config = self.text(folder, "config", "house.ini")
        self.assertIn("slots = 24\nbell = yes", config)
        notice = self.text(folder, "notice.txt").splitlines()
        self.assertEqual(notice[0], "Welcome to the ferry house.")
        self.assertEqual(notice[2], "No peat on deck, Tobias!")

    def test_both_books_name_every_change(self) -> None:
        """Mine: applied, superseded or in conflict; theirs: taken or overridden; counted by hand here."""
        asked = ("reapply", "ferryhouse", "release:ferryhouse@2.0", "--into", "new", *DECIDED)
        told = self.kindred(*asked, "--dry-run", "--lines")["change"]
        books = {one["subject"]: one for one in told["books"]}
        mine = {line["item"]: line["reason"] for line in books["your edits"]["lines"]}
        self.assertEqual(
            {item.removeprefix("program/") for item in mine},
            {
                "config/house.ini: house.slots",
                "notice.txt: lines",
                "tables/goods.xml: good[id=peat].@price",
                "tables/goods.xml: good[id=reeds].@price",
                "tables/quays.xml: @owner",
                "tables/quays.xml: @quays",
                "tables/quays.xml: quay[id=3].@toll",
                "tables/quays.xml: quay[id=40]",
            },
        )
        theirs = {line["item"]: line["reason"] for line in books["their changes"]["lines"]}
        over = [item for item, reason in theirs.items() if reason.startswith("overridden")]
        self.assertEqual(over, ["program/tables/goods.xml: good[id=reeds].@price"])
        self.assertIn("program/tables/quays.xml: quay[id=2].@name", theirs)
        self.assertEqual(sum(books["your edits"]["totals"].values()), books["your edits"]["before"])

    def test_the_agreement_is_a_suggestion(self) -> None:
        """Not asked for, the count stays, is told, and the server says what is wrong."""
        asked = ("reapply", "ferryhouse", "release:ferryhouse@2.0", "--into", "ferryhouse")
        told = self.kindred(*asked, *DECIDED[:2], "--yes", "--allow", "comment-lost")
        self.assertIn("@quays", [one.get("field") for one in told["change"]["findings"]])
        status, said = self.judge("ferryhouse")
        self.assertEqual(status, 1)
        self.assertIn("the head says 13 quays, there are 14", said)

    def test_a_decision_is_remembered_with_what_it_was_about(self) -> None:
        """A resolutions file is written, edited, used, and asks again when a side changed."""
        asked = ("reapply", "ferryhouse", "release:ferryhouse@2.0", "--into", "new")
        loss = ("--allow", "comment-lost", "--agree")
        self.kindred(*asked, "--resolutions", "mine.toml", "--yes", status=3)
        found = tomllib.loads(self.text("mine.toml"))["resolutions"]
        self.assertEqual([one["field"] for one in found], ["good[id=reeds].@price"])
        self.edit("mine.toml", 'take = ""', 'take = "mine"')
        self.kindred(*asked, "--resolutions", "mine.toml", "--dry-run", *loss)
        self.edit("ferryhouse/tables/goods.xml", 'price="6"', 'price="7"')
        told = self.kindred(*asked, "--resolutions", "mine.toml", "--yes", *loss, status=3)
        self.assertEqual([one["sides"]["mine"] for one in conflicts(told)], ["7"])
        self.assertFalse(os.path.exists(self.path("new")))


@unittest.skipUnless(pty, "needs a terminal")
class Terminal(OnScreen, EditsCase):
    def test_one_by_one(self) -> None:
        """The three sides are shown; the answer counts, is written down, and stopping writes nothing."""
        asked = ("reapply", "ferryhouse", "release:ferryhouse@2.0", "--into", "new", "--agree")
        prompts = ("now? [y/N]", "[l]ater", "losses? [y/N]")
        later = ("y", "l")
        status, shown = self.converse(*asked, answers=later, prompts=prompts)
        self.assertEqual((status, os.path.exists(self.path("new"))), (3, False), shown)
        more = ("--resolutions", "mine.toml")
        status, shown = self.converse(*asked, *more, answers=("y", "m", "y"), prompts=prompts)
        self.assertEqual(status, 0, shown)
        self.assertRegex(shown, r"before +mine +theirs")
        self.assertRegex(shown, r"\b4 +6 +5\b")
        self.assertIn('id="reeds" price="6"', self.text("new", "tables", "goods.xml"))
        self.assertIn('take = "mine"', self.text("mine.toml"))


class Rented(EditsCase):
    """The same on a server: fetched, merged, and only what changed is sent."""

    def test_on_a_server(self) -> None:
        """Its edits come to 2.0 where they are; the world there is not touched; undo gives the bytes back."""
        before = contents(self.path("ferryhouse"))
        url, login = self.enterContext(sftp_server(self.path("ferryhouse")))
        write_remotes(self.path("remotes.toml"), url, login)
        known = {"KINDRED_REMOTES": self.path("remotes.toml")}
        card = ("--card", "ferryhouse.card.toml")
        asked = ("reapply", url, "release:ferryhouse@2.0", "--into", url, *card, *DECIDED)
        allowed = ("--yes", "--allow", "comment-lost", "--json")
        done = kindred(*asked, *allowed, folder=self.folder, environment=known)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("2.0 opens: 14 quays", self.judge("ferryhouse")[1])
        after = contents(self.path("ferryhouse"))
        self.assertEqual(after["worlds/northbog.bog"], before["worlds/northbog.bog"])
        totals = json.loads(done.stdout)["change"]["place_books"]["totals"]
        self.assertEqual((totals["changed"], totals["unchanged"]), (7, 2))  # seven are sent
        undone = kindred("undo", "--yes", folder=self.folder, environment=known)
        self.assertEqual(undone.returncode, 0, undone.stdout + undone.stderr)
        self.assertEqual(contents(self.path("ferryhouse")), before)


class Mod(EditsCase):
    """A table edited on a build without a number comes to 1.4."""

    def test_its_base_is_the_dated_build(self) -> None:
        """Found between two named ones by its fields; the server judges what comes of it."""
        asked = ("reapply", "quick-currents", "release:ferryhouse@1.4", "--into", "new")
        named = ("--card", "ferryhouse.card.toml")
        refused = kindred(*asked, *named, "--dry-run", folder=self.folder)
        self.assertNotIn("made from ferryhouse@2026", refused.stdout)
        self.shelf("2026-02-10")
        told = self.kindred(*asked, *named, "--yes")
        found = [one["what"] for one in told["change"]["findings"]]
        self.assertTrue(any("made from ferryhouse@2026-02-10" in what for what in found), found)
        os.rename(self.path("new"), self.path("judged"))
        shutil.copytree(self.path("judged"), self.path("at", "ferryhouse"))
        self.assertEqual(self.judge("at/ferryhouse")[0], 0)
        self.held()

    def held(self) -> None:
        """Look for the edits of both sides by hand: two pulls of the mod, all else of 1.4."""
        with zipfile.ZipFile(self.path("downloads", "ferryhouse-1.4.zip")) as released:
            theirs = rows(released.read("ferryhouse-1.4/data/currents.bin"))
        mine = rows(contents(self.path("quick-currents"))["data/currents.bin"])
        result = rows(contents(self.path("judged"))["data/currents.bin"])
        differing = {number for number in theirs if theirs[number] != result[number]}
        self.assertEqual(differing, {3, 11})
        for number in differing:
            self.assertEqual(result[number], (mine[number][0], theirs[number][1]))


class Sets(EditsCase):
    """What I changed, as a file: taken, read, put, combined, dropped."""

    def take(self, name: str, edited: str = "ferryhouse") -> str:
        self.kindred("edits", "take", edited, "--by", "Ada Quill", "--out", name)
        return name

    def test_put_on_its_base_it_is_mine_again(self) -> None:
        """The bytes of every edited file, and a second time nothing."""
        mine = contents(self.path("ferryhouse"))
        self.take("mine.edits.toml")
        put = ("edits", "put", "mine.edits.toml", "release:ferryhouse@1.3", "--into", "again")
        told = self.kindred(*put, "--yes")["change"]["findings"]
        again = contents(self.path("again"))
        mine.pop("worlds/northbog.bog")  # no edit of the originals
        config = mine["config/house.ini"].replace(b"; we are many\n", b"")
        self.assertEqual([one["where"] for one in told if one["code"] == "comments-stay"], [CONFIG])
        self.assertEqual(again, {**mine, "config/house.ini": config})
        twice = self.kindred("edits", "put", "mine.edits.toml", "again", "--yes")
        self.assertEqual(twice.get("applied"), None)
        self.assertEqual(contents(self.path("again")), again)

    def test_onto_a_later_release_it_is_what_reapply_gives(self) -> None:
        """Without the base at hand too."""
        self.take("mine.edits.toml")
        new = "release:ferryhouse@2.0"
        self.kindred("edits", "put", "mine.edits.toml", new, "--into", "put", *DECIDED, "--yes")
        said = ("--into", "applied", *DECIDED, "--yes", "--allow", "comment-lost")
        self.kindred("reapply", "ferryhouse", new, *said)
        self.assertEqual(contents(self.path("put")), contents(self.path("applied")))
        bare = ("mine.edits.toml", "downloads/ferryhouse-1.4.zip", "--into", "bare")
        card = ("--card", "ferryhouse.card.toml", "--ledger", "empty", "--yes")
        self.kindred("backup", "quick-currents", "--build", "1", "--ledger", "empty")
        self.kindred("edits", "put", *bare, *card)
        self.assertIn('id="peat" price="9"', self.text("bare", "tables", "goods.xml"))

    def test_sets_of_two_people(self) -> None:
        """Clashes are shown and decided; what is dropped is gone, by a pattern that fits something."""
        self.take("mine.edits.toml")
        shutil.copytree(self.path("ferryhouse"), self.path("other"))
        self.edit("other/tables/goods.xml", 'price="9" at="5"', 'price="10" at="5"')
        self.edit("other/notice.txt", "Eels travel", "Live eels travel")
        self.take("other.edits.toml", "other")
        both = (
            "edits",
            "combine",
            "mine.edits.toml",
            "other.edits.toml",
            "--out",
            "both.edits.toml",
        )
        told = self.kindred(*both, status=3)
        clashes = [one["field"] for one in told["findings"] if one["severity"] == "conflict"]
        self.assertEqual(clashes, ["good[id=peat].@price"])
        self.assertFalse(os.path.exists(self.path("both.edits.toml")))
        self.kindred(*both, "--prefer-set", "other.edits.toml")
        self.assertIn("10", self.text("both.edits.toml"))
        dropped = self.kindred("edits", "drop", "both.edits.toml", "*goods.xml:good[id=peat].*")
        self.assertEqual(dropped["dropped"], 1)
        done = kindred("edits", "drop", "both.edits.toml", "*goodz.xml", folder=self.folder)
        self.assertEqual(
            (done.returncode, "matches no edit" in done.stderr), (2, True), done.stderr
        )

    def test_as_a_table(self) -> None:
        """A row an edit, for people and as CSV."""
        self.take("mine.edits.toml")
        shown = kindred("edits", "show", "mine.edits.toml", "--out", "e.csv", folder=self.folder)
        for part in ("by: Ada Quill", "good[id=peat].@price", "quay[id=40]", "made on"):
            self.assertIn(part, shown.stdout)
        rows = self.text("e.csv").splitlines()
        self.assertEqual(rows[0], "file,what,where,before,after")
        self.assertIn("program/tables/goods.xml,changed,good[id=peat].@price,12,9", rows)

    def test_a_record_that_has_another_name_now(self) -> None:
        """It is found by what it held, said, and edited only where that is asked for."""
        self.take("mine.edits.toml")
        with zipfile.ZipFile(self.path("downloads", "ferryhouse-1.4.zip")) as released:
            released.extractall(self.path("out"))
        os.rename(self.path("out", "ferryhouse-1.4"), self.path("renamed"))
        self.edit("renamed/tables/quays.xml", 'id="3"', 'id="303"')
        card = ("--card", "ferryhouse.card.toml", "--ledger", "empty")
        self.kindred("backup", "quick-currents", "--build", "1", "--ledger", "empty")
        put = ("edits", "put", "mine.edits.toml", "renamed", *card)
        told = self.kindred(*put, "--dry-run", status=3)
        self.assertEqual([one["field"] for one in conflicts(told)], ["quay[id=3]"])
        self.assertIn("quay[id=303] is like it", str(told))
        self.kindred(*put, "--follow", "--yes")
        quays = self.text("renamed", "tables", "quays.xml")
        self.assertIn('id="303" name="Dunlin Steps" fare="2"', quays)


class BadInput(EditsCase):
    """Each is an error with place and remedy, or a finding, and nothing is written."""

    def refused(self, *args: str, says: str, status: int = 2) -> str:
        before = contents(self.folder)
        done = kindred(*args, folder=self.folder)
        told = done.stdout + done.stderr
        self.assertEqual(done.returncode, status, told)
        self.assertIn(says, " ".join(told.split()))
        after = {path: data for path, data in contents(self.folder).items() if path in before}
        self.assertEqual(
            {path for path in before if before[path] != after[path] and "ledger" not in path}, set()
        )
        return told

    def test_sides_that_do_not_belong_together(self) -> None:
        """Another version, another title, no release that is near."""
        asked = ("reapply", "ferryhouse", "release:ferryhouse@2.0", "--into", "new", "--yes")
        self.refused(
            *asked,
            "--old",
            "release:ferryhouse@1.4",
            says="the base is 1.4, and these files are of 1.3",
        )
        self.refused("edits", "take", "../mossferry", "--out", "x.toml", says="")
        self.kindred("edits", "take", "ferryhouse", "--out", "mine.edits.toml")
        self.edit("mine.edits.toml", 'title = "ferryhouse"', 'title = "rowinghouse"')
        put = (
            "edits",
            "put",
            "mine.edits.toml",
            "release:ferryhouse@2.0",
            "--into",
            "new",
            "--yes",
        )
        self.refused(*put, says="rowinghouse")

    def test_a_set_that_is_damaged(self) -> None:
        """Unreadable, of a newer format, with a path that leads out, without its contents."""
        file = "edits = 1\n[[files]]\nfile = "
        for text, says, status in (
            ("edits = ", "at end of document", 2),
            ("edits = 9", "Update kindred", 2),
            ("edits = 1\nwhat = 2", "what", 2),
            (f'{file}"../out.txt"\nkind = "lines"', "out.txt", 4),
            (f'{file}"program/notice.txt"\nkind = "whole"\nafter = "00"', "notice.txt", 2),
        ):
            write(self.folder, {"bad.toml": text.encode()})
            put = ("edits", "put", "bad.toml", "release:ferryhouse@2.0", "--into", "new", "--yes")
            self.refused(*put, says=says, status=status)

    def test_files_that_are_not_as_the_card_says(self) -> None:
        """A key that is there twice, one side that does not parse, patterns that fit nothing."""
        asked = ("reapply", "ferryhouse", "release:ferryhouse@2.0", "--into", "new", "--yes")
        self.refused(*asked, "--mine", "*goods.xlm", says="fits")
        self.refused(*asked, "--mine", "*goods.xml:good[id=weeds].@price", says="weeds")
        self.edit("ferryhouse/tables/goods.xml", 'id="salt"', 'id="peat"')
        self.refused(
            *asked, *DECIDED[2:], "--allow", "comment-lost", says="peat stands 2 times", status=3
        )
        self.edit("ferryhouse/tables/goods.xml", "</goods>", "</good>")
        told = self.refused(
            *asked, "--agree", "--allow", "comment-lost", says="goods.xml", status=3
        )
        self.assertIn("both", told)

    def test_what_lies_in_the_folder_stays(self) -> None:
        """The result goes into a folder with something else in it; that is nobody's edit."""
        sides = {"base": b"1\n", "mine": b"2\n", "theirs": b"1\n"}
        write(self.folder, {f"{side}/a.txt": data for side, data in sides.items()})
        write(self.folder, {"base/old.txt": b"x", "mine/old.txt": b"x"})
        write(self.folder, {"out/own.txt": b"own", "out/old.txt": b"x"})
        self.kindred("reapply", "mine", "theirs", "--old", "base", "--into", "out", "--yes")
        self.assertEqual(contents(self.path("out")), {"own.txt": b"own", "a.txt": b"2\n"})

    def test_a_database_row_by_row(self) -> None:
        """Rows of SQLite are merged by their key too, with no card."""
        for name, prices in (
            ("base", (4, 7, 9)),
            ("mine", (4, 8, 9)),
            ("theirs", (5, 7, 9)),
        ):
            os.makedirs(self.path(name))
            with sqlite3.connect(self.path(name, "goods.db")) as made:
                made.execute("create table good (id integer primary key, price integer)")
                made.executemany("insert into good values (?, ?)", enumerate(prices))
            made.close()
        self.kindred("reapply", "mine", "theirs", "--old", "base", "--into", "new", "--yes")
        with sqlite3.connect(self.path("new", "goods.db")) as made:
            rows = made.execute("select id, price from good order by id").fetchall()
        made.close()
        self.assertEqual(rows, [(0, 5), (1, 8), (2, 9)])
