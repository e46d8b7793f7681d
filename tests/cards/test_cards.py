"""Cards: every fault named with its place, and versions, folders and installs told by evidence."""

from __future__ import annotations

import os
import re
import time
from collections.abc import Mapping
from typing import Any

from blake3 import blake3

from kindred_ledger.cards import (
    Card,
    Surroundings,
    card_for,
    draft_card,
    find_cards,
    find_installs,
)
from kindred_ledger.convert import convert_bytes
from kindred_ledger.errors import CardError, DecisionNeeded, UsageError, VersionError
from kindred_ledger.places import FolderPlace, read_bytes
from kindred_ledger.versions import Version
from tests.support import ROOT, Case, PlayCase, texts, write

LEAST = 'card = 1\ntitle = "peatbog"\n[program]\nmarkers = ["run.py"]\n'
FORMAT = """
[formats.voyage]
files = ["/user/*.sav"]
codec = "json"
version = { key = "format" }
builds = [{ builds = "*", writes = "2", reads = ["1", "2"] }]
[[formats.voyage.steps]]
from = "1"
to = "2"
"""


VERSIONS = (
    ('{ default = "1" }', "needs a key, or signs"),
    ('{ signs = { "1" = {} } }', "the sign of 1 says nothing"),
    ('{ signs = { "1" = { kind = "list" } } }', "says nothing"),
    ('{ signs = { "1" = { kind = "list", name = "*" } } }', "of the value at `has`"),
    (
        '{ signs = { "1" = { has = "a", kind = "lists" } } }',
        "one of text, number, truth, list, mapping",
    ),
    ('{ signs = { "1" = { has = "a" } }, values = { "Peat" = "1" } }', "those of a key"),
    ('{ key = "engine", values = { "Peat " = "1" } }', "spaces around it are not read"),
)
AGREE = "do = []\n[[formats.voyage.agree]]\n"


class CardCase(Case):
    def card(self, text: str) -> Card:
        write(self.folder, {"peatbog.card.toml": text.encode()})
        return Card.load(self.path("peatbog.card.toml"))

    def faults(self, text: str) -> str:
        with self.assertRaises(CardError) as caught:
            self.card(text)
        self.assertIn("peatbog.card.toml", caught.exception.where)
        return "\n".join(texts(caught.exception.findings)) or str(caught.exception)


