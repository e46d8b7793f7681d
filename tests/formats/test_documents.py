"""Documents: edited without disturbing the rest; one contract for every codec."""

from __future__ import annotations

import json
import unittest
from collections.abc import Callable
from decimal import Decimal
from typing import Any

from hypothesis import assume, given
from hypothesis import strategies as st

from kindred_ledger.errors import FormatError, KindredError, UsageError
from kindred_ledger.formats import (
    Document,
    Path,
    decode,
    field_differences,
    format_path,
    look_up,
    parse_path,
)
from tests.support import law

# ---- made-up files, with everything in them that tools leave there ----------------------

_keys = st.text('abcXY ._-ü"', min_size=1, max_size=5)
_space = st.sampled_from(("", " ", "\n  ", "\t", " // why\n", " /* so */ ", "\r\n"))
_scalars = st.one_of(
    st.integers(-(10**25), 10**25).map(str),
    st.sampled_from(("1.10", "-0", "1e5", "0.50", "true", "false", "null", "-12.0E+3")),
    st.text(max_size=6).filter(lambda t: t.isprintable()).map(json.dumps),
    st.text("äß日", max_size=3).map(lambda t: f'"{t}"'),
)


@st.composite
def _containers(draw: Callable[..., Any], inner: st.SearchStrategy[str]) -> str:
    """Return the text of an object or an array, spaced and commented as people do."""
    is_object = draw(st.booleans())
    keys = draw(st.lists(_keys, max_size=4, unique=True))
    parts = []
    for key in keys:
        name = f"{json.dumps(key, ensure_ascii=False)}{draw(_space)}:" if is_object else ""
        parts.append(f"{draw(_space)}{name}{draw(_space)}{draw(inner)}{draw(_space)}")
    comma = draw(st.sampled_from(("", ","))) if parts else ""
    text = ",".join(parts) + comma + draw(_space)
    return f"{{{text}}}" if is_object else f"[{text}]"


json_texts = st.tuples(_space, st.recursive(_scalars, _containers, max_leaves=8), _space).map(
    "".join
)

_ini_lines = st.one_of(
    st.sampled_from(("", "; a comment", "# another", "[Video]", "[ Sound ]  ; loud", "[Video]")),
    st.tuples(
        st.sampled_from(("", "  ")), st.sampled_from(("Width", "volume", "a b", "Mode")),
        st.sampled_from(("=", " = ", ": ", "")), st.sampled_from(("", "1.10", "high  ", "x ; y")),
    ).map("".join),
)  # fmt: skip
ini_texts = st.tuples(
    st.lists(_ini_lines, max_size=9), st.sampled_from(("\n", "\r\n")), st.booleans()
).map(lambda drawn: drawn[1].join(drawn[0]) + (drawn[1] if drawn[2] else ""))

_encodings = st.sampled_from(("utf-8", "utf-8-sig", "utf-16"))
files = st.one_of(
    st.tuples(st.just("json"), json_texts, _encodings),
    st.tuples(st.just("ini"), ini_texts, _encodings),
).map(lambda drawn: (drawn[0], drawn[1].encode(drawn[2])))


def leaves(document: Document) -> dict[Path, str]:
    return {leaf.path: leaf.text for leaf in document.leaves()}


def unique(document: Document) -> list[Path]:
    """Return the paths of the leaves that stand there once."""
    paths = [leaf.path for leaf in document.leaves()]
    return [path for path in paths if paths.count(path) == 1 and path]


