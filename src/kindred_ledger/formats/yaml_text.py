"""YAML 1.2, edited in place: comments, order, quoting, anchors and block styles stay.

Plain scalars are read by the core schema: `yes` and `on` are text. What is written is quoted
wherever YAML 1.1 or 1.2 would take it for something else. An alias is a leaf of its own, with the
value of a scalar it stands for, or its own text; anchors are never followed further. A file of
several documents is a list of them. What it does not keep: nothing.
"""

from __future__ import annotations

import json
import re
from decimal import Decimal
from typing import Any

import yaml
from msgspec import Struct

from ..errors import FormatError
from .document import Path, format_path, same_value
from .spliced import UNTOUCHED, Spanned, Splice, SplicedDocument
from .tree import LIST, MAPPING, SCALAR

__all__ = ["YamlDocument"]

_DEEPEST = 1000
_PROPERTIES = re.compile(rb"(?:[&!][^\s,\[\]{}]*[ \t\r\n]+)*")
_INT = re.compile(r"[-+]?[0-9]+|0o[0-7]+|0x[0-9a-fA-F]+")
_FLOAT = re.compile(r"[-+]?(?:\.[0-9]+|[0-9]+(?:\.[0-9]*)?)(?:[eE][-+]?[0-9]+)?")
_INFINITE = re.compile(r"([-+]?)\.(?:inf|Inf|INF)|\.(?:nan|NaN|NAN)")
_WORDS = {
    **dict.fromkeys(("", "~", "null", "Null", "NULL")),
    **dict.fromkeys(("true", "True", "TRUE"), True),
    **dict.fromkeys(("false", "False", "FALSE"), False),
}
_SAFE = re.compile(r"[A-Za-z_/.][\w ./+()-]*(?:[:][\w/]+[\w ./+()-]*)*")
_HEADER = re.compile(rb"[|>]([0-9+-]*)")
_LONGEST_INT = 4000
_CORE = "tag:yaml.org,2002:"
_CORE_TAG = re.compile(r"!!\w+\s*")


class _Style(Struct, frozen=True):
    """How a node is written: `flow` of containers; quotes and the value of scalars; its properties."""

    flow: bool = False
    quote: str = ""  # ' " | > or none
    value: Any = None
    column: int = 0  # of a container in block style, in characters
    properties: str = ""  # its anchor and tag, and the space behind them
    properties_at: int = -1  # where they begin
    stands_for: tuple[int, int] | None = None  # of the alias of a container: where that is


