"""Documents: edited without disturbing the rest; one contract for every codec."""

from __future__ import annotations

import io
import json
import sqlite3
import unittest
import warnings
import zipfile
from collections.abc import Callable
from decimal import Decimal
from typing import Any

import cbor2
import msgpack
from hypothesis import assume, given
from hypothesis import strategies as st

from kindred_ledger.errors import FormatError, KindredError, UsageError
from kindred_ledger.formats import (
    CODECS,
    Document,
    Path,
    decode,
    field_differences,
    format_path,
    look_up,
    parse_path,
)
from tests.support import law, side_law

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

_word = st.text("abcXY z-ü\"'&<:#", min_size=1, max_size=6)
_name = st.sampled_from(("alpha", "beta", "a-b", "c1", "Delta"))


@st.composite
def toml_texts(draw: Callable[..., Any]) -> str:
    """Return a TOML file: pairs, tables, arrays of tables, values in line, comments."""
    inline = st.recursive(
        st.one_of(
            st.sampled_from(
                ("1_000", "0x1F", "1.10", "-0.0", "true", "'lit'", "1979-05-27", '"""a\nb"""')
            ),
            _word.map(lambda w: json.dumps(w, ensure_ascii=False)),
        ),
        lambda inner: st.one_of(
            st.lists(inner, max_size=3).map(lambda v: "[" + " , ".join(v) + "]"),
            st.lists(inner, max_size=3).map(lambda v: "[\n  " + ", # c\n  ".join([*v, ""]) + "\n]"),
            st.dictionaries(_name, inner, max_size=3).map(
                lambda d: "{ " + ", ".join(f"{k} = {v}" for k, v in d.items()) + " }"
            ),
        ),
        max_leaves=5,
    )
    pairs = st.dictionaries(_name, inline, max_size=3)
    gap, end = st.sampled_from(("", "\n", "# note\n", "  ")), st.sampled_from(("", "  # why"))

    def body(values: dict[str, str]) -> str:
        return "".join(f"{draw(gap)}{k} = {v}{draw(end)}\n" for k, v in values.items())

    text = body(draw(pairs))
    for name in draw(st.lists(st.sampled_from(("t1", "t2.sub", "t3")), unique=True, max_size=3)):
        text += f"{draw(gap)}[{name}]{draw(end)}\n" + body(draw(pairs))
    for _ in range(draw(st.integers(0, 2))):
        text += f"[[rows]]\n{body(draw(pairs))}[rows.in]\n{body(draw(pairs))}"
    return text


def _yaml_lines(value: Any, draw: Callable[..., Any], indent: str) -> str:
    note = draw(st.sampled_from(("", "", "  # why")))
    if isinstance(value, str) or not value:
        return f" {value or '{}'}{note}\n"
    if draw(st.integers(0, 4)) == 0:
        return f" {json.dumps(value)}{note}\n"
    out = note + "\n"
    for key, inner in value.items() if isinstance(value, dict) else [(None, v) for v in value]:
        out += draw(st.sampled_from(("", "", f"{indent}# note\n", "\n")))
        lead = "-" if key is None else f"{key}:"
        out += f"{indent}{lead}" + _yaml_lines(inner, draw, indent + "  ")
    return out


@st.composite
def yaml_texts(draw: Callable[..., Any]) -> str:
    """Return a YAML file: blocks, flow style, quotes, comments."""
    scalars = st.sampled_from(
        ("1", "1.10", "yes", "~", "'it''s'", '"a: b"', "plain text", "0x1F", "ü")
    )
    values = st.recursive(
        scalars,
        lambda inner: st.one_of(st.lists(inner, min_size=1, max_size=3),
                                st.dictionaries(_name, inner, min_size=1, max_size=3)),
        max_leaves=6,
    )  # fmt: skip
    root = draw(st.dictionaries(_name, values, min_size=1, max_size=3))
    return draw(st.sampled_from(("", "---\n", "# top\n"))) + _yaml_lines(root, draw, "").lstrip(
        " \n"
    )


