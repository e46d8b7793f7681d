"""Sequences of edits, held against the same edits on plain values, read by parsers of somebody else."""

from __future__ import annotations

import copy
import io
import unittest
import zipfile
from collections import Counter
from collections.abc import Callable
from decimal import Decimal
from typing import Any

import cbor2
import msgpack
from hypothesis import given, settings
from hypothesis import strategies as st

from kindred_ledger.errors import FormatError, KindredError
from kindred_ledger.formats import Document, Path, decode, decode_folder
from tests.formats.odd_files import ODD_FILES
from tests.formats.plain import UnreadError, read_plain
from tests.formats.test_documents import TEXTS, _packed, databases
from tests.support import EXAMPLES, law, side_law

half_law = settings(law, max_examples=EXAMPLES // 2)
_ORDERED = ("json", "msgpack", "cbor", "text")
_FLAT = ("ini", "csv", "text")

_odd_texts = st.sampled_from(
    ("", " x", "a: b", "# c", "true", "1", "1.10", "~", "ü", "it's", 'a "b"', "- x", "*x", "&x", "!t",
     "a,b", "a;b", "<b>", "a & b", "]]>", "x # y", "x ; y", "[a]", "{a", "null", "1979-05-27", "\ttab")
)  # fmt: skip
_scalars = st.one_of(
    st.integers(-(2**40), 2**40),
    st.booleans(),
    st.none(),
    st.sampled_from((Decimal("2.50"), Decimal("-0.5"))),
    _odd_texts,
    _odd_texts,
    st.sampled_from(("two\nlines", "ends\n", "\n", "a\r\nb")),
)
_keys = st.sampled_from(
    ("alpha", "new", "a b", "ü", "true", "1", "a.b", 'q"', "#", "x: y", ";k", "k]", "-")
)
_KEYS = {
    "xml": st.sampled_from(("alpha", "beta", "new", "@alpha", "@id", "text()", "a b", "1", "x:y")),
    "csv": st.sampled_from(("alpha", "beta", "one", "two", "new", "a,b", 'q"', "7", "")),
    "ini": st.sampled_from(
        ("A", "B", "Video", "Width", "k", "new", "a b", ";k", "k]", "a=b", "k\n[b]", " k", "")
    ),
}
_values = st.recursive(
    _scalars,
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(_keys, inner, max_size=3)),
    max_leaves=4,
)


def _encoded(texts: st.SearchStrategy[str]) -> st.SearchStrategy[bytes]:
    encodings = st.sampled_from(("utf-8", "utf-8", "utf-8-sig", "utf-16"))
    return st.tuples(texts, encodings).map(lambda drawn: drawn[0].encode(drawn[1]))


@st.composite
def _block_yaml(draw: Callable[..., Any]) -> str:
    """Return a YAML file of what the plainer strategy has not: block scalars, anchors, tags, odd ends."""
    value = st.sampled_from(
        ("1", "|\n  one\n  two", ">-\n  folded\n  on", "|+\n  kept\n", "& 7", "!!str 5", "'q'",
         "&\n  in: 1\n  at: 2", "\n  - 1\n  - two", "\n  in: 1\n  deep:\n    at: x", "[1, 2]", "{a: 1}", "")
    )  # fmt: skip
    keys = draw(st.lists(_plain_keys, unique=True, max_size=4, min_size=1))
    lines = [f"{key}: {draw(value)}".replace("&", f"&{key}") for key in keys]
    anchors = [key for key, line in zip(keys, lines, strict=True) if "&" in line]
    lines += [f"use_{key}: *{key}" for key in anchors if draw(st.booleans())]
    return "\n".join(lines) + draw(st.sampled_from(("\n", "", "\n# end\n", "\n...\n")))


_plain_keys = st.sampled_from(("alpha", "beta", "c1", "Delta", "eps"))