class Contract(unittest.TestCase):
    @law
    @given(files)
    def test_an_unchanged_document_is_the_same_bytes(self, file: tuple[str, bytes]) -> None:
        """Comments, spacing, number text, encoding, mark and line ends included."""
        codec, data = file
        document = decode(data, codec)
        self.assertEqual(document.encode(), data)
        self.assertEqual([leaf.path for leaf in document.leaves()],
                         [leaf.origin for leaf in document.leaves()])  # fmt: skip

    @law
    @given(files, st.data())
    def test_one_edit_changes_one_leaf(self, file: tuple[str, bytes], data: st.DataObject) -> None:
        """Set a leaf: read again, it has the new value and every other leaf its old text."""
        codec, content = file
        document = decode(content, codec)
        paths = [p for p in unique(document) if codec == "json" or len(p) == 2]
        assume(paths)
        path = data.draw(st.sampled_from(paths))
        value = data.draw(st.sampled_from(("words", "3", "ü")))
        before = leaves(document)
        document.set(path, value)
        again = decode(document.encode(), codec)
        self.assertEqual(again.get(path), value)
        self.assertEqual({**leaves(again), path: ""}, {**before, path: ""})
        told = field_differences(decode(content, codec), again)
        self.assertEqual([d.name for d in told], [format_path(path)] if told else [])
        self.assertEqual(field_differences(again, again), [])
        there = {(d.name, d.before, d.after) for d in told}
        back = field_differences(again, decode(content, codec))
        self.assertEqual(there, {(d.name, d.after, d.before) for d in back})

    @law
    @given(files, st.data())
    def test_add_then_remove(self, file: tuple[str, bytes], data: st.DataObject) -> None:
        """A new key is read again; removed, every leaf is as it was."""
        codec, content = file
        document = decode(content, codec)
        before = leaves(document)
        path: Path = ("Added", "here") if codec == "ini" else ("Added here",)
        if codec == "json":
            assume(content.strip() and isinstance(document.get(()), dict))
        document.set(path, "new")
        middle = decode(document.encode(), codec)
        self.assertEqual(middle.get(path), "new")
        self.assertEqual({p: t for p, t in leaves(middle).items() if p != path and p},
                         {p: t for p, t in before.items() if p})  # fmt: skip
        middle.remove(path)
        if codec == "ini":
            middle.remove(("Added",))
        after = leaves(decode(middle.encode(), codec))
        self.assertEqual(
            {p: t for p, t in after.items() if p}, {p: t for p, t in before.items() if p}
        )

    @law
    @given(files, st.data())
    def test_a_moved_value_keeps_its_text(
        self, file: tuple[str, bytes], data: st.DataObject
    ) -> None:
        """Whatever the number or the quoting looked like, under its new name it is the same."""
        codec, content = file
        document = decode(content, codec)
        paths = [
            p
            for p in unique(document)
            if isinstance(p[-1], str) and (codec != "ini" or len(p) == 2)
        ]
        assume(paths)
        path = data.draw(st.sampled_from(paths))
        to = (*path[:-1], "Moved")
        text = leaves(document)[path]
        origin = [leaf.origin for leaf in document.leaves(path)]
        document.move(path, to)
        again = decode(document.encode(), codec)
        self.assertEqual(leaves(again)[to], text)
        self.assertEqual([leaf.origin for leaf in document.leaves(to)], origin)
        self.assertEqual(len(leaves(again)), len(leaves(decode(content, codec))))

    @law
    @given(st.sampled_from(("json", "ini")), st.binary(max_size=60))
    def test_hostile_bytes_are_read_or_refused(self, codec: str, data: bytes) -> None:
        """Any bytes at all: the same bytes again, or an error of ours with its place."""
        try:
            document = decode(data, codec)
        except FormatError as error:
            self.assertTrue(error.where)
            return
        self.assertEqual(document.encode(), data)


class Json(unittest.TestCase):
    def test_style_stays(self) -> None:
        """Number text, comments, blank lines and trailing commas around an edit."""
        text = b'{\r\n  // mine\r\n  "a": 1.10,   // keep\r\n\r\n  "b": [1, 2,],\r\n}\r\n'
        document = decode(text, "json")
        document.set(("b", 1), 7)
        document.set(("c",), Decimal("2.50"))
        self.assertEqual(
            document.encode(),
            b'{\r\n  // mine\r\n  "a": 1.10,   // keep\r\n\r\n  "b": [1, 7,],\r\n  "c": 2.50,\r\n}\r\n',
        )
        for text in (b'{"a": 1 // mine\n}', b'{"a": 1, // mine\n}'):
            other = decode(text, "json")
            other.set(("b",), 2)
            self.assertEqual(decode(other.encode(), "json").get(()), {"a": 1, "b": 2})
            self.assertIn(b"// mine\n", other.encode().splitlines(True)[0])
        document.remove(("a",))
        self.assertIn(b"// mine", document.encode())
        self.assertIn(b"// keep", document.encode())

    def test_errors_name_line_and_column(self) -> None:
        """A file cut short says so; a wrong sign says what was expected."""
        for text, where, words in (
            (b'{"a": 1,\n "b"', "line 2, column 5", "colon"),
            (b'{"a": [1, 2', "line 1", "cut short"),
            (b"{'a': 1}", "column 2", "double quotes"),
            (b"[1 2]", "column 4", "comma"),
            (b"[01]", "column 3", "comma"),
            (b"", "line 1, column 1", "a value"),
        ):
            with self.assertRaises(FormatError, msg=text) as caught:
                decode(text, "json")
            self.assertIn(where, str(caught.exception))
            self.assertIn(words, str(caught.exception))

    def test_bombs(self) -> None:
        """Nesting, numbers and spaces made to exhaust the reader cost no time and no memory."""
        with self.assertRaisesRegex(FormatError, "nested deeper"):
            decode(b"[" * 100_000, "json")
        number = decode(b"9" * 20_000, "json")
        self.assertEqual(number.encode(), b"9" * 20_000)
        self.assertIsInstance(number.get(()), Decimal)
        spaces = b"[1," + b" " * 5_000 + b"2]"
        self.assertEqual(decode(spaces, "json").encode(), spaces)

    def test_a_key_that_stands_twice_is_not_edited(self) -> None:
        """It is carried, but readers differ in which they take, so an edit is refused."""
        document = decode(b'{"a": 1, "a": 2}', "json")
        self.assertEqual(document.encode(), b'{"a": 1, "a": 2}')
        with self.assertRaisesRegex(FormatError, "2 times"):
            document.set(("a",), 3)

    def test_what_cannot_be_done_says_so(self) -> None:
        """Moving onto something, into itself, or out of an array's order."""
        document = decode(b'{"a": {"b": 1}, "c": [1]}', "json")
        for act, words in (
            (lambda: document.move(("a",), ("c",)), "there already"),
            (lambda: document.move(("a",), ("a", "x")), "into itself"),
            (lambda: document.set(("c", 5), 1), "nothing can be put there"),
            (lambda: document.remove(("zz",)), "no such value"),
            (lambda: document.get(("a", "z")), "no such value"),
        ):
            with self.assertRaisesRegex(KindredError, words):
                act()