@st.composite
def xml_texts(draw: Callable[..., Any]) -> str:
    """Return an XML file: attributes in both quotes, text, CDATA, comments, mixed indents."""

    def element(depth: int, indent: str) -> str:
        name = draw(_name)
        attributes = "".join(
            f" {key}={quote}{_escaped(draw(_word), quote)}{quote}"
            for key in draw(st.lists(_name, unique=True, max_size=2))
            for quote in draw(st.sampled_from(("'", '"')))
        )
        if depth > 2 or draw(st.booleans()):
            text = draw(st.sampled_from(("", "5", "a &amp; b", "<![CDATA[<x>]]>", "<!-- n -->")))
            empty = f"<{name}{attributes} />"
            return empty if draw(st.booleans()) else f"<{name}{attributes}>{text}</{name}>"
        inner = draw(st.sampled_from((indent + "  ", "")))
        parts = [inner + element(depth + 1, inner) for _ in range(draw(st.integers(0, 3)))]
        return f"<{name}{attributes}>{''.join(parts)}{indent}</{name}>"

    head = draw(st.sampled_from(("", '<?xml version="1.0"?>\n', "<!-- top -->\n")))
    return head + element(0, "\n") + draw(st.sampled_from(("", "\n")))


def _escaped(text: str, quote: str) -> str:
    text = text.replace("&", "&amp;").replace("<", "&lt;")
    return text.replace(quote, "&quot;" if quote == '"' else "&apos;")


@st.composite
def csv_texts(draw: Callable[..., Any]) -> str:
    sign, end = draw(st.sampled_from(",;\t")), draw(st.sampled_from(("\n", "\r\n")))
    cell = st.sampled_from(
        ("1.10", "words", '"quo""ted"', f'"a{sign}b"', "", " x ", '"two\nlines"')
    )
    names = draw(st.lists(_name, unique=True, min_size=2, max_size=3))
    row = st.lists(cell, min_size=2, max_size=len(names)).map(sign.join)
    return end.join([sign.join(names), *draw(st.lists(row, max_size=5))]) + draw(
        st.sampled_from(("", end))
    )


_packed = st.recursive(
    st.one_of(st.integers(-(2**63), 2**63), st.floats(), st.booleans(), st.none(),
              st.text(max_size=40), st.binary(max_size=5)),
    lambda inner: st.one_of(st.lists(inner, max_size=20), st.dictionaries(_name, inner, max_size=20)),
    max_leaves=12,
)  # fmt: skip

_cells = st.one_of(st.none(), st.integers(-(2**63), 2**63 - 1), st.floats(allow_nan=False),
                   st.text(max_size=9), st.binary(max_size=5))  # fmt: skip


@st.composite
def databases(draw: Callable[..., Any]) -> bytes:
    """Return a database of up to two tables, one of them with a log kept beside it."""
    base = sqlite3.connect(":memory:")
    for name in draw(st.lists(st.sampled_from(("hands", "odd name")), unique=True, min_size=1)):
        base.execute(f'CREATE TABLE "{name}" (id INTEGER PRIMARY KEY, alpha, beta TEXT)')
        rows = draw(st.lists(st.tuples(_cells, st.text(max_size=5)), max_size=4))
        base.executemany(f'INSERT INTO "{name}" (alpha, beta) VALUES (?, ?)', rows)
    base.commit()
    data = base.serialize()
    return data[:18] + b"\2\2" + data[20:] if draw(st.booleans()) else data


