"""The Python API as people guess it: natural values, wrong types, what is exported, how values are shown."""

from __future__ import annotations

import inspect
import pydoc
import re
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import kindred_ledger as kl
from tests.support import PlayCase

try:
    import pandas
except ImportError:
    pandas = None  # type: ignore[assignment]

# What annotations name that is nobody's class of ours.
_FOREIGN = {
    "Any", "Callable", "Executor", "Iterable", "Iterator", "Literal", "Mapping", "None", "Sequence", "Path",
    "Self", "TracebackType", "DataFrame", "True", "False", "AbstractContextManager", "BinaryIO", "PathLike",
    "NoReturn", "Collection", "Data", "FileExistsError",
}  # fmt: skip
# What is named in calls that other rooms make of these classes, not people.
_INSIDE = {
    "Change",
    "Columns",
    "Field",
    "Found",
    "Inside",
    "Item",
    "Items",
    "OpenFolder",
    "Part",
    "Question",
    "Reading",
    "Sides",
}


class Natural(PlayCase):
    def test_texts_and_paths_for_places(self) -> None:
        """A path, as text or `os.PathLike`, wherever a folder or an archive is meant."""
        with kl.Ledger.open(Path(self.path("ledger"))) as kept:
            entry = kept.backup(Path(self.path("server")))
            self.assertEqual(entry.tag.title, "server")
            self.assertEqual(
                kl.compare(self.path("server"), Path(self.path("server"))).differences, ()
            )
            change = kl.update(
                kl.Card.load(Path(self.path("mossferry.card.toml"))).open(
                    Path(self.path("mossferry"))
                ),
                self.new_zip,
                old=Path(self.old_zip),
                ledger=kept,
            )
            self.assertTrue(change.actions)
            self.assertTrue(kl.shelve(self.old_zip, self.card, ledger=kept).release.version)
            files = kl.carry_files(
                self.path("handheld"), self.path("server"), ledger=kept, only="*.pocket"
            )
            self.assertTrue(files.actions)

    def test_one_text_where_several_may_be(self) -> None:
        """A category, a pattern, a build, a format version, an entry: each as a text."""
        kept = self.ledger()
        install, second = self.install(), self.install("second/mossferry")
        entry = kept.backup(install, only="user/saves/")
        paths = [*kept.tree(entry).files]
        self.assertTrue(paths and all(path.startswith("user/saves/") for path in paths))
        self.assertTrue(kl.carry(install, second, "saves", ledger=kept).actions)
        self.assertTrue(kl.convert_install(install, "2.0", ledger=kept, only="*.voyage").actions)
        name, path = "midwinter.voyage", "mossferry/userdata/saves/midwinter.voyage"
        with open(self.path(*path.split("/")), "rb") as file:
            made = kl.convert_bytes(file.read(), self.card.formats["voyage"], "6", name=name)
        self.assertEqual(made.target.text, "6")
        back = kl.restore(entry.id[:6], ledger=kept, only=("*.voyage",))
        self.assertEqual(back.operation, "restore")
        choices = kl.UpdateChoices(mine="program/data/harbours.json")
        self.assertTrue(kl.update(install, self.new_zip, ledger=kept, choices=choices).actions)

    def test_wrong_types_say_what_was_expected(self) -> None:
        """At once, and with what to give instead."""
        kept, install = self.ledger(), self.install()
        for call, words in (
            (lambda: kept.backup(3), "a folder, a place or an install, not of int"),
            (lambda: kept.backup("nowhere"), "no such file or folder"),
            (lambda: kl.update("mossferry", self.new_zip, ledger=kept), "an install is needed"),
            (lambda: kl.update(install, 2.0, ledger=kept), "a path or a place is needed"),
            (lambda: kl.carry(install, "second", "saves", ledger=kept), "an install is needed"),
            (lambda: kl.carry(install, install, "savez", ledger=kept), "no category 'savez'"),
            (lambda: kl.compare(None, install), "a path or a place is needed"),
            (lambda: kept.backup(install, only=[1]), "patterns are texts"),
            (lambda: kl.convert_install(install, "banana", ledger=kept), "not a version number"),
        ):
            with self.assertRaises(
                kl.UsageError if "version" not in words else kl.KindredError
            ) as at:
                call()
            self.assertIn(words, str(at.exception))
            self.assertTrue(at.exception.advice, words)

    def test_a_ledger_in_a_with_block(self) -> None:
        """It closes its index, and opens it again if it is used again."""
        with kl.Ledger.open(self.path("ledger")) as kept:
            kept.backup(self.path("server"))
        self.assertNotIn("index", kept.__dict__)
        self.assertEqual(len(kept.entries()), 1)
        kept.close()