class Faults(CardCase):
    def test_every_fault_is_named_at_once(self) -> None:
        """Line, table, key, what was expected, and the near miss."""
        found = self.faults(
            'card = 1\ntitel = "peatbog"\n[program]\nmarkers = "run.py"\n'
            "[categories.saves]\nincldue = ['/user/']\nprotect = 1\n"
        )
        for words in (
            "line 2: titel: unknown key; did you mean 'title'?",
            "title: this key is missing",
            "line 4: program.markers: expected a list, found text in quotes (run.py)",
            "line 6: categories.saves.incldue: unknown key; did you mean 'include'?",
            "categories.saves.include: this key is missing",
            "line 7: categories.saves.protect: expected true or false, found a whole number (1)",
        ):
            self.assertIn(words, found)

    def test_what_contradicts_itself(self) -> None:
        """Right in shape, wrong in meaning: each with its table."""
        for text, words in (
            (LEAST.replace("card = 1", "card = 7"), "update this program"),
            (LEAST.replace("peatbog", "Peat Bog"), "small letters"),
            (LEAST.replace('"run.py"', ""), "at least one file"),
            (LEAST + '[versions]\nscheme = "roman"\n', "no version scheme"),
            (LEAST + '[versions]\nscheme = "listed"\n', "needs its names"),
            (LEAST + '[[detect]]\nfile = "a"\n', "one of `pattern`"),
            (LEAST + '[[detect]]\nfile = "a"\npattern = "build"\n', "one {version} or {rest}"),
            (LEAST + '[[detect]]\nfile = "a"\nkey = "b"\ncodec = "jsn"\n', "did you mean 'json'"),
            (LEAST + '[[detect]]\nfile = "a"\noffset = 3\n', "`length` of 1 to 100"),
            (LEAST + '[[detect]]\nfolder = "game"\n', "one {version} or {rest}"),
            (LEAST + '[[detect]]\nkey = "b"\n', "either `file` or `folder`"),
            (LEAST + '[categories.x]\ninclude = ["!"]\n', "cannot be read"),
            (LEAST + '[[decisions]]\nfiles = ["a"]\ntake = "mien"\n', "did you mean 'mine'"),
            (LEAST + '[[decisions]]\nfiles = []\ntake = "mine"\n', "at least one pattern"),
            (LEAST + '[[decisions]]\nfiles = ["a"]\nfields = [" "]\ntake = "mine"\n', "no name"),
            (LEAST + FORMAT.replace('"json"', '"jason"') + "do = []\n", "did you mean 'json'"),
            (LEAST + FORMAT.replace('["1", "2"]', '["1"]') + "do = []\n", "read what they write"),
            (LEAST + FORMAT.replace('"*"', '">=x"') + "do = []\n", "is not a version"),
            (LEAST + FORMAT + 'do = [{ renam = "a", to = "b" }]\n', "did you mean 'rename'"),
            (LEAST + FORMAT + 'do = [{ rename = "a" }]\n', "rename needs 'to'"),
            (LEAST + FORMAT + 'do = [{ drop = "a", reson = "x" }]\n', "did you mean 'reason'"),
            (LEAST + FORMAT + 'do = [{ set = "a..b", value = 1 }]\n', "breaks at column"),
            (LEAST + FORMAT + 'do = [{ map = "a", table = 1 }]\n', "a table of old = new"),
            *(
                (
                    LEAST
                    + FORMAT.replace('version = { key = "format" }', f"version = {version}")
                    + "do = []\n",
                    words,
                )
                for version, words in VERSIONS
            ),
            (LEAST + FORMAT + AGREE + 'why = "w"\nvalue = "n"\n', "either `value` and `equals`"),
            (LEAST + FORMAT + AGREE + 'value = "n"\nequals = "1"\n', "why: this key is missing"),
            (LEAST + FORMAT + AGREE + 'why = "w"\nvalue = "n"\nequals = "count("\n', "agree[1]"),
            (
                LEAST + FORMAT + AGREE + 'why = "w"\neach = "a..b"\namong = "c"\n',
                "breaks at column",
            ),
        ):
            self.assertIn(words, self.faults(text), text)

    def test_what_is_no_card_at_all(self) -> None:
        """No TOML, no text, nothing there, and far too large."""
        self.assertIn("no valid TOML", self.faults("card = = 1"))
        write(self.folder, {"bin.card.toml": b"\xff\xfe\x00card"})
        with self.assertRaisesRegex(CardError, "no valid TOML"):
            Card.load(self.path("bin.card.toml"))
        with self.assertRaisesRegex(CardError, "cannot be read"):
            Card.load(self.path("none.card.toml"))
        self.assertIn("larger than", self.faults(LEAST + "# " + "x" * (5 << 20)))

    def test_templates_take_linear_time(self) -> None:
        """A template from a stranger cannot make the search run for years."""
        card = self.card(
            LEAST + f'[[detect]]\nfile = "run.py"\npattern = "{"a " * 60}{{rest}} b"\n'
        )
        write(self.path("game"), {"run.py": b"a " * 200_000 + b"c"})
        start = time.process_time()
        install = card.open(self.path("game"))
        self.assertLess(time.process_time() - start, 5)
        self.assertIsNone(install.version)