@st.composite
def packs(draw: Callable[..., Any]) -> bytes:
    """Return a zip of files of other kinds, packed or stored, some with their sizes behind them."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for number, (kind, data) in enumerate(draw(st.lists(plain_files, max_size=3))):
            info = zipfile.ZipInfo(f"part {number}/a.{kind}", (2026, 1, 2, 3, 4, 6))
            info.compress_type = draw(st.sampled_from((zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED)))
            archive.writestr(info, data)
        archive.comment = draw(st.sampled_from((b"", b"of mine")))
    return out.getvalue()


_encodings = st.sampled_from(("utf-8", "utf-8-sig", "utf-16"))
TEXTS = {
    "json": json_texts,
    "ini": ini_texts,
    "toml": toml_texts(),
    "yaml": yaml_texts(),
    "xml": xml_texts(),
    "csv": csv_texts(),
    "text": ini_texts,
}
plain_files = st.one_of(
    *(st.tuples(st.just(codec), texts, _encodings).map(lambda drawn: (drawn[0], drawn[1].encode(drawn[2])))
      for codec, texts in TEXTS.items()),
    _packed.map(lambda value: ("msgpack", msgpack.packb(value))),
    _packed.map(lambda value: ("cbor", cbor2.dumps(value))),
)  # fmt: skip
files = st.one_of(
    plain_files,
    plain_files,
    databases().map(lambda data: ("sqlite", data)),
    packs().map(lambda data: ("zip", data)),
)


def leaves(document: Document) -> dict[Path, str]:
    return {leaf.path: leaf.text for leaf in document.leaves()}


def full(document: Document) -> dict[Path, str]:
    """Return the leaves that hold something."""
    return {p: t for p, t in leaves(document).items() if p and t not in ("{}", "[]", "")}


def unique(document: Document) -> list[Path]:
    """Return the paths of the scalars that stand there once."""
    paths = [leaf.path for leaf in document.leaves()]
    scalars = [leaf.path for leaf in document.leaves() if not isinstance(leaf.value, (dict, list))]
    return [path for path in scalars if paths.count(path) == 1 and path]


def new_path(codec: str, document: Document) -> Path:
    """Return where something can be added: a key of the root, or behind the last row."""
    if codec in ("csv", "text"):
        rows = len(document.get(()))
        if codec == "text":
            return (rows,)
        keys = document.get((0,)) if rows else None
        return (0, "Added") if isinstance(keys, dict) and keys else ()
    if codec == "ini":
        return ("Added", "here")
    if codec == "sqlite":
        return ()  # rows are added as mappings; see `Sqlite`
    if codec == "zip":
        parts = [p for p in document.find(("*",)) if isinstance(document.get(p), dict)]
        kinds = [(p, new_path(str(p[0]).rpartition(".")[2], _Inner(document, p))) for p in parts]
        return next(((*p, *inner) for p, inner in kinds if inner), ("Added.txt",))
    if codec == "xml":  # an element that holds text alone takes no others
        root = document.get(())
        return ("Added",) if isinstance(root, dict) or not root.strip() else ()
    return ("Added here",) if isinstance(document.get(()), dict) else ()


class _Inner:
    """A member of a pack, seen as a document of its own."""

    def __init__(self, outer: Document, at: Path) -> None:
        self._outer, self._at = outer, at

    def get(self, path: Path) -> Any:
        return self._outer.get((*self._at, *path))


def leaves_at(document: Document, at: Path) -> list[tuple[Path, str]]:
    """Return the leaves below a path, with their texts, by what follows it."""
    return [(leaf.path[len(at) :], leaf.text) for leaf in document.leaves(at)]


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
        paths = [
            p
            for p in unique(document)
            if (codec != "ini" or len(p) == 2) and (codec != "sqlite" or p[2] != "id")
        ]
        assume(paths)
        path = data.draw(st.sampled_from(paths))
        value = data.draw(st.sampled_from(("words", "3", "ü", "a: \"b' & <c>, #d")))
        before = leaves(document)
        document.set(path, value)
        assume(codec != "zip" or len(path) > 1)  # a member that is bytes stays bytes
        self.assertEqual(document.get(path), value)
        again = decode(document.encode(), codec)
        self.assertEqual(again.get(path), value)
        self.assertEqual({**leaves(again), path: ""}, {**before, path: ""})
        told = field_differences(decode(content, codec), again)
        self.assertEqual([d.name for d in told], [format_path(path)] if told else [])
        self.assertEqual(field_differences(again, again), [])
        there = {(d.name, d.before, d.after) for d in told}
        back = field_differences(again, decode(content, codec))
        self.assertEqual(there, {(d.name, d.after, d.before) for d in back})

    @side_law
    @given(files, st.data())
    def test_add_then_remove(self, file: tuple[str, bytes], data: st.DataObject) -> None:
        """A new key is read again; removed, every leaf is as it was."""
        codec, content = file
        document = decode(content, codec)
        before = full(document)
        path = new_path(codec, document)
        assume(path)
        document.set(path, "new", note="why")
        added = [leaf for leaf in document.leaves(path) if leaf.note == "why"]
        new: Any = b"new" if path == ("Added.txt",) else "new"
        self.assertEqual([leaf.value for leaf in added], [new])
        middle = decode(document.encode(), codec)
        self.assertEqual(middle.get(path), new)
        gone = {p: t for p, t in full(middle).items() if p[: len(path)] != path}
        self.assertEqual(gone, before)
        middle.remove(path)
        if path[-2:] == ("Added", "here"):
            middle.remove(path[:-1])
        self.assertEqual(full(decode(middle.encode(), codec)), before)

    @side_law
    @given(files, st.data())
    def test_members_in_another_order(self, file: tuple[str, bytes], data: st.DataObject) -> None:
        """Read again they stand in that order, each with its text; or it is refused, and nothing changed."""
        codec, content = file
        document = decode(content, codec)
        where = {leaf.path[:-1] for leaf in document.leaves() if leaf.path}
        path = data.draw(st.sampled_from(sorted(where, key=format_path) or [()]))
        try:
            document.get(path)
        except FormatError:
            assume(False)  # a key that stands twice
        members = document.find((*path, "*"))
        order = data.draw(st.permutations(range(len(members))))
        before = {member: leaves_at(document, member) for member in members}
        origins = {m: [leaf.origin for leaf in document.leaves(m)] for m in members}
        assume(len({str(member[-1]) for member in members}) == len(members))
        try:
            document.reorder(path, order)
        except KindredError:
            self.assertEqual(document.encode(), content)
            return
        again = decode(document.encode(), codec)
        for read in (document, again):
            found = read.find((*path, "*"))
            self.assertEqual(len(found), len(members))
            for member, at in zip(found, order, strict=True):
                self.assertEqual(leaves_at(read, member), before[members[at]])
        if members and codec not in ("sqlite", "zip"):
            self.assertEqual([leaf.origin for leaf in document.leaves(path)],
                             [origin for at in order for origin in origins[members[at]]])  # fmt: skip

    @side_law
    @given(files, st.data())
    def test_a_moved_value_keeps_its_text(
        self, file: tuple[str, bytes], data: st.DataObject
    ) -> None:
        """Whatever the number or the quoting looked like, under its new name it is the same."""
        codec, content = file
        document = decode(content, codec)
        name = "@Moved" if codec == "xml" else "Moved"
        paths = [
            p
            for p in unique(document)
            if isinstance(p[-1], str)
            and codec
            not in ("sqlite", "zip")  # what is in tables does not move; see below for packs
            and (codec != "ini" or len(p) == 2)
            and (codec != "xml" or p[-1].startswith("@"))
            and (codec != "csv" or not p[-1].isdigit())
        ]
        assume(paths)
        path = data.draw(st.sampled_from(paths))
        to = (*path[:-1], name)
        text = leaves(document)[path]
        origin = [leaf.origin for leaf in document.leaves(path)]
        document.move(path, to)
        self.assertEqual([leaf.origin for leaf in document.leaves(to)], origin)
        again = decode(document.encode(), codec)
        self.assertEqual(leaves(again)[to], text)
        self.assertEqual(len(full(again)), len(full(decode(content, codec))))

    @side_law
    @given(files, st.lists(st.integers(0, 1 << 30), min_size=1, max_size=6))
    def test_many_edits_read_back(self, file: tuple[str, bytes], draws: list[int]) -> None:
        """Set, remove and rename in any order: what is read again is what the document said."""
        codec, content = file
        document = decode(content, codec)
        for number, draw in enumerate(draws):
            paths = [p for p in unique(document) if codec not in ("ini", "csv") or len(p) == 2]
            if not paths:
                break
            path = paths[draw % len(paths)]
            try:
                if draw % 3 == 0:
                    document.remove(path)
                elif draw % 3 == 1 and isinstance(path[-1], str):
                    document.move(
                        path, (*path[:-1], f"@N{number}" if path[-1][:1] == "@" else f"N{number}")
                    )
                else:
                    document.set(path, f"value {number}")
            except FormatError as error:
                self.assertRegex(
                    error.what,
                    "cell|renaming|reads back|moved|number|nothing can be put|not replaced|removed",
                )
        try:
            data = document.encode()
        except FormatError as error:
            self.assertRegex(error.what, "cannot be written so that it reads back")
            return
        self.assertEqual(full(decode(data, codec)), full(document))

    @law
    @given(st.sampled_from(sorted(CODECS)), st.binary(max_size=60))
    def test_hostile_bytes_are_read_or_refused(self, codec: str, data: bytes) -> None:
        """Any bytes at all: the same bytes again, or an error of ours with its place."""
        self.survive(codec, data)

    @side_law
    @given(files, st.data())
    def test_damaged_files_are_read_or_refused(
        self, file: tuple[str, bytes], data: st.DataObject
    ) -> None:
        """Cut at any byte, any bit flipped: an error with its place, or a document."""
        codec, content = file
        assume(content)
        cut = data.draw(st.integers(0, len(content)))
        self.survive(codec, content[:cut])
        bit = data.draw(st.integers(0, len(content) * 8 - 1))
        flipped = bytearray(content)
        flipped[bit // 8] ^= 1 << bit % 8
        self.survive(codec, bytes(flipped))

    def survive(self, codec: str, data: bytes) -> None:
        try:
            document = decode(data, codec)
        except FormatError as error:
            self.assertTrue(error.where, error)
            return
        self.assertEqual(document.encode(), data)
        try:
            list(document.leaves())
        except (
            FormatError
        ) as error:  # of packs and databases, what is inside is read when asked for
            self.assertIn(codec, ("zip", "sqlite"))
            self.assertTrue(error.where, error)


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
            b"; mine\r\nloose\r\n[Video]\r\nWidth  = 200\r\nName = K\xe4se  \r\nDetail = 3\r\n"
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


class Database(unittest.TestCase):
    def made(self, script: str) -> Document:
        base = sqlite3.connect(":memory:")
        base.executescript(script)
        return decode(base.serialize(), "sqlite")

    def test_rows_come_and_go_and_keep_what_they_were(self) -> None:
        """Origins follow rows, not places."""
        document = self.made("CREATE TABLE a (x, y TEXT); INSERT INTO a VALUES (1, 'i'), (2, 'ii')")
        document.remove(("a", 0))
        document.set(("a", 1), {"x": 3}, note="why")
        told = {leaf.path: (leaf.value, leaf.origin, leaf.note) for leaf in document.leaves()}
        self.assertEqual(told["a", 0, "x"], (2, ("a", 1, "x"), ""))
        self.assertEqual(told["a", 1, "x"], (3, None, "why"))
        again = decode(document.encode(), "sqlite")
        self.assertEqual(again.get(("a",)), [{"x": 2, "y": "ii"}, {"x": 3, "y": None}])

    def test_nothing_the_file_brought_is_run(self) -> None:
        """Triggers and rows without numbers: carried, not edited; and no table is made."""
        document = self.made(
            "CREATE TABLE a (x); INSERT INTO a VALUES (1); CREATE TABLE log (x); "
            "CREATE TRIGGER t AFTER UPDATE ON a BEGIN INSERT INTO log VALUES (1); END; "
            "CREATE TABLE w (k PRIMARY KEY) WITHOUT ROWID"
        )
        for act, words in (
            (lambda: document.set(("a", 0, "x"), 2), "triggers"),
            (lambda: document.set(("w", 0), {"k": 1}), "no numbers"),
            (lambda: document.set(("new", 0), {"k": 1}), "tables are not made"),
            (lambda: document.set(("log", 0), {"z": 1}), "no column 'z'"),
            (lambda: document.move(("a", 0, "x"), ("log", 0)), "not moved"),
        ):
            with self.assertRaisesRegex(FormatError, words):
                act()


class Pack(unittest.TestCase):
    def test_members_are_documents(self) -> None:
        """One field is edited; other members keep their bytes, times and order; names are safe."""
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("settings.json", '{"a": 1.10, // mine\n "b": [1]}')
            archive.writestr("tiles/1.tile", bytes(range(256)))
            archive.writestr("keys.ini", "[A]\nx = 1\n")
        document = decode(out.getvalue(), "zip")
        document.set(("settings.json", "b", 0), 2)
        document.move(("keys.ini",), ("schl\u00fcssel.ini",))
        document.set(("new.txt",), "words")
        for path, words in (
            (("../x",), "no safe name"),
            (("settings.json", "b", 5), "nothing can be put"),
        ):
            with self.assertRaisesRegex(FormatError, words):
                document.set(path, "x")
        data = document.encode()
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            self.assertIsNone(archive.testzip())
            names = ["settings.json", "tiles/1.tile", "schl\u00fcssel.ini", "new.txt"]
            self.assertEqual(archive.namelist(), names)
            self.assertEqual(archive.read("settings.json"), b'{"a": 1.10, // mine\n "b": [2]}')
        with zipfile.ZipFile(out) as archive:
            info = archive.getinfo("tiles/1.tile")
            kept = out.getvalue()[info.header_offset : info.header_offset + info.compress_size + 40]
        self.assertIn(kept, data)
        twice = io.BytesIO()
        with zipfile.ZipFile(twice, "w") as archive, warnings.catch_warnings():
            warnings.simplefilter("ignore")
            archive.writestr("a", "1")
            archive.writestr("a", "2")
        with self.assertRaisesRegex(FormatError, "stands twice"):
            decode(twice.getvalue(), "zip")


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