class Shown(PlayCase):
    def test_short_in_a_console(self) -> None:
        """And as a table in a notebook, with nothing of a name taken for markup."""
        kept, install = self.ledger(), self.install()
        entry = kept.backup(install, note="<b>mine</b>")
        change = kl.update(install, self.new_zip, old=self.old_zip, ledger=kept)
        done = change.apply(kept)
        compared = kl.compare(kept.place(entry), install, ledger=kept)
        release = kl.shelve(self.old_zip, self.card, ledger=kept).release
        statement, tree = change.preview(), kept.tree(entry)
        values: tuple[Any, ...] = (
            kept, install, entry, change, done, done.record, compared, release, statement, tree, self.card,
            self.card.formats["voyage"], kl.Version.parse("1.4"), kl.open_place(self.old_zip),
            kl.open_place(self.folder),
        )  # fmt: skip
        for value in values:
            self.assertLess(len(repr(value)), 200, repr(value))
            self.assertNotIn(" object at 0x", repr(value))
        for value in (entry, change, statement, tree, compared):
            shown = value._repr_html_()
            self.assertTrue(shown.startswith("<table>"), shown[:80])
            self.assertNotIn("<b>", shown)

    @unittest.skipIf(pandas is None, "needs pandas")
    def test_tables_to_and_from_data_frames(self) -> None:
        """Untouched, the file's bytes are the same; texts are `str`; what is changed reads back."""
        path = self.path("practice", "quaywright-1.0", "projects", "mill-loop.qwp")
        layout = kl.Layout.parse(
            "layout q\nlittle endian\nhead bytes 6\ntitle text u8\n"
            "moorings table u16 { name text 16, feet u16 }"
        )
        with open(path, "rb") as file:
            data = file.read()
        frame = kl.LayoutDocument(data, layout).to_frame("moorings")
        self.assertEqual(list(frame["name"]), ["Eelgate", "Heron Stairs", "Mill"])
        document = kl.LayoutDocument(data, layout)
        document.set_table("moorings", frame)
        self.assertEqual(document.encode(), data)
        frame.loc[1, "feet"], frame.loc[2, "name"] = 15, "Old Mill"
        document.set_table("moorings", frame)
        again = kl.LayoutDocument(document.encode(), layout)
        self.assertEqual(again.get("moorings[1].feet"), 15)
        self.assertEqual(again.get("moorings[2].name"), "Old Mill")
        with self.assertRaisesRegex(kl.FormatError, "not list"):
            document.set_table("moorings", [1])

    def test_numbers_of_numpy_are_values(self) -> None:
        """In every format that has values, alone and in lists."""
        for codec, data, path in (
            ("json", b'{"a": 1}', "a"), ("yaml", b"a: 1\n", "a"), ("toml", b"a = 1\n", "a"),
            ("ini", b"[A]\na = 1\n", "A.a"), ("xml", b'<r a="1"/>', "@a"), ("csv", b"a,b\n1,2\n", "[0].a"),
            ("msgpack", b"\x81\xa1a\x01", "a"), ("cbor", b"\xa1aa\x01", "a"),
        ):  # fmt: skip
            for value in (np.int64(7), np.float64(1.5), np.str_("z"), np.bool_(True)):
                document = kl.decode(data, codec)
                document.set(path, value)
                got = kl.decode(document.encode(), codec).get(path)
                self.assertIn(str(got).lower(), (str(value).lower(), "1"), (codec, value))
        document = kl.decode(b'{"a": []}', "json")
        document.set("a", np.arange(3))
        self.assertEqual(document.get("a"), [0, 1, 2])

    @unittest.skipIf(pandas is None, "needs pandas")
    def test_as_data_frames(self) -> None:
        """Statements, comparisons, entries, changes, findings and tables; texts are `str`."""
        kept, install = self.ledger(), self.install()
        kept.backup(install)
        change = kl.update(install, self.new_zip, old=self.old_zip, ledger=kept)
        before = kept.place(kept.entry("latest"))
        change.apply(kept)
        books = kl.to_frame(change.preview())
        self.assertEqual(len(books), len(change.preview().lines))
        self.assertEqual({type(each) for each in books["item"]}, {str})
        entries = kl.to_frame(kept.entries())
        self.assertEqual(list(entries["version"]), ["1.4", "1.4"])
        self.assertEqual(list(kl.to_frame(kept.records())["operation"]), ["update"])
        self.assertIn("code", kl.to_frame(list(change.findings)).columns)
        compared = kl.to_frame(kl.compare(before, install, ledger=kept, card=self.card))
        self.assertIn("changed", set(compared["status"]))
        with self.assertRaisesRegex(kl.UsageError, "no data frame of int"):
            kl.to_frame(3)


class Exported(unittest.TestCase):
    def test_what_can_be_seen(self) -> None:
        """`dir` and `help` show the public names."""
        self.assertLessEqual({*kl.__all__}, {*dir(kl)})
        text = pydoc.plain(pydoc.render_doc(kl))
        for name in ("convert_install", "Ledger", "UsageError"):
            self.assertIn(name, text)

    def test_what_public_calls_take_and_raise(self) -> None:
        """Every class of ours that a public call names is exported."""
        missing = set()
        for name in kl.__all__:
            value = getattr(kl, name)
            for call in calls_of(value):
                if not (call.__module__ or "").startswith("kindred_ledger"):
                    continue
                named = set()
                for annotation in getattr(call, "__annotations__", {}).values():
                    named |= set(re.findall(r"\b[A-Z]\w+", str(annotation)))
                doc = inspect.getdoc(call) or ""
                for line in re.findall(r"^    ((?:[A-Z]\w+, )*[A-Z]\w+): ", doc, re.M):
                    named |= set(line.split(", "))
                missing |= {(name, each) for each in named - _FOREIGN - _INSIDE - {*kl.__all__}}
        self.assertEqual(sorted({each for _, each in missing}), [], sorted(missing))


def calls_of(value: Any) -> list[Any]:
    """Return a function, or the public methods of a class."""
    if inspect.isclass(value):
        members = (getattr(value, name) for name in vars(value) if not name.startswith("_"))
        return [each for each in members if inspect.isfunction(each)]
    return [value] if inspect.isfunction(value) else []


if __name__ == "__main__":
    unittest.main()