class Detecting(CardCase):
    def found(self, detect: str, files: Mapping[str, Any], folder: str = "game") -> Any:
        card = self.card(LEAST + detect)
        write(self.path(folder), {"run.py": b"", **files})
        return card.open(self.path(folder))

    def test_each_way_to_tell_a_version(self) -> None:
        """Text, keys, bytes at an offset, digests and folder names."""
        digest = blake3(b"the program").hexdigest()
        for detect, files, folder in (
            (
                'file = "v.txt"\npattern = "build {version}"',
                {"v.txt": b"x\nBuild  2.0, 64 bit\n"},
                "a",
            ),
            ('file = "v.txt"\npattern = "Version: {rest}"', {"v.txt": b"Version: 2.0  \r\n"}, "b"),
            ('file = "v.json"\nkey = "a.b"\ncodec = "json"', {"v.json": b'{"a":{"b":"2.0"}}'}, "c"),
            ('file = "v.ini"\nkey = "a.b"\ncodec = "ini"', {"v.ini": b"[a]\nb=2.0"}, "d"),
            ('file = "v.toml"\nkey = "a"\ncodec = "toml"', {"v.toml": b'a = "2.0"'}, "e"),
            ('file = "v.xml"\nkey = "a.@v"\ncodec = "xml"', {"v.xml": b'<t><a v="2.0"/></t>'}, "f"),
            ('file = "v.exe"\noffset = 2\nlength = 8', {"v.exe": b"MZ2.0\0\0\0\0\0\0"}, "g"),
            (f'file = "v.exe"\ndigests = {{ {digest} = "2.0" }}', {"v.exe": b"the program"}, "h"),
            ('folder = "peatbog-{version}"', {}, "Peatbog-2.0"),
        ):
            install = self.found(f"[[detect]]\n{detect}\n", files, folder)
            self.assertEqual(install.version, Version.parse("2.0"), detect)
            self.assertTrue(install.sure_version)

    def test_evidence_that_says_nothing_says_why(self) -> None:
        """Missing files, ends, digests and patterns each leave their reason."""
        for detect, files, words in (
            ('file = "v.txt"\npattern = "build {version}"', {}, "not there"),
            ('file = "v.txt"\npattern = "build {version}"', {"v.txt": b"1.4"}, "not found"),
            (
                'file = "v.txt"\npattern = "build {version}"',
                {"v.txt": b"build heron"},
                "is not a version",
            ),
            ('file = "v.txt"\npattern = "a {version}"', {"v.txt": bytes(5 << 20)}, "too large"),
            ('file = "v.exe"\noffset = 9\nlength = 8', {"v.exe": b"MZ"}, "ends before byte 17"),
            ('file = "v.exe"\ndigests = { abc = "1" }', {"v.exe": b"x"}, "not in the card"),
            ('folder = "peatbog-{version}"', {}, "no version in the folder"),
        ):
            install = self.found(f"[[detect]]\n{detect}\n", files)
            self.assertIsNone(install.version)
            self.assertIn(words, str(install.evidence[0]))
            with self.assertRaisesRegex(DecisionNeeded, "nothing tells the version"):
                install.sure_version  # noqa: B018
            for name in files:
                os.remove(self.path("game", name))

    def test_disagreement_is_a_question(self) -> None:
        """Two that differ are both shown; the caller decides, never we."""
        install = self.found(
            '[[detect]]\nfile = "a"\npattern = "v {version}"\n'
            '[[detect]]\nfile = "b"\npattern = "v {version}"\n',
            {"a": b"v 1.4", "b": b"v 2.0"},
        )
        self.assertFalse(install.agreed)
        with self.assertRaisesRegex(DecisionNeeded, "(?s)a: 1.4.*b: 2.0.*build=VERSION"):
            install.sure_version  # noqa: B018
        chosen = install.card.open(self.path("game"), version="2.0")
        self.assertEqual(str(chosen.sure_version), "2.0")
        self.assertEqual(chosen.tag.read_from, "given by the caller")
        with self.assertRaises(VersionError):
            install.card.open(self.path("game"), version="heron")

    def test_listed_builds(self) -> None:
        """Names without numbers are ordered as the card lists them."""
        card = self.card(LEAST + '[versions]\nscheme = "listed"\norder = ["Heron", "Crane"]\n')
        self.assertLess(card.scheme.parse("Heron"), card.scheme.parse("crane"))