@st.composite
def _dotted_toml(draw: Callable[..., Any]) -> str:
    """Return a TOML file of what the plainer strategy has not: dotted keys and tables."""
    head = draw(
        st.sampled_from(("", "a.x = 1\na.y.z = 2\n", 'b."q r".s = 1 # why\n', "e = {f.g = 1}\n"))
    )
    body = draw(
        st.sampled_from(
            ("", "[c.d]\nx = 1\n", "[c]\nd.e = 1\n[c.f]\ng = [1, 2]\n", "[[h]]\ni.j = 1\n[[h]]\n")
        )
    )
    return head + body.removesuffix(draw(st.sampled_from(("", "\n"))))


@st.composite
def _odd_ini(draw: Callable[..., Any]) -> str:
    """Return an INI file with values that go on in indented lines."""
    lines = draw(
        st.lists(
            st.sampled_from(("[A]", "[B]", "k = 1", "k2=v", "   more", "m: 1", "", "; c")),
            max_size=7,
        )
    )
    return draw(st.sampled_from(("\n", "\r\n"))).join(lines)


@st.composite
def _odd_csv(draw: Callable[..., Any]) -> str:
    """Return a CSV file with line ends of every kind, and of one column."""
    ends = st.sampled_from(("\n", "\r\n", "\r"))
    count = draw(st.integers(1, 3))
    cell = st.sampled_from(("1", "words", '"q"', "", '"a""b"'))
    rows = [["one", "two", "three"][:count]]
    rows += draw(st.lists(st.lists(cell, min_size=count, max_size=count), max_size=4))
    text = "".join(",".join(row) + draw(ends) for row in rows)
    return text if draw(st.booleans()) else text.rstrip("\r\n")


STRATEGIES: dict[str, st.SearchStrategy[bytes]] = {
    **{codec: _encoded(texts) for codec, texts in TEXTS.items()},
    "yaml": _encoded(st.one_of(TEXTS["yaml"], _block_yaml())),
    "toml": st.one_of(TEXTS["toml"], _dotted_toml()).map(str.encode),
    "ini": _encoded(st.one_of(TEXTS["ini"], _odd_ini())),
    "csv": _encoded(st.one_of(TEXTS["csv"], _odd_csv())),
    "msgpack": _packed.map(msgpack.packb),
    "cbor": _packed.map(cbor2.dumps),
    "sqlite": databases(),
}


def is_element(part: Any) -> bool:
    return isinstance(part, str) and part[:1] != "@" and part != "text()"


class RefusedError(Exception):
    """The plain values have no such place."""


