"""References: mended only where one candidate has more to show; there and back to the very bytes."""

from __future__ import annotations

import json
import os
import random
import shutil
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

import kindred_ledger as kl
from kindred_ledger.mods.references import form_of, references_in
from tests.mods.test_swap import CARD as SWAP_CARD
from tests.support import Case, files_in, side_law, write


class RelinkCase(Case):
    def relink(self, project: dict[str, bytes], libraries: dict[str, bytes], **more: Any) -> Any:
        for name, files in (("project", project), ("libraries", libraries)):
            shutil.rmtree(self.path(name), ignore_errors=True)
            write(self.path(name), files)
        ledger = more.pop("ledger", None) or self.ledger()
        return kl.relink(self.path("project"), [self.path("libraries")], ledger=ledger, **more)

    def codes(self, change: Any) -> list[str]:
        return [each.code for each in change.findings]

    def texts(self, name: str = "project") -> str:
        return "".join(data.decode() for data in files_in(self.path(name)).values())


def doc(*paths: str) -> dict[str, bytes]:
    return {"p.json": json.dumps({"uses": paths}).encode()}


class Mended(RelinkCase):
    def test_every_format_and_form(self) -> None:
        """JSON, XML, INI, TOML, YAML and plain text; slashes, backslashes, absolute, UTF-16."""
        old = os.path.join(self.folder, "gone", "a.part")
        project = {
            "p.json": b'{"x": "old/a.part" /* mine */}', "p.xml": b"<p file='old\\a.part'/>",
            "p.ini": b"[A]\r\nfile = old/b.part\r\n", "p.toml": b'file = "./old/a.part" # mine\n',
            "p.yaml": b"file: old/a.part\n", "p.txt": b"see (old/a.part), and 'old/b.part'.\n",
            "q.txt": "old\\b.part\r\n".encode("utf-16"), "deep/p.cfg": b"[A]\nfile = ../old/a.part\n",
            "abs.json": json.dumps({"x": old}).encode(),
        }  # fmt: skip
        libraries = {"new/a.part": b"a", "new/b.part": b"b"}
        change = self.relink(project, libraries)
        self.assertEqual(self.codes(change), [])
        self.assertEqual(change.statements[0].totals()["changed"], 10)
        done = change.apply(self.ledger())
        found = files_in(self.path("project"))
        self.assertEqual(found["p.json"], b'{"x": "../libraries/new/a.part" /* mine */}')
        self.assertEqual(found["p.xml"], b"<p file='..\\libraries\\new\\a.part'/>")
        self.assertEqual(found["p.ini"], b"[A]\r\nfile = ../libraries/new/b.part\r\n")
        self.assertEqual(found["p.toml"], b'file = "../libraries/new/a.part" # mine\n')
        self.assertEqual(found["deep/p.cfg"], b"[A]\nfile = ../../libraries/new/a.part\n")
        self.assertEqual(found["q.txt"].decode("utf-16"), "..\\libraries\\new\\b.part\r\n")
        absolute = json.loads(found["abs.json"])["x"]
        self.assertEqual(absolute, self.path("libraries", "new", "a.part"))
        self.assertEqual(
            self.codes(
                kl.relink(self.path("project"), [self.path("libraries")], ledger=self.ledger())
            ),
            [],
        )
        kl.undo(done, ledger=self.ledger()).apply(self.ledger())
        self.assertEqual(files_in(self.path("project")), project)

    def test_the_likeliest_by_evidence(self) -> None:
        """The path, the neighbours, and the content that the ledger knows decide between files of a name."""
        files = {"x/old/a.part": b"1", "y/other/a.part": b"2", "y/other/b.part": b"3"}
        change = self.relink(doc("gone/old/a.part"), files)
        self.assertIn("libraries/x/old/a.part", change.statements[0].lines[0].became)
        change = self.relink(doc("gone/a.part", "gone/b.part"), {**files, "x/old/c.part": b""})
        self.assertIn("libraries/y/other/a.part", change.statements[0].lines[0].became)
        write(self.path("gone"), {"a.part": b"2"})
        ledger = self.ledger()
        ledger.backup(kl.FolderPlace(self.path("gone")))
        shutil.rmtree(self.path("gone"))
        moved = {"x/a.part": b"1", "z/a.part": b"2"}
        change = self.relink(doc("../gone/a.part"), moved, ledger=ledger)
        line = change.statements[0].lines[0]
        self.assertIn("libraries/z/a.part", line.became)
        self.assertIn("the same content", line.reason)

    def test_what_is_not_clear_is_asked(self) -> None:
        """Two alike, another version, drives, shares and variables: told, and left alone until chosen."""
        alike = {"x/a.part": b"1", "y/a.part": b"1"}
        for text, libraries, code in (
            ("gone/a.part", alike, "reference-ambiguous"),
            ("old/piers-1.2/a.part", {"piers-2.0/a.part": b"1"}, "reference-other-version"),
            ("old/a-1.2.part", {"a-1.3.part": b"1"}, "reference-other-version"),
            ("D:\\lib\\a.part", alike, "reference-elsewhere"),
            ("\\\\server\\share\\a.part", {"a.part": b""}, "reference-elsewhere"),
            ("%APPDATA%\\lib\\a.part", {"a.part": b""}, "reference-elsewhere"),
            ("$HOME/lib/a.part", {"a.part": b""}, "reference-elsewhere"),
            ("gone/zzz.part", {}, "reference-broken"),
        ):
            with self.subTest(text):
                change = self.relink(doc(text), {"none.txt": b"", **libraries})
                self.assertEqual(self.codes(change), [code])
                self.assertEqual(change.actions, ())
                chosen = self.relink(
                    doc(text), {"none.txt": b"", **libraries}, choices={text: "lib/chosen.part"}
                )
                self.assertIn("lib/chosen.part", chosen.statements[0].lines[0].became)
        folder = self.relink(doc("D:\\lib\\x\\a.part"), alike, choices={"D:\\lib": "../libraries"})
        self.assertIn("..\\libraries\\x\\a.part", folder.statements[0].lines[0].became)
        with self.assertRaisesRegex(kl.UsageError, "no reference"):
            self.relink(doc("gone/a.part"), alike, choices={"gnoe": "x"})

    def test_from_where_a_path_is_meant(self) -> None:
        """From its file or from the project, as those that resolve are; if none tells, it is asked."""
        library = {"new/a.part": b""}
        inner = {"deep/p.json": b'{"x": "old/a.part", "y": "here/b.part"}'}
        own = self.relink({**inner, "deep/here/b.part": b""}, library)
        self.assertIn("../../libraries/new/a.part", own.statements[0].lines[0].became)
        top = self.relink({**inner, "here/b.part": b""}, library)
        self.assertIn(": ../libraries/new/a.part", top.statements[0].lines[0].became)
        unclear = self.relink({"deep/p.json": b'{"x": "old/a.part"}'}, library)
        self.assertEqual(self.codes(unclear), ["reference-ambiguous"])

    def test_libraries_are_told_by_their_own_words(self) -> None:
        """Whatever their folders are called; another version is told, and so are ids that lead nowhere."""
        write(self.folder, {"title.card.toml": SWAP_CARD.encode()})
        card = kl.Card.load(self.path("title.card.toml"))
        listed = [{"id": "p", "name": "piers", "version": "1", "file": "gone/piers.lib"}]
        thing = {"id": "a", "library": "q", "part": "x", "set": {}, "links": ["b"]}
        project = {"libraries": listed, "elements": [thing], "makers": []}
        files = {"p.json": json.dumps(project).encode()}
        old, new = ({"name": "piers", "version": v, "parts": {}} for v in ("1", "2"))
        both = {"x/piers.lib": json.dumps(old).encode(), "y/piers.lib": json.dumps(new).encode()}
        change = self.relink(files, both, card=card)
        self.assertEqual(self.codes(change), ["id-unknown", "id-unknown"])
        self.assertIn("x/piers.lib", change.statements[0].lines[0].became)
        self.assertIn("it holds piers 1", change.statements[0].lines[0].reason)
        other = self.relink(files, {"y/piers.lib": both["y/piers.lib"]}, card=card)
        self.assertIn("reference-other-version", self.codes(other))
        self.assertEqual(other.actions, ())
        here = {**files, "gone/piers.lib": both["y/piers.lib"]}
        told = [f.what for f in self.relink(here, both, card=card).findings]
        self.assertIn("gone/piers.lib is there, and is not piers 1", told)

    def test_there_and_back(self) -> None:
        """A random project whose libraries move, and move back, is what it was, to the byte."""

        @side_law
        @given(st.integers(0, 1 << 30))
        def holds(seed: int) -> None:
            rng = random.Random(seed)
            case = RelinkCase("codes")
            case.setUp()
            try:
                names = [f"part{chr(97 + n)}.lib" for n in range(4)]
                write(case.path("one", "lib"), {name: name.encode() for name in names})
                project = {}
                for number in range(rng.randrange(1, 4)):
                    sign = rng.choice(("/", "\\"))
                    texts = [sign.join(("..", "one", "lib", rng.choice(names))) for _ in range(3)]
                    indent = rng.choice((None, 1, 3))
                    project[f"{number}.json"] = json.dumps(texts, indent=indent).encode()
                    project[f"{number}.txt"] = " - ".join(texts).encode()
                write(case.path("project"), project)
                before = files_in(case.path("project"))
                for old, new in (("one", "two"), ("two", "one")):
                    os.rename(case.path(old), case.path(new))
                    change = kl.relink(case.path("project"), [case.path(new)], ledger=case.ledger())
                    case.assertEqual(case.codes(change), [])
                    change.apply(case.ledger())
                case.assertEqual(files_in(case.path("project")), before)
            finally:
                case.doCleanups()

        holds()