class Locating(CardCase):
    LOCATIONS = """
[locations.user]
portable = { marker = "portable.txt", folder = "data" }
linux = ["$BOG_HOME/peatbog", "{home}/.peatbog/users/{user_id}"]
windows = ["%APPDATA%/Peatbog"]
"""

    def around(self, platform: str = "linux", **environment: str) -> Surroundings:
        return Surroundings(platform, environment, {"home": self.path("home")}, {})

    def setUp(self) -> None:
        super().setUp()
        self.known = self.card(LEAST + self.LOCATIONS)
        write(self.path("game"), {"run.py": b""})

    def root(self, around: Surroundings) -> str | None:
        place = self.known.open(self.path("game"), around=around).place
        parts = getattr(place, "parts", {})
        return str(parts["user"].location) if "user" in parts else None

    def test_folders_per_platform_and_environment(self) -> None:
        """A variable that is not set makes no path; a hidden folder counts; so does portable."""
        write(self.path("x", "peatbog"), {"a": b"1"})
        self.assertIsNone(self.root(self.around()))
        self.assertEqual(self.root(self.around(BOG_HOME=self.path("x"))), self.path("x", "peatbog"))
        self.assertIsNone(self.root(self.around("windows", BOG_HOME=self.path("x"))))
        write(self.path("y", "Peatbog"), {"a": b"1"})
        self.assertEqual(
            self.root(self.around("windows", APPDATA=self.path("y"))), self.path("y", "Peatbog")
        )
        write(self.path("home", ".peatbog", "users", "7700"), {"a": b"1"})
        self.assertEqual(self.root(self.around()), self.path("home", ".peatbog", "users", "7700"))
        write(self.path("game"), {"portable.txt": b"", "data": None})
        self.assertEqual(self.root(self.around()), self.path("game", "data"))

    def test_ambiguity_is_a_question(self) -> None:
        """Two numbered users, or two places: both are shown, and how to say which."""
        for number in ("7700", "7701", "notes"):
            write(self.path("home", ".peatbog", "users", number), {"a": b"1"})
        with self.assertRaisesRegex(DecisionNeeded, "(?s)7700.*7701.*user_id=user=NUMBER"):
            self.root(self.around())
        chosen = Surroundings("linux", {}, {"home": self.path("home")}, {"user": "7701"})
        self.assertEqual(self.root(chosen), self.path("home", ".peatbog", "users", "7701"))
        named = self.known.open(
            self.path("game"), folders={"user": self.path("home")}, around=self.around()
        )
        self.assertIn("user", getattr(named.place, "parts", {}))


class Finding(PlayCase):
    def test_cards_and_installs_are_found(self) -> None:
        """Three installs in the demo's folder, each by its card; a stranger's folder fits none."""
        cards = find_cards([self.path("nowhere"), self.folder])
        self.assertEqual([card.title for card in cards], ["longnight", "mossferry"])
        roots = [root for root, _ in find_installs(self.folder, cards)]
        wanted = [self.path("longnight"), self.path("mossferry"), self.path("second", "mossferry")]
        self.assertEqual(roots, wanted)
        with self.assertRaisesRegex(UsageError, "no card fits"):
            card_for(self.path("downloads"), cards)
        with self.assertRaisesRegex(UsageError, "2 cards fit"):
            card_for(self.path("mossferry"), [*cards, *cards])

    def test_a_release_of_something_else(self) -> None:
        """Neither a stranger's archive nor a folder without the markers is a release."""
        with self.assertRaisesRegex(UsageError, "no release of Mossferry"):
            self.card.open_release(self.path("downloads"))
        with self.assertRaisesRegex(UsageError, "no install of Mossferry"):
            self.card.open(self.path("downloads"))

    def test_categories_and_formats(self) -> None:
        """Each path has its category, its protection and its format; an unknown build has none."""
        path = "user/saves/midwinter.voyage"
        self.assertEqual(
            (self.card.category_of(path), self.card.protected_by(path)), ("saves",) * 2
        )
        self.assertEqual(self.card.category_of("program/version.txt"), "")
        voyage = self.card.format_of(path)
        assert voyage is not None
        self.assertEqual(str(voyage.written_by(Version.parse("1.4.2"))), "4")
        self.assertEqual([str(v) for v in voyage.read_by(Version.parse("1.4"))], ["3", "4"])
        with self.assertRaisesRegex(UsageError, "knows the builds"):
            voyage.written_by(Version.parse("1.0"))
        with self.assertRaisesRegex(UsageError, "saves, settings, mods"):
            self.install().select(["photos"])