class Plain:
    """The plain values of a file, and what edits do to them."""

    def __init__(self, codec: str, value: Any) -> None:
        self.codec, self.value = codec, value

    def at(self, path: Path) -> Any:
        value = self.value
        for part in path:
            if not isinstance(value, (dict, list)):
                raise RefusedError
            try:
                value = value[part]
            except (KeyError, IndexError, TypeError) as error:
                raise RefusedError from error
        return value

    def has(self, path: Path) -> bool:
        try:
            self.at(path)
        except RefusedError:
            return False
        return True

    def paths(self) -> list[Path]:
        """Return the paths of all values but the root."""
        found: list[Path] = []
        waiting: list[tuple[Path, Any]] = [((), self.value)]
        while waiting:
            path, value = waiting.pop()
            keys = (
                list(value)
                if isinstance(value, dict)
                else range(len(value))
                if isinstance(value, list)
                else ()
            )
            for key in keys:
                found.append((*path, key))
                waiting.append(((*path, key), value[key]))
        return found

    def full(self, path: Path) -> Path:
        """Return a path in XML with the index of each element, 0 where it was left out."""
        out: list[str | int] = []
        for at, part in enumerate(path if self.codec == "xml" else ()):
            out.append(part)
            follows = path[at + 1] if at + 1 < len(path) else None
            if is_element(part) and not isinstance(follows, int):
                there = self.at(tuple(out)) if self.has(tuple(out)) else [0]
                out += [0] if len(there) == 1 else []
        return tuple(out) if self.codec == "xml" else path

    def opened(self, path: Path, part: str | int) -> None:
        """Make an element of text one that has members, if that may be."""
        text = self.at(path)
        if self.codec == "xml" and isinstance(text, str) and isinstance(part, str):
            if text.strip() and is_element(part):
                raise RefusedError
            made = {"text()": text.strip()} if text.strip() else {}
            if path:
                self.at(path[:-1])[path[-1]] = made
            else:
                self.value = made

    def room(self, path: Path) -> Any:
        """Return the container a path lies in; mappings on the way are made."""
        for depth, part in enumerate(path):
            if not self.has(path[: depth + 1]):
                self.opened(path[:depth], part)
                break
        value = self.value
        for depth, part in enumerate(path[:-1]):
            if not self.has(path[: depth + 1]):
                self.put(
                    value,
                    part,
                    []
                    if isinstance(path[depth + 1], int) and self.codec in ("xml", "csv", "sqlite")
                    else {},
                )
            value = value[part]
        return value

    def put(self, holder: Any, part: Any, value: Any) -> None:
        if isinstance(holder, dict) and isinstance(part, str):
            holder[part] = value
        elif isinstance(holder, list) and isinstance(part, int) and part <= len(holder):
            holder[part : part + 1] = [value]
        else:
            raise RefusedError

    def set(self, path: Path, value: Any) -> None:
        path = self.full(path)
        if (
            self.codec == "sqlite" and len(path) == 2 and isinstance(value, dict)
        ):  # what the table fills in
            highest = max([row["id"] for row in self.at(path[:1])], default=0)
            value = {"id": highest + 1, "alpha": None, "beta": None, **value}
        self.put(self.room(path), path[-1], self.written(value))

    def written(self, value: Any) -> Any:
        """Return a value as files of this kind hold it."""
        if self.codec == "sqlite" and isinstance(value, bool):
            return int(value)
        if self.codec not in (*_FLAT, "xml"):
            return copy.deepcopy(value)
        if isinstance(value, list):
            return [self.written(inner) for inner in value]
        if isinstance(value, dict):
            made = {key: self.written(inner) for key, inner in value.items()}
            if self.codec == "xml":
                made = {
                    k: [v] if is_element(k) and not isinstance(v, list) else v
                    for k, v in made.items()
                }
            return made
        return (
            str(value).lower() if isinstance(value, bool) else "" if value is None else str(value)
        )

    def remove(self, path: Path) -> None:
        path = self.full(path)
        self.at(path)
        del self.at(path[:-1])[path[-1]]
        self.tidy(path[:-1])

    def tidy(self, path: Path) -> None:
        """Take out a name in XML that has no elements left."""
        if self.codec == "xml" and path and self.at(path) == []:
            del self.at(path[:-1])[path[-1]]

    def move(self, path: Path, to: Path) -> None:
        path, to = self.full(path), self.full(to)
        if self.codec == "xml" and is_element(path[-1]) and to[-1] == 0:
            to = to[:-1]  # all elements of a name get another one
        if self.has(to) or to[: len(path)] == path:
            raise RefusedError
        value, holder = self.at(path), self.at(path[:-1])
        if path[:-1] == to[:-1] and isinstance(holder, dict) and isinstance(to[-1], str):
            pairs = [(to[-1] if key == path[-1] else key, inner) for key, inner in holder.items()]
            holder.clear()
            holder.update(pairs)
            return
        room = self.room(to)
        if isinstance(room, list) and to[-1] != len(room):
            raise RefusedError
        del holder[path[-1]]
        self.tidy(path[:-1])
        self.put(room, len(room) if isinstance(room, list) else to[-1], value)

    def reorder(self, path: Path, order: list[int]) -> None:
        value = self.at(path)
        if not isinstance(value, (dict, list)):
            raise RefusedError
        if isinstance(value, list):
            value[:] = [value[at] for at in order]
        else:
            pairs = list(value.items())
            value.clear()
            value.update([pairs[at] for at in order])