class YamlDocument(SplicedDocument):
    """A YAML file as a document; see the module."""

    def _scan(self) -> Spanned:
        text = self._data.decode()
        if len(text) == len(self._data):
            self._offsets: Any = None
        else:
            import numpy as np

            starts = np.frombuffer(self._data, np.uint8) & 0xC0 != 0x80
            self._offsets = np.append(np.flatnonzero(starts), len(self._data))
        reader = _Reader(self._data, self._offsets, text)
        try:
            return reader.document()
        except yaml.YAMLError as error:
            mark = getattr(error, "problem_mark", None)
            told = getattr(error, "problem", None) or str(error).splitlines()[0]
            raise FormatError(
                f"this is no valid YAML: {told}",
                where=f"line {mark.line + 1}, column {mark.column + 1}" if mark else "the file",
            ) from error

    def _expand(self, node: Spanned) -> list[Spanned]:
        return []

    def _value(self, node: Spanned) -> Any:
        if node.plain is not UNTOUCHED:
            return node.plain
        return node.token.value

    def _written(self, value: Any) -> Any:
        return Decimal(str(value)) if isinstance(value, float) else value

    def _reads_as(self, old: Spanned, new: Spanned, state: dict[str, Any]) -> bool:
        if old.plain is not UNTOUCHED:
            return super()._reads_as(old, new, state)
        shared, again = old.token.stands_for, new.token.stands_for
        if shared is not None and again is not None:  # whoever reads it sees the change here, too
            before = state["_data"][slice(*shared)]
            if before.rstrip() != self._data[slice(*again)].rstrip():
                raise FormatError(f"the alias {self._text(new)} shares what is to change")
        if not same_value(old.token.value, self._value(new)):
            if self._text(new).startswith("*"):
                raise FormatError(f"the alias {self._text(new)} shares what is to change")
            return False
        return True

    # ---- editing -------------------------------------------------------------------------

    def _scalar_text(self, value: Any, path: Path, instead: Spanned | None) -> str:
        if value is None:
            return "null"
        if isinstance(value, bool):
            return "true" if value else "false"
        if isinstance(value, int):
            return str(value)
        if isinstance(value, (float, Decimal)):
            text = str(value).lower()
            text = text.replace("infinity", ".inf").replace("nan", ".nan")
            return text if re.search(r"[.e]", text) else text + ".0"
        if not isinstance(value, str) or re.search("[\ud800-\udfff]", value):
            raise FormatError(f"{value!r} cannot be written in YAML", where=format_path(path))
        quote = instead.token.quote if instead is not None and instead.token else ""
        printable = value.isprintable() and "\ufeff" not in value
        if quote == "'" and printable:
            return "'" + value.replace("'", "''") + "'"
        if quote != '"' and printable and _is_plain(value):
            return value
        return json.dumps(value, ensure_ascii=not printable)

    def _write(self, node: Spanned, instead: Spanned, path: Path) -> list[Splice]:
        text = node.text if node.kind == SCALAR else self._flow(node)
        assert text is not None
        start, end = instead.start, instead.end
        properties = instead.token.properties
        if properties and not self._keeps(properties, node, instead):
            if "&" in properties or not _CORE_TAG.fullmatch(properties):
                raise FormatError(
                    f"a value of another kind cannot have its properties, {properties.strip()}",
                    where=format_path(path),
                    remedy="Change it by hand.",
                )
            start = instead.token.properties_at
        if start == end and self._data[start - 1 : start] not in (b" ", b"\t", b"\n", b""):
            text = " " + text
        elif instead.kind == SCALAR and instead.token.quote in ("|", ">"):
            text += self._newline if self._data[:end].endswith(b"\n") else ""
        elif instead.kind != SCALAR and not instead.token.flow:
            end = max(self._last(instead), start)
        return [Splice(start, end, text.encode())]

    @staticmethod
    def _keeps(properties: str, node: Spanned, instead: Spanned) -> bool:
        """Tell whether a value can have the anchor and tag of the one it replaces."""
        core = re.search(r"!!(\w+)", properties)
        if "!" in properties and not (node.kind == SCALAR and isinstance(node.plain, str)):
            return False
        return core is None or (core[1] == "str" and instead.kind == SCALAR)

    def _put(self, parent: Spanned, node: Spanned, path: Path) -> list[Splice]:
        key = None if node.key is None else _key_text(node.key)
        if parent.token.flow or not self._members(parent):
            text = self._flow(node)
            text = text if key is None else f"{key}: {text}"
            placed = [member for member in self._members(parent) if member.start >= 0]
            if placed and parent.token.flow:
                last = max(placed, key=lambda m: m.end)
                return [Splice(last.end, last.end, f", {text}".encode())]
            if not parent.token.flow:
                raise FormatError("nothing can be put there", where=format_path(path))
            gap = ", " if self._members(parent) else ""
            return [Splice(parent.end - 1, parent.end - 1, (gap + text).encode())]
        indent = " " * parent.token.column
        at = self._line_after(self._last(parent))
        lead = f"{indent}{'- ' if key is None else key + ':'}"
        text = lead + self._block(node, indent, in_list=key is None)
        ends = not at or self._data[at - 1] == 0x0A
        text = text + self._newline if ends else self._newline + text
        return [*(() if ends else self._closed(parent)), Splice(at, at, text.encode())]

    def _closed(self, parent: Spanned) -> list[Splice]:
        """Return what keeps a block scalar at the end of the file without a line end at its end."""
        node = self._last_node(parent)
        if node.kind != SCALAR or node.token.quote not in ("|", ">"):
            return []
        header = _HEADER.match(self._data, node.start)
        assert header is not None
        start, end = header.span(1)
        if self._data[node.start : node.end].endswith(b"\n") or b"-" in header[1]:
            return []
        return [Splice(start, end, header[1].replace(b"+", b"") + b"-")]

    def _without(self, node: Spanned) -> list[Splice]:
        parent = node.parent
        siblings = self._members(parent)
        at = self._position(node)
        empty = "{}" if parent.kind == MAPPING else "[]"
        if len(siblings) == 1:
            end = parent.end if parent.token.flow else max(self._last(parent), parent.start)
            if not parent.token.flow and self._data[:end].endswith(b"\n"):
                empty += self._newline
            return [Splice(parent.start, end, empty.encode())]
        if parent.token.flow:
            if at + 1 < len(siblings):
                return [Splice(node.begin, siblings[at + 1].begin, b"")]
            return [Splice(siblings[at - 1].end, node.end, b"")]
        line = self._data.rfind(b"\n", 0, node.begin) + 1
        if at + 1 == len(siblings) and self._data[line : node.begin].strip():
            return [Splice(siblings[at - 1].end, max(self._last(node), node.begin), b"")]
        if self._data[line : node.begin].strip() or at == 0:
            return [Splice(node.begin, siblings[at + 1].begin, b"")]  # it begins in another's line
        return [Splice(line, self._line_after(max(self._last(node), node.begin)), b"")]

    def _can_go(self, node: Spanned) -> bool:
        return all(member.start >= 0 for member in self._members(node.parent))

    def _extent(self, node: Spanned) -> tuple[int, int]:
        return node.begin, max(self._last(node), node.end)

    def _renamed(self, node: Spanned, key: str, path: Path) -> list[Splice]:
        return [Splice(node.key_start, node.key_end, _key_text(key).encode())]

    def _last(self, node: Spanned) -> int:
        """Return where the text of a node ends, without what follows a block."""
        node = self._last_node(node)
        return max(node.end, node.key_end)

    def _last_node(self, node: Spanned) -> Spanned:
        """Return what stands last in a block."""
        while node.kind != SCALAR and not node.token.flow:
            placed = [member for member in self._members(node) if member.start >= 0]
            if not placed:
                break
            node = max(placed, key=lambda m: (m.begin, m.start))
        return node

    def _line_after(self, at: int) -> int:
        """Return where the line after an offset begins; a comment behind it is of its line."""
        if at and self._data[at - 1] == 0x0A:
            return at
        end = self._data.find(b"\n", at)
        return len(self._data) if end < 0 else end + 1

    def _flow(self, node: Spanned) -> str:
        """Return a node in flow style, with its anchor and tag if it moves."""
        moved = node.plain is UNTOUCHED and node.token is not None
        properties = node.token.properties if moved else ""
        if node.kind == SCALAR:
            text = self._text(node)
            if moved and node.token.quote in ("|", ">"):
                text = json.dumps(node.token.value, ensure_ascii=False)
            elif moved and not node.token.quote:
                text = _in_one_line(text, node.token.value)
            return properties + text
        parts = [self._flow(member) for member in self._members(node)]
        if node.kind == LIST:
            return f"{properties}[{', '.join(parts)}]"
        keys = [_key_text(str(member.key)) for member in self._members(node)]
        pairs = ", ".join(f"{k}: {p}" for k, p in zip(keys, parts, strict=True))
        return f"{properties}{{{pairs}}}"

    def _block(self, node: Spanned, indent: str, *, in_list: bool = False) -> str:
        """Return what follows the key and its colon, or the dash."""
        if node.kind == SCALAR or not self._members(node):
            return ("" if in_list else " ") + self._flow(node)
        inner = indent + "  "
        lines = []
        for member in self._members(node):
            lead = "- " if member.key is None else _key_text(str(member.key)) + ":"
            lines.append(lead + self._block(member, inner, in_list=member.key is None))
        text = (self._newline + inner).join(lines)
        return text if in_list else self._newline + inner + text