class Drafts(PlayCase):
    def test_a_draft_is_a_card_that_finds_what_it_was_made_of(self) -> None:
        """Build, saves with their versions, settings, mods; it loads, and it is checked like any other."""
        done = self.kindred("card", "new", "mossferry", "--out", "draft.card.toml")
        card = Card.load(self.path("draft.card.toml"))
        with open(self.path("draft.card.toml"), encoding="utf-8") as file:
            self.assertEqual(done["card"], file.read())
        install = card.open(self.path("mossferry"))
        self.assertEqual(install.sure_version.text, "1.4")
        self.assertEqual(set(card.categories), {"saves", "settings", "mods", "pictures"})
        saves = card.formats["saves-voyage"].table
        self.assertEqual(
            (saves.codec, saves.version.key, saves.builds[0].reads), ("json", "format", ["3", "4"])
        )
        settings = card.formats["settings-ini"].table
        self.assertEqual((settings.codec, settings.version.key), ("ini", "General.SettingsFormat"))
        told = self.kindred("card", "check", "draft.card.toml", "mossferry", status=None)
        faults = [c["what"] for c in told["report"]["findings"] if c["severity"] == "error"]
        self.assertEqual(faults, [])
        self.kindred("card", "new", "mossferry", "--out", "draft.card.toml", status=4)

    def test_any_folder_has_a_draft(self) -> None:
        """Empty, with names that TOML must quote, with a version in the folder's name."""
        for name, contents in (
            ("empty", {}),
            (
                'odd "name" 2.10',
                {
                    "Saves/a.sav": b"\x00\x01",
                    "run\x01.exe": b"MZ",
                    "Config/x.ini": b"[a]\nversion=3\n",
                },
            ),
            (
                "deep",
                {"a/b/c/saves/one.json": b'{"save_version": 7}', "a/b/c/saves/two.json": b"[1, 2]"},
            ),
        ):
            write(self.path("drafts", name), contents)
            os.makedirs(self.path("drafts", name), exist_ok=True)
            text = draft_card(FolderPlace(self.path("drafts", name)), name)
            write(self.folder, {"any.card.toml": text.encode()})
            card = Card.load(self.path("any.card.toml"))
            self.assertTrue(card.file.program.markers)
        self.assertEqual(card.formats["saves-json"].table.version.key, "save_version")

    def test_the_card_that_the_docs_build_is_one(self) -> None:
        """Step by step from nothing, as it stands there; it reads the demo's voyages and converts one."""
        with open(os.path.join(ROOT, "docs", "cards.md"), encoding="utf-8") as file:
            text = file.read()
        lesson = text[text.index("## A card from nothing") : text.index("\n## The top")]
        blocks = re.findall(r"(?:^    .*\n)+", lesson, re.M)
        toml = "".join(block for block in blocks if "kindred " not in block)
        write(
            self.folder, {"lesson.card.toml": "\n".join(x[4:] for x in toml.splitlines()).encode()}
        )
        card = Card.load(self.path("lesson.card.toml"))
        install = card.open(self.path("mossferry"))
        self.assertEqual(install.sure_version.text, "1.4")
        voyage = card.formats["voyage"]
        data = read_bytes(install.place, "user/saves/midwinter.voyage")
        done = convert_bytes(data, voyage, voyage.scheme.parse("5"), name="midwinter.voyage")
        self.assertEqual([loss.field for loss in done.losses], ["ship.lantern_glow"])