def draw_edit(draw: Callable[..., Any], plain: Plain) -> tuple[Any, ...]:
    """Return an edit that often makes sense: its name and its arguments."""
    paths = plain.paths()
    keys = _KEYS.get(plain.codec, _keys)
    if plain.codec == "ini":
        paths = [path for path in paths if len(path) == 2]
    kinds = ("set", "set", "remove", "move", "move", "reorder", "append")
    if plain.codec == "sqlite":  # rows come and go, and cells are set
        kinds = ("set", "set", "remove", "append", "move")
        paths = [path for path in paths if len(path) == 2 or path[-1] in ("alpha", "beta")]
    kind = draw(st.sampled_from(kinds))
    holders = [path for path in [(), *paths] if isinstance(plain.at(path), (dict, list))]
    path = draw(st.sampled_from(paths)) if paths else ("new",)
    if kind == "remove":
        return "remove", path
    holder = draw(st.sampled_from(holders)) if holders else ()
    inside = plain.at(holder)
    if kind == "reorder":
        return (
            "reorder",
            holder,
            draw(st.permutations(range(len(inside)))) if isinstance(inside, (dict, list)) else [],
        )
    fresh: Path = (*holder, len(inside) if isinstance(inside, list) else draw(keys))
    if draw(st.integers(0, 3)) == 0 or (plain.codec == "ini" and len(fresh) == 1):
        fresh = (*fresh, draw(keys))
    if kind == "move":
        return "move", path, fresh
    return "set", fresh if kind == "append" else path, draw(_values_of(plain.codec, keys))


def _values_of(codec: str, keys: st.SearchStrategy[str]) -> st.SearchStrategy[Any]:
    if codec not in (*_FLAT, "sqlite"):
        return _values
    rows = st.one_of(st.dictionaries(keys, _scalars, max_size=3), st.lists(_scalars, max_size=3))
    return st.one_of(_scalars, _scalars, rows)


def normal(codec: str, value: Any) -> Any:
    """Return plain values without what files of a kind do not tell apart."""
    if codec == "csv" and isinstance(value, list):
        rows = [
            list(row.items()) if isinstance(row, dict) else list(enumerate(row)) for row in value
        ]
        return [{key: cell for key, cell in row if cell} for row in rows]
    if codec == "ini":
        return {section: keys for section, keys in value.items() if section or keys}
    if codec == "xml" and isinstance(value, dict):
        held = {key: normal(codec, inner) for key, inner in value.items() if inner != []}
        for key in [k for k in held if k == "text()"]:
            texts = [t.strip() for t in (held[key] if isinstance(held[key], list) else [held[key]])]
            held[key] = texts[0] if len(texts) == 1 else texts
        if set(held) <= {"text()"}:
            return held.get("text()", "")
        return held
    if codec == "xml" and isinstance(value, str):
        return value.strip()  # space at the ends is layout, once an element has attributes
    if isinstance(value, list):
        return [normal(codec, inner) for inner in value]
    if isinstance(value, dict):
        return {key: normal(codec, inner) for key, inner in value.items()}
    return value


def told(value: Any, *, ordered: bool) -> str:
    """Return plain values as text: truth is no number, 1.0 is 1; with the order of keys or without."""
    if isinstance(value, dict):
        pairs = [f"{key!r}: {told(inner, ordered=ordered)}" for key, inner in value.items()]
        return "{" + ", ".join(pairs if ordered else sorted(pairs)) + "}"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(told(inner, ordered=ordered) for inner in value) + "]"
    if isinstance(value, Decimal) and value.is_finite() and value == value.to_integral_value():
        return str(int(value))
    return f"{value.normalize()}" if isinstance(value, Decimal) else repr(value)