class _Reader:
    """Builds the tree from the parser's events, which carry their places."""

    def __init__(self, data: bytes, offsets: Any, text: str) -> None:
        self._data = data
        self._offsets = offsets
        self._events: Any = yaml.parse(text, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader))
        self._anchors: dict[str, Any] = {}  # values of scalars; UNTOUCHED of containers
        self._containers: dict[str, Spanned] = {}

    def document(self) -> Spanned:
        documents: list[Spanned] = []
        stack: list[Spanned] = []
        keys: list[tuple[str, int, int, int] | None] = []  # with where their properties begin
        skipping = 0  # inside a key that is no scalar
        event: Any
        for event in self._events:
            kind = type(event).__name__
            if kind.startswith(("Stream", "Document")):
                continue
            if kind.endswith("EndEvent"):
                if skipping:
                    skipping -= 1
                    if not skipping:
                        _, start, _, begin = keys[-1]  # type: ignore[misc]
                        end = self._at(event.end_mark)
                        keys[-1] = (self._data[start:end].decode(), start, end, begin)
                    continue
                node = stack.pop()
                keys.pop()
                node.end = self._at(event.end_mark)
                if not node.token.flow:
                    node.end = max([node.start, *(m.end for m in node.members or ())])
                continue
            if skipping:
                self._name(event, kind)
                skipping += kind.endswith("StartEvent")
                continue
            if stack and stack[-1].kind == MAPPING and keys[-1] is None:
                start, end = self._span(event)
                begin = self._at(event.start_mark)
                self._name(event, kind)
                if kind.endswith("StartEvent"):
                    keys[-1] = ("", start, -1, begin)
                    skipping = 1
                else:
                    text = self._data[start:end].decode()
                    keys[-1] = (event.value if kind == "ScalarEvent" else text, start, end, begin)
                continue
            node = self._node(event, kind)
            if stack:
                parent = stack[-1]
                if parent.kind == MAPPING:
                    node.key, node.key_start, node.key_end, node.begin = keys[-1]  # type: ignore[misc]
                    keys[-1] = None
                elif not parent.token.flow:
                    node.begin = self._dash(node.begin, parent)
                node.parent, node.at = parent, len(parent.members or ())
                parent.members.append(node)  # type: ignore[union-attr]
            else:
                documents.append(node)
            if node.kind != SCALAR:
                stack.append(node)
                keys.append(None)
                if len(stack) > _DEEPEST:
                    raise FormatError(
                        f"nested deeper than {_DEEPEST} levels",
                        where=f"line {event.start_mark.line + 1}",
                    )
        return self._root(documents)

    def _root(self, documents: list[Spanned]) -> Spanned:
        if len(documents) == 1:
            return documents[0]
        if not documents:
            return Spanned(MAPPING, members=[], start=0, end=0, token=_Style())
        root = Spanned(LIST, members=documents, start=0, end=len(self._data), token=_Style())
        for at, node in enumerate(documents):
            node.parent, node.at = root, at
        return root

    def _node(self, event: Any, kind: str) -> Spanned:
        start, end = self._span(event)
        begin = self._at(event.start_mark)
        if kind == "AliasEvent":
            text = self._data[start:end].decode()
            if event.anchor not in self._anchors:
                raise FormatError(
                    f"this is no valid YAML: nothing before {text} has that anchor",
                    where=f"line {event.start_mark.line + 1}, column {event.start_mark.column + 1}",
                )
            value, held = self._anchors[event.anchor], self._containers.get(event.anchor)
            token = _Style(
                value=text if value is UNTOUCHED else value,
                stands_for=(held.start, held.end) if held is not None and held.end >= 0 else None,
            )
            return Spanned(SCALAR, start=start, end=end, begin=begin, token=token)
        properties = self._data[begin:start].decode() if start > begin else ""
        self._name(event, kind)
        if kind == "ScalarEvent":
            quote = event.style or ""
            token = _Style(
                quote=quote, value=_scalar(event), properties=properties, properties_at=begin
            )
            return Spanned(SCALAR, start=start, end=end, begin=begin, token=token)
        column = event.start_mark.column
        if not event.flow_style and properties:
            line = self._data.rfind(b"\n", 0, start) + 1
            column = len(self._data[line:start].decode())
        style = _Style(
            flow=bool(event.flow_style),
            column=0 if event.flow_style else column,
            properties=properties,
            properties_at=begin,
        )
        of = MAPPING if kind.startswith("Mapping") else LIST
        made = Spanned(of, members=[], start=start, end=end, begin=begin, token=style)
        if event.anchor:
            self._containers[event.anchor] = made
        return made

    def _name(self, event: Any, kind: str) -> None:
        """Note what an anchor stands for from here on."""
        if kind != "AliasEvent" and event.anchor:
            self._anchors[event.anchor] = _scalar(event) if kind == "ScalarEvent" else UNTOUCHED
            self._containers.pop(event.anchor, None)

    def _span(self, event: Any) -> tuple[int, int]:
        start, end = self._at(event.start_mark), self._at(event.end_mark)
        if self._data[start : start + 1] in (b"&", b"!"):
            start = min(_PROPERTIES.match(self._data, start).end(), end)  # type: ignore[union-attr]
        return start, end

    def _dash(self, begin: int, parent: Spanned) -> int:
        dash = self._data.rfind(b"-", parent.start, begin)
        return dash if dash >= 0 else begin

    def _at(self, mark: Any) -> int:
        return mark.index if self._offsets is None else int(self._offsets[mark.index])