class Ini(unittest.TestCase):
    def test_style_stays(self) -> None:
        """Comments, odd lines, separators, spaces at the end and undecodable bytes."""
        text = (
            b"; mine\r\nloose\r\n[Video]\r\nWidth  = 100\r\nName = K\xe4se  \r\n[Sound]\r\nVolume=3"
        )
        document = decode(text, "ini")
        document.set(("Video", "Width"), 200)
        document.set(("Video", "Detail"), 3)
        document.set(("Sound", "Ambience"), 70)
        self.assertEqual(
            document.encode(),
            b"; mine\r\nloose\r\n[Video]\r\nWidth  = 200\r\nName = K\xe4se  \r\nDetail=3\r\n"
            b"[Sound]\r\nVolume=3\r\nAmbience=70\r\n",
        )

    def test_a_section_is_renamed_in_place(self) -> None:
        """Its keys and comments go along."""
        document = decode(b"[Display] ; the screen\na=1\n", "ini")
        document.move(("Display",), ("Video",))
        self.assertEqual(document.encode(), b"[Video] ; the screen\na=1\n")

    def test_what_cannot_be_done_says_so(self) -> None:
        """Twice the same key, line breaks in values, sections as keys."""
        document = decode(b"[A]\nx=1\nx=2\n[B]\ny=1\n", "ini")
        for act, words in (
            (lambda: document.set(("A", "x"), 3), "2 times"),
            (lambda: document.set(("B", "y"), "a\nb"), "cannot be written"),
            (lambda: document.set(("B", "y", "z"), "1"), "section and key"),
            (lambda: document.move(("A",), ("B",)), "there already"),
            (lambda: document.move(("A",), ("B", "z")), "cannot become a key"),
            (lambda: document.get(("B", "q")), "no such key"),
        ):
            with self.assertRaisesRegex(KindredError, words):
                act()


class Paths(unittest.TestCase):
    @law
    @given(st.lists(st.one_of(st.text(min_size=1, max_size=6), st.integers(0, 99)), min_size=1))
    def test_paths_as_text_and_back(self, parts: list[str | int]) -> None:
        """Every key can be written, and is read as the same."""
        assume("*" not in parts)
        self.assertEqual(parse_path(format_path(tuple(parts))), tuple(parts))

    def test_a_path_that_breaks_shows_where(self) -> None:
        """With the column, and how to write one."""
        for text, words in (("a..b", "column 2"), ("a[x]", "column 2"), ("", "empty")):
            with self.assertRaisesRegex(UsageError, words):
                parse_path(text)


class Lookup(unittest.TestCase):
    def test_one_value_is_found_in_each_format(self) -> None:
        """By key, in JSON, INI, TOML and XML."""
        for codec, data, key in (
            ("json", b'{"game": {"build": "2.0"}}', "game.build"),
            ("ini", b"[game]\nbuild = 2.0\n", "game.build"),
            ("toml", b'\xef\xbb\xbf[game]\nbuild = "2.0"\n', "game.build"),
            ("xml", b'<top><game build="2.0"/></top>', "game.@build"),
            ("xml", b"<top><game> 2.0 </game></top>", "game"),
        ):
            self.assertEqual(look_up(data, codec, key), "2.0", codec)

    def test_what_is_not_there_or_hostile(self) -> None:
        """No such key, no single value, broken files, and XML that resolves something."""
        entity = b'<!DOCTYPE a [<!ENTITY x SYSTEM "file:///etc/passwd">]><a>&x;</a>'
        for codec, data, key, words in (
            ("json", b"{}", "a", "no such value"),
            ("json", b'{"a": []}', "a", "no single value"),
            ("toml", b"a = ", "a", "no valid TOML"),
            ("toml", b"b = 1", "a", "no such value"),
            ("xml", entity, "a", "entities"),
            ("xml", b"<a>", "a", "no valid XML"),
            ("xml", b"<a/>", "b", "no such value"),
        ):
            with self.assertRaisesRegex(FormatError, words):
                look_up(data, codec, key)