class Sequences(unittest.TestCase):
    def sequence(self, codec: str, content: bytes, data: st.DataObject) -> Counter[str]:
        """Edit a document and plain values alike; what is written must read as those."""
        try:
            plain = Plain(codec, read_plain(content, codec))
        except UnreadError:
            return Counter()
        document = decode(content, codec)
        edits = []
        for _ in range(data.draw(st.integers(1, 10))):
            edit = draw_edit(data.draw, plain)
            edits.append((edit, self.carry_out(document, plain, edit)))
        self.compare(document, plain, f"{content!r} {edits}")
        return Counter(outcome for _, outcome in edits)

    def compare(self, document: Document, plain: Plain, describe_step: str) -> bool:
        """Tell whether a document was written; then it must read as the plain values."""
        codec, ordered = plain.codec, plain.codec in _ORDERED
        try:
            written = document.encode()
        except KindredError as error:
            self.assertTrue(error.what)
            return False
        self.assertEqual(
            told(normal(codec, read_plain(written, codec)), ordered=ordered),
            told(normal(codec, plain.value), ordered=ordered),
            f"{describe_step}\n{written!r}",
        )
        return True

    def carry_out(self, document: Document, plain: Plain, edit: tuple[Any, ...]) -> str:
        name, *arguments = edit
        before = copy.deepcopy(plain.value)
        try:
            getattr(document, name)(*arguments)
        except KindredError:
            return "refused"
        try:
            getattr(plain, name)(*arguments)
        except RefusedError:
            plain.value = before
            self.fail(f"{edit} was done, but there is no such place")
        return "done"


class Edits(Sequences):
    """Any ten edits of any file, or refused without a trace."""


def _law(codec: str) -> Any:
    def test(self: Edits) -> None:
        count: Counter[str] = Counter()

        @half_law
        @given(STRATEGIES[codec], st.data())
        def sequences(content: bytes, data: st.DataObject) -> None:
            count.update(self.sequence(codec, content, data))

        sequences()
        self.assertGreater(count["done"] * 9, count["refused"], "most of the edits made no sense")

    return test


for _codec in STRATEGIES:
    setattr(Edits, f"test_{_codec}", _law(_codec))


class OddFiles(Sequences):
    def test_each_value_alone(self) -> None:
        """Set, removed, renamed, or a neighbour added: as in plain values, or refused without a trace."""
        for name, (codec, content) in ODD_FILES.items():
            value = read_plain(content, codec)
            self.assertEqual(decode(content, codec).encode(), content, name)
            paths = Plain(codec, value).paths()
            holders = [
                path
                for path in [(), *paths]
                if isinstance(Plain(codec, value).at(path), (dict, list))
            ]
            edits = [
                ("set", path, new) for path in paths for new in ("x", "a: #b", "two\nlines", 3)
            ]
            edits += [("remove", path) for path in paths]
            edits += [("move", path, (*path[:-1], "N1")) for path in paths]
            edits += [
                ("move", path, (*holder, key))
                for path in paths
                for holder in holders
                for key in ("N2", "@N2", 1)
            ]
            edits += [
                ("set", (*path, key), "x")
                for path in holders
                for key in ("N3", "@N3", len(Plain(codec, value).at(path)))
            ]
            done = 0
            for edit in edits:
                with self.subTest(name, edit=edit):
                    document, plain = decode(content, codec), Plain(codec, copy.deepcopy(value))
                    done += self.carry_out(document, plain, edit) == "done"
                    self.compare(document, plain, f"{content!r} {edit}")
            self.assertTrue(done, name)


_members = st.sampled_from(("a.json", "b/c.json", "b/raw.bin", "d", "B/c.json", "b", "e/f"))
_raw = st.one_of(st.binary(max_size=5).map(lambda end: b"\0\xff" + end), st.just(b""))