class Found(unittest.TestCase):
    def test_what_looks_like_a_reference(self) -> None:
        """Versions, numbers, sentences and addresses of the net are none."""
        for text, form in (
            ("a/b.dat", "relative"), ("b.dat", "name"), ("/a/b.dat", "absolute"), ("C:/b.dat", "drive"),
            ("\\\\s\\h\\b.dat", "share"), ("~/b.dat", "variable"), ("1.4", ""), ("a/b", ""), ("1/2", ""),
            ("http://x/y.dat", ""), ("see a. b", ""), ("", ""), (" a/b.dat", ""), (".dat", ""),
        ):  # fmt: skip
            self.assertEqual(form_of(text), form, text)

    def test_binary_files_are_left_alone(self) -> None:
        """What is no text has no references."""
        self.assertEqual(references_in("x.bin", b"\0\1 old/a.part \0"), [])


class Users(Case):
    def test_every_kind_of_file(self) -> None:
        """Records, keys, text, UTF-16, binary: each is found with its place; packed ones are told."""
        files = {
            "one/p.json": b'{"lib": {"Piers": 1}, "x": "piers"}', "two/p.txt": b"a\nuses piers.\n",
            "three/p.txt": "uses Piers\n".encode("utf-16"), "four/p.bin": b"\0\0piers\0",
            "five/p.zip": b"PK\x03\x04piers", "six/p.txt": b"pierson and mypiers1",
            "seven.ini": b"[A]\nx=piers\n",
        }  # fmt: skip
        write(self.path("projects"), files)
        found = kl.users_of("/lib/piers", [self.path("projects")])
        told = {use.file: use.places for use in found.uses}
        self.assertEqual(
            set(told), {"one/p.json", "two/p.txt", "three/p.txt", "four/p.bin", "seven.ini"}
        )
        self.assertEqual(told["one/p.json"], ("lib.Piers", "x"))
        self.assertEqual(told["two/p.txt"], ("line 2",))
        self.assertEqual(told["four/p.bin"], ("byte 2",))
        self.assertEqual(found.unseen, ("five/p.zip",))
        self.assertEqual([each.code for each in found.findings()], ["not-looked-into"])

    def test_removed_only_when_nobody_uses_it(self) -> None:
        """A conflict while somebody does; a loss if that one is let go by name; then it is removed."""
        write(self.path("projects"), {"a/p.json": b'"piers"', "b/p.json": b"1"})
        write(self.path("lib", "piers"), {"x": b"1"})
        ledger, library = self.ledger(), self.path("lib", "piers")
        change = kl.remove_library(library, [self.path("projects")], ledger=ledger)
        self.assertEqual([each.code for each in change.conflicts], ["still-used"])
        with self.assertRaises(kl.DecisionNeeded):
            change.apply(ledger)
        with self.assertRaisesRegex(kl.UsageError, "does not use it"):
            kl.remove_library(library, [self.path("projects")], ledger=ledger, let_go=["b"])
        change = kl.remove_library(library, [self.path("projects")], ledger=ledger, let_go=["a"])
        self.assertEqual([each.code for each in change.losses], ["library-let-go"])
        done = change.apply(ledger, allow_loss=True)
        self.assertFalse(os.path.exists(library))
        kl.undo(done, ledger=ledger).apply(ledger)
        self.assertEqual(files_in(library), {"x": b"1"})


if __name__ == "__main__":
    unittest.main()
