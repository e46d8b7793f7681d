"""Files read without our code: each format by a parser of somebody else, as plain values.

Values are those of documents: floats are decimals, dates their text. `UNREAD` is raised for files that
readers differ about, such as a key that stands twice.
"""

from __future__ import annotations

import csv
import datetime
import io
import json
import re
import sqlite3
import tomllib
import xml.etree.ElementTree as ElementTree
from collections.abc import Callable
from decimal import Decimal
from typing import Any

import cbor2
import msgpack
from ruamel.yaml import YAML

__all__ = ["READERS", "UnreadError", "read_plain"]


class UnreadError(Exception):
    """The file says something that readers differ about."""


def read_plain(data: bytes, codec: str) -> Any:
    """Return what a file holds, by a parser that shares nothing with the library."""
    return READERS[codec](data)


def text_of(data: bytes) -> str:
    """Decode text by its byte-order mark."""
    for mark, encoding in (
        (b"\xff\xfe", "utf-16"),
        (b"\xfe\xff", "utf-16"),
        (b"\xef\xbb\xbf", "utf-8-sig"),
    ):
        if data.startswith(mark):
            return data.decode(encoding)
    try:
        return data.decode()
    except UnicodeDecodeError:
        return data.decode("latin-1")


def _json(data: bytes) -> Any:
    def keep(match: re.Match[str]) -> str:
        return match[0] if match[0][0] == '"' else " "

    plain = re.sub(r'"(?:[^"\\]|\\.)*"|//[^\n]*|/\*.*?\*/', keep, text_of(data), flags=re.S)
    plain = re.sub(r'("(?:[^"\\]|\\.)*")|,(?=\s*[\]}])', lambda m: m[1] or "", plain)
    return json.loads(plain, parse_float=Decimal, object_pairs_hook=_pairs)


def _pairs(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    if len(dict(pairs)) < len(pairs):
        raise UnreadError("a key stands twice")
    return dict(pairs)


def _toml(data: bytes) -> Any:
    return _plain(tomllib.loads(text_of(data), parse_float=Decimal))


def _yaml(data: bytes) -> Any:
    reader = YAML(typ="safe", pure=True)
    reader.constructor.add_constructor(None, lambda _, node: node.value)  # tags of their own
    found = list(reader.load_all(text_of(data)))
    if not found:
        return {}
    return _plain(found[0] if len(found) == 1 else found)


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        if not all(isinstance(key, str) for key in value):
            raise UnreadError("a key is no text")
        return {key: _plain(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [_plain(inner) for inner in value]
    if isinstance(value, float):
        return Decimal(repr(value)) if value == value else "not a number"
    if isinstance(value, (datetime.date, datetime.time)):
        return value.isoformat()
    return value


def _ini(data: bytes) -> Any:
    held: dict[str, dict[str, str]] = {}
    section = ""
    for line in re.split(r"\r\n|\n|\r", text_of(data)):
        stripped = line.strip()
        header = re.fullmatch(r"\s*\[([^\]]*)\]\s*(?:[;#].*)?", line)
        if header:
            section = header[1]
            if section in held:
                raise UnreadError("a section stands twice")
            held.setdefault(section, {})
        elif stripped and stripped[0] not in ";#":
            key, _, value = stripped.partition("=" if "=" in stripped else ":")
            if key.strip() in held.get(section, {}):
                raise UnreadError("a key stands twice")
            held.setdefault(section, {})[key.strip()] = value.strip()
    return held


def _csv(data: bytes) -> Any:
    text = text_of(data)
    sign = next((s for s in ";\t|" if s in re.split("[\r\n]", text)[0]), ",")
    rows = list(csv.reader(io.StringIO(text, newline=""), delimiter=sign))
    names = rows[0] if rows else []
    numeric = any(re.fullmatch(r"[-+]?[\d.,]+", name) or not name.strip() for name in names)
    if not names or len(set(names)) < len(names) or numeric:
        return rows
    return [
        {**dict(zip(names, row, strict=False)),
         **{str(n + 1): cell for n, cell in enumerate(row) if n >= len(names)}}
        for row in rows[1:]
    ]  # fmt: skip


def _text(data: bytes) -> Any:
    lines = re.split(r"\r\n|\n|\r", text_of(data))
    return lines[:-1] if not lines[-1] else lines


def _xml(data: bytes) -> Any:
    builder = ElementTree.TreeBuilder(insert_comments=True, insert_pis=True)
    parser = ElementTree.XMLParser(target=builder)
    parser.feed(data)
    return element_value(parser.close())


def element_value(element: ElementTree.Element) -> Any:
    """Return an element as documents hold it: attributes, lists of elements by name, pieces of text."""
    children = list(element)
    if not children and not element.attrib:
        return element.text or ""
    held: dict[str, Any] = {f"@{key}": value for key, value in element.attrib.items()}
    texts = [element.text or ""]
    for child in children:
        if isinstance(child.tag, str):
            held.setdefault(child.tag, []).append(element_value(child))
        texts.append(child.tail or "")
    texts = [text.strip(" \t\r\n") for text in texts if text.strip(" \t\r\n")]
    if texts:
        held["text()"] = texts if len(texts) > 1 else texts[0]
    return held


def _packed(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _packed(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [_packed(inner) for inner in value]
    return _plain(value)


def _sqlite(data: bytes) -> Any:
    base = sqlite3.connect(":memory:")
    base.deserialize(data[:18] + b"\1\1" + data[20:])
    base.row_factory = sqlite3.Row
    names = [
        row[0]
        for row in base.execute("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name")
    ]
    return {
        name: [_packed(dict(row)) for row in base.execute(f'SELECT * FROM "{name}" ORDER BY rowid')]
        for name in names
    }


READERS: dict[str, Callable[[bytes], Any]] = {
    "json": _json,
    "toml": _toml,
    "yaml": _yaml,
    "ini": _ini,
    "csv": _csv,
    "text": _text,
    "xml": _xml,
    "msgpack": lambda data: _packed(msgpack.unpackb(data, strict_map_key=False)),
    "cbor": lambda data: _packed(cbor2.loads(data)),
    "sqlite": _sqlite,
}