class Packs(Sequences):
    """Zips and folders: edits inside their members, and of the members themselves."""

    @side_law
    @given(
        STRATEGIES["json"],
        st.dictionaries(_members, st.one_of(STRATEGIES["json"], _raw), max_size=3),
        st.data(),
    )
    def test_sequences(self, one: bytes, files: dict[str, bytes], data: st.DataObject) -> None:
        files = {**files, "a.json": one}
        for codec in ("zip", "folder"):
            if codec == "zip":
                out = io.BytesIO()
                with zipfile.ZipFile(out, "w") as archive:
                    for name, content in files.items():
                        archive.writestr(name, content)
                document: Any = decode(out.getvalue(), "zip")
            else:
                document = decode_folder(files)
            held: dict[str, Plain | bytes] = {}
            for name, content in files.items():
                try:
                    known = not content.startswith(b"\0\xff") and bool(content)
                    held[name] = Plain("json", read_plain(content, "json")) if known else content
                except UnreadError:
                    return
            edits = [
                self.edit(document, held, data.draw) for _ in range(data.draw(st.integers(1, 8)))
            ]
            try:
                written = document.encode()
            except KindredError:
                continue
            if codec == "zip":
                with zipfile.ZipFile(io.BytesIO(written)) as archive:
                    written = {name: archive.read(name) for name in archive.namelist()}
            self.assertEqual({*written}, {*held}, edits)
            for name, content in written.items():
                wanted = held[name]
                if isinstance(wanted, bytes):
                    self.assertEqual(content, wanted, edits)
                else:
                    found = told(read_plain(content, "json"), ordered=True)
                    self.assertEqual(found, told(wanted.value, ordered=True), (name, edits))

    def edit(self, document: Any, held: dict[str, Any], draw: Any) -> tuple[Any, ...]:
        """Draw an edit and carry it out on both; return it with what became of it."""
        name = draw(st.sampled_from(sorted(held))) if held else "a.json"
        kind = draw(st.sampled_from(("inner", "inner", "inner", "set", "move", "remove")))
        documents = [name for name, inner in sorted(held.items()) if isinstance(inner, Plain)]
        if kind == "inner" and documents:
            name = draw(st.sampled_from(documents))
        inner = held.get(name)
        if kind == "inner" and isinstance(inner, Plain):
            verb, path, *rest = draw_edit(draw, inner)
            given = [(name, *path), *([(name, *rest[0])] if verb == "move" else rest)]
            try:
                getattr(document, verb)(*given)
            except KindredError:
                return verb, *given, "refused"
            getattr(inner, verb)(path, *rest)
            return verb, *given, "done"
        other = draw(_members)
        content = draw(_raw)
        try:
            if kind == "set":
                document.set((other,), content)
                held[other] = content
            elif kind == "remove":
                document.remove((name,))
                del held[name]
            else:
                document.move((name,), (other,))
                self.assertNotIn(other, held)
                held[other] = held.pop(name)
        except KindredError:
            return kind, name, other, "refused"
        return kind, name, other, "done"


class Reported(unittest.TestCase):
    """What was found by people who tried it: bytes before, edits, bytes after; None where it is refused."""

    def test_each(self) -> None:
        for codec, before, edits, after in REPORTED:
            with self.subTest(before=before, edits=edits):
                document = decode(before, codec)
                try:
                    for name, *arguments in edits:
                        getattr(document, name)(*arguments)
                    data: bytes | None = document.encode()
                except FormatError as error:
                    data = None
                    self.assertTrue(error.where, error)
                self.assertEqual(data, after)