def _scalar(event: Any) -> Any:
    """Return the value of a scalar; one with a tag of its own is its text."""
    tag = (event.tag or "").removeprefix(_CORE)
    if event.tag is None and not event.style:
        return _resolved(event.value)
    return _resolved(event.value) if tag in ("int", "float", "bool", "null") else event.value


def _in_one_line(text: str, value: Any) -> str:
    """Return a plain scalar that goes on in further lines, or holds what flow style ends at, quoted."""
    if isinstance(value, str) and not text.startswith("*") and re.search(r"[\n,\[\]{}]", text):
        return json.dumps(value, ensure_ascii=False)
    return text


def _resolved(text: str) -> Any:
    """Return the value of a plain scalar by the core schema (YAML 1.2.2, section 10.3)."""
    if text in _WORDS:
        return _WORDS[text]
    if _INT.fullmatch(text) and len(text) < _LONGEST_INT:
        return int(text, 0 if text[:2] in ("0o", "0x") else 10)
    if _FLOAT.fullmatch(text):
        return Decimal(text)
    if match := _INFINITE.fullmatch(text):
        return Decimal("nan") if match[1] is None else Decimal(f"{match[1]}inf")
    return text


def _is_plain(text: str) -> bool:
    """Tell whether a text may stand without quotes under YAML 1.1 and 1.2."""
    if not _SAFE.fullmatch(text) or text != text.strip() or _resolved(text) is not text:
        return False
    resolver: Any = yaml.SafeLoader("")
    return str(resolver.resolve(yaml.ScalarNode, text, (True, False))) == "tag:yaml.org,2002:str"


def _key_text(key: str) -> str:
    return key if _is_plain(key) and ":" not in key else json.dumps(key, ensure_ascii=False)