REPORTED: list[tuple[str, bytes, list[tuple[Any, ...]], bytes | None]] = [
    # Moved into a container that is made on the way.
    ("yaml", b"name: Ada\ncoins: 9000\nlevel: 7\n", [("move", ("name",), ("player", "name"))],
     b"coins: 9000\nlevel: 7\nplayer: {name: Ada}\n"),
    ("toml", b"name = \"Ada\"\ncoins = 9000\nlevel = 7\n",
     [("move", ("name",), ("player", "name")), ("move", ("coins",), ("player", "coins"))],
     b"level = 7\nplayer = { name = \"Ada\", coins = 9000 }\n"),
    # Line ends stay where they are; a cell that is empty stays a cell.
    ("csv", b"id,name\r1,Ada\r2,Bo\r", [("set", (1, "name"), "Cy")], b"id,name\r1,Ada\r2,Cy\r"),
    ("csv", b"id,n\r\n1,a\n2,b\r\n3,c", [("set", (1, "n"), "x"), ("set", (2, "n"), "y")],
     b"id,n\r\n1,a\n2,x\r\n3,y"),
    ("csv", b"name\nAda\nBo\n", [("set", (0, "name"), "")], b'name\n""\nBo\n'),
    # XML: comments in CDATA, attributes that come to text and go from it, lists, and the interface.
    ("xml", b"<r><t><![CDATA[a <!-- b --> c]]></t></r>", [("set", ("t",), "x")], b"<r><t>x</t></r>"),
    ("xml", b"<r><t k='1'>5</t></r>", [("remove", ("t", "@k"))], b"<r><t>5</t></r>"),
    ("xml", b"<r><t>5</t></r>", [("set", ("t", "@k"), "1")], b'<r><t k="1">5</t></r>'),
    ("xml", b"<r><t>1</t><t>2</t></r>", [("remove", ("t", 0))], b"<r><t>2</t></r>"),
    ("xml", b"<r><t>1</t><t>2</t></r>", [("set", ("t", 7), "x")], None),
    ("xml", b"<r><t>1</t><t>2</t></r>", [("set", ("t", 2), "x")], b"<r><t>1</t><t>2</t><t>x</t></r>"),
    # YAML: aliases keep what they stand for, tags go with their values, block scalars stay.
    ("yaml", b"a: &x 1\nb: *x\n", [("remove", ("a",))], None),
    ("yaml", b"a: &x 1\nb: *x\n", [("move", ("a",), ("c",))], b"c: &x 1\nb: *x\n"),
    ("yaml", b"a: &x 1\nb: *x\nd: {}\n", [("move", ("a",), ("d", "a"))], None),
    ("yaml", b"a: &x 1\nb: *x\n", [("set", ("a",), 2)], None),
    ("yaml", b"a: &x {b: 1}\nc: *x\n", [("set", ("a", "b"), 2)], None),
    ("yaml", b"a: &x {b: 1}\nc: *x\n", [("set", ("c",), 2)], b"a: &x {b: 1}\nc: 2\n"),
    ("yaml", b"!t &k key: v\nnext: 1\n", [("remove", ("key",))], b"next: 1\n"),
    ("yaml", b"a: !mine 1\nd: {}\n", [("move", ("a",), ("d", "a"))], b"d: {a: !mine 1}\n"),
    ("yaml", b"a: |\n  text", [("set", ("b",), 1)], b"a: |-\n  text\nb: 1"),
    ("yaml", b'a: ["1", ["1"]]\n', [("set", ("a", 1), None), ("set", ("a", 2), [])],
     b'a: ["1", null, []]\n'),
    # JSON: a member that moves into a list leaves its key behind.
    ("json", b'{"a": {"x": 7}, "l": [1]}', [("move", ("a", "x"), ("l", 1))], b'{"a": {}, "l": [1, 7]}'),
    # What is moved out of a list changes the numbers of those behind it, not where it goes.
    ("json", b'[1, {"a": 2}]', [("move", (0,), (1, "b"))], b'[{"a": 2, "b": 1}]'),
    # INI: keys and sections that would be read back as something else; lines that go on.
    ("ini", b"[A]\nk=1\n", [("set", ("A", ";k"), "1")], None),
    ("ini", b"[A]\nk=1\n", [("set", ("A", "k\n[b]"), "1")], None),
    ("ini", b"[A]\nk=1\n", [("set", ("B]", "k"), "1")], None),
    ("ini", b"[A]\nk=1\n", [("remove", ("A", "k")), ("set", ("A", "x=y"), "1")], None),
    ("ini", b"[A]\nk: 1\n", [("set", ("A", "k"), "a=b")], b"[A]\nk= a=b\n"),
    ("ini", b"[A]\nk = 1\n    more = 2\n", [("set", ("A", "new"), "3")],
     b"[A]\nk = 1\n    more = 2\nnew = 3\n"),
    # Text: a last line without an end that is empty would be none.
    ("text", b"\nlast", [("remove", (1,))], b"\n"),
    # A file that is read as Latin-1 because one byte is no UTF-8, and would be UTF-8 afterwards.
    ("ini", b"[A]\nk=\xe9\n", [("set", ("A", "k"), "\u00c3\u00a9")], None),
]  # fmt: skip
