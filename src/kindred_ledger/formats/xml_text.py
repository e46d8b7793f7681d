"""XML 1.0, edited in place: nothing but the value, element or attribute that was meant changes.

A path leads from below the root: `server[0].port[0]`, `.@name` for an attribute, `.text()` for text
beside attributes or elements. Elements stand under their name in a list, however many there are;
where there is one, its index may be left out. An element that holds text alone is that text. All
values are text, with entities resolved; declared entities are refused, not resolved. What it does
not keep: nothing.
"""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Any
from xml.sax.saxutils import escape

from ..errors import FormatError
from .document import ANY, Path, document_paths, format_path
from .spliced import UNTOUCHED, Spanned, Splice, SplicedDocument
from .text import Text
from .tree import LIST, MAPPING, SCALAR
from .xml_pieces import ATTRIBUTE, BLANK, NAME, TEXT, has_asides, resolved, stripped, texts_in
from .xml_scan import scan
from .xml_values import body_of, value_of

__all__ = ["XmlDocument"]

_ENCODING = re.compile(rb"""<\?xml[^>]*?\sencoding\s*=\s*["']([A-Za-z0-9._-]+)["']""")
_XML_NAME = re.compile(r"[^\W\d][\w.:-]*")
_UNHEARD = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")


@document_paths
class XmlDocument(SplicedDocument):
    """An XML file as a document; see the module for its paths."""

    _state = (*SplicedDocument._state, "_tags")

    def _decoded(self, data: bytes) -> Text:
        declared = _ENCODING.match(data)
        if declared:
            text = Text.declared(data, declared[1].decode())
            if text is not None:
                return text
        return Text.decode(data)

    def repeats_keys(self) -> bool:
        """Tell that no key stands twice: elements of one name are a list."""
        return False

    def _scan(self) -> Spanned:
        self._tags = scan(self._data)
        return self._element(0)

    # ---- reading -------------------------------------------------------------------------

    def _element(self, token: int) -> Spanned:
        """Return the node of an element: text alone is a scalar."""
        data = self._data
        start, end = self._tags.span(token)
        empty = data[end - 2] == 0x2F
        name_end = NAME.match(data, start + 1).end()  # type: ignore[union-attr]
        node = Spanned(MAPPING, token=token, key_start=start + 1, key_end=name_end)
        bare = name_end == end - 1 or not data[name_end : end - 1].strip(b" \t\r\n/")
        if empty:
            node.start, node.end = (end - 2, end - 2) if bare else (start, end)
            node.kind = SCALAR if bare else MAPPING
            return node
        if (
            bare
            and len(self._tags.ends) > token + 1
            and data[self._tags.starts[token + 1] + 1] == 0x2F
        ):
            close = int(self._tags.starts[token + 1])
            if not has_asides(data, end, close):
                node.kind, node.start, node.end = SCALAR, end, close
                return node
        node.start = start
        node.end = self._tags.span(self._tags.nesting.inside(token)[1])[1]
        return node

    def _expand(self, node: Spanned) -> list[Spanned]:
        if node.token is None:
            return []
        if node.kind == LIST:
            some = node.some or {}
            return [some.get(at) or self._element(token) for at, token in enumerate(node.token)]
        data, token = self._data, node.token
        end = self._tags.span(token)[1]
        members = []
        at = node.key_end
        while match := ATTRIBUTE.match(data, at, end):
            group = 3 if match[3] is not None else 4
            member = Spanned(SCALAR, key="@" + match[2].decode(), begin=at, stop=match.end())
            member.start, member.end = match.span(group)
            member.key_start, member.key_end = match.span(2)
            members.append(member)
            at = match.end()
        if data[end - 2] == 0x2F:
            return members
        children, closing = self._tags.nesting.inside(token)
        groups: dict[bytes, list[int]] = {}
        texts: list[Spanned] = []
        at = end
        skip = False
        for child in children:
            begin, stop = self._tags.span(child)
            if skip:  # the closing tag of the child before
                skip, at = False, stop
                continue
            self._add_texts(at, begin, texts)
            name = NAME.match(data, begin + 1)[0]  # type: ignore[index]
            groups.setdefault(name, []).append(child)
            at, skip = stop, data[stop - 2] != 0x2F
        self._add_texts(at, self._tags.span(closing)[0], texts)
        for name, tokens in groups.items():
            members.append(Spanned(LIST, key=name.decode(), token=tokens, start=end))
        if len(texts) == 1:
            texts[0].key = TEXT
            members += texts
        elif texts:
            members.append(Spanned(LIST, key=TEXT, members=texts, start=end))
            for number, text in enumerate(texts):
                text.parent, text.at, text.was_leaf = members[-1], number, True
                if node.origin is not None:
                    text.origin = (*node.origin, TEXT, number)
        return members

    def _add_texts(self, start: int, end: int, texts: list[Spanned]) -> None:
        """Note the text of a gap between tags, without the space and the comments around it."""
        for begin, stop in texts_in(self._data, start, end):
            texts.append(Spanned(SCALAR, start=begin, end=stop, begin=begin, stop=stop))

    def _value(self, node: Spanned) -> str:
        return resolved(self._text(node))

    def _plain(self, node: Spanned) -> Any:
        """Return what a node says; what nobody looked into is told from the text, without nodes."""
        if node.token is not None and node.members is None and not node.some:
            if node.kind == LIST:
                return [value_of(self._data, self._tags, token) for token in node.token]
            if node.kind == MAPPING:
                return value_of(self._data, self._tags, node.token)
        return super()._plain(node)

    def _reads_as(self, old: Spanned, new: Spanned, state: dict[str, Any]) -> bool:
        if old.plain is not UNTOUCHED or super()._reads_as(old, new, state):
            return super()._reads_as(old, new, state)
        text = old.text
        if text is None:
            text = state["_data"][old.start : old.end].decode()
        return resolved(text) == self._value(new)

    def _same_in_other_form(self, old: Spanned, new: Spanned, state: dict[str, Any]) -> bool:
        """An element that lost all but its text is that text."""
        if new.kind == SCALAR and len(old.members or ()) == 1:
            text = self._members(old)[0]
            if text.key == TEXT and text.kind == SCALAR:
                new.origin, new.was_leaf, new.note = text.origin, text.was_leaf, text.note
                start, end = new.start, new.end
                if text.start >= 0:  # the space around it was no part of it, and still is there
                    start, end = stripped(self._data, start, end)
                bare = Spanned(SCALAR, start=start, end=end, token=new.token)
                return self._reads_as(text, bare, state)
        if new.kind == SCALAR:  # an element without members is one without text
            return not self._members(old) and not self._text(new).strip()
        return not self._members(new) and not (old.text or "").strip()

    def _same_unseen(self, old: Spanned, new: Spanned, state: dict[str, Any]) -> bool:
        if old.kind != LIST:
            return body_of(state["_data"], state["_tags"], old.token) == body_of(
                self._data, self._tags, new.token
            )
        if new.kind != LIST or new.token is None or len(old.token) != len(new.token):
            return False
        begin = 0
        for at in (*sorted(old.some or {}), len(old.token)):  # runs that nobody looked into
            if begin < at and not self._same_run(old.token[begin:at], new.token[begin:at], state):
                return False
            begin = at + 1
        return True

    def _same_run(self, old: Any, new: Any, state: dict[str, Any]) -> bool:
        """Tell whether elements of a list are the same: all in one, or else one by one."""
        (start, _), (begin, _) = state["_tags"].span(old[0]), self._tags.span(new[0])
        end, stop = (
            tags.span(tags.nesting.inside(token)[1] if data[tags.span(token)[1] - 2] != 0x2F else token)[1]
            for tags, data, token in (
                (state["_tags"], state["_data"], old[-1]), (self._tags, self._data, new[-1])
            )
        )  # fmt: skip
        if state["_data"][start:end] == self._data[begin:stop]:
            return True
        return all(
            body_of(state["_data"], state["_tags"], one) == body_of(self._data, self._tags, other)
            for one, other in zip(old, new, strict=True)
        )

    def _fitting(self, node: Spanned, part: str | int) -> list[tuple[str | int, Spanned]]:
        """Look at one element of many without making them all."""
        if node.members is not None or node.token is None or node.kind != LIST:
            return super()._fitting(node, part)
        if not isinstance(part, int):
            return super()._fitting(node, part)
        if part >= len(node.token):
            return []
        node.some = {} if node.some is None else node.some
        if part not in node.some:
            made = node.some[part] = self._element(node.token[part])
            made.parent, made.at = node, part
            if node.origin is not None:
                made.origin, made.was_leaf = (*node.origin, part), made.kind == SCALAR
        return [(part, node.some[part])]

    # ---- paths ---------------------------------------------------------------------------

    def _full(self, path: Path) -> Path:
        """Put in the indexes that were left out where there is one element."""
        full: list[str | int] = []
        node: Spanned | None = self._root
        for at, part in enumerate(path):
            if node is not None and self._is_single(node) and isinstance(part, str) and part != ANY:
                full.append(0)
                node = self._fitting(node, 0)[0][1]
            full.append(part)
            found = self._fitting(node, part) if node is not None and part != ANY else []
            node = found[0][1] if len(found) == 1 else None
            if node is None and part != ANY and _is_element(part):
                follows = path[at + 1] if at + 1 < len(path) else None
                if not isinstance(follows, int):
                    full.append(0)  # what is to be made
        if node is not None and self._is_single(node):
            full.append(0)
        return tuple(full)

    def _is_single(self, node: Spanned) -> bool:
        """Tell whether a node is the list of one element."""
        listed = node.token if node.members is None else node.members
        return node.kind == LIST and len(listed) == 1

    def find(self, pattern: Path) -> list[Path]:
        found: list[tuple[Path, Spanned]] = [((), self._root)]
        for part in pattern:
            step: list[tuple[Path, Spanned]] = []
            for path, node in found:
                each, inner = path, node
                if self._is_single(node) and isinstance(part, str) and part != ANY:
                    each, inner = (*path, 0), self._fitting(node, 0)[0][1]
                step += [((*each, key), member) for key, member in self._fitting(inner, part)]
            found = step
        return [(*path, 0) if self._is_single(node) else path for path, node in found]

    # ---- editing -------------------------------------------------------------------------

    def _made(self, value: Any, path: Path) -> Spanned:
        node = super()._made(value, path)
        if node.kind == MAPPING:
            for member in self._members(node):
                if member.kind != LIST and _is_element(member.key):
                    self._into_list(member)
        return node

    def _into_list(self, node: Spanned) -> Spanned:
        """Put a list of its name around an element that was made."""
        group = Spanned(LIST, key=node.key, parent=node.parent, members=[node])
        if node.parent is not None:
            members = self._members(node.parent)
            members[members.index(node)] = group
        node.parent, node.key = group, None
        return group

    def _scalar_text(self, value: Any, path: Path, instead: Spanned | None) -> str:
        text = self._written(value)
        if not isinstance(text, str) or _UNHEARD.search(text):
            raise FormatError(f"{value!r} cannot be written in XML", where=format_path(path))
        quote = '"' if instead is None or instead.start < 0 else None
        if quote is None:
            before = chr(self._data[instead.start - 1]) if instead and instead.start else ""
            quote = before if instead and (instead.key or "").startswith("@") else ""
        text = escape(text, {"\r": "&#13;"})
        if quote:
            extra = {'"': "&quot;", "'": "&apos;"}[quote]
            text = text.replace(quote, extra).replace("\n", "&#10;").replace("\t", "&#9;")
        return text

    def _written(self, value: Any) -> Any:
        if isinstance(value, bool):
            return "true" if value else "false"
        if value is None:
            return ""
        return str(value) if isinstance(value, (str, int, float, Decimal)) else value

    def _write(self, node: Spanned, instead: Spanned, path: Path) -> list[Splice]:
        if instead.kind == SCALAR == node.kind:
            text = (node.text or "").encode()
            if instead.token is not None and self._is_empty_tag(instead):
                name = self._data[instead.key_start : instead.key_end]
                return [Splice(instead.start, instead.start + 2, b">" + text + b"</" + name + b">")]
            return [Splice(instead.start, instead.end, text)]
        if instead.token is None or instead.kind == LIST or node.kind == LIST:
            raise FormatError(
                "elements cannot be put in the place of this", where=format_path(path)
            )
        start, end = self._span(instead)
        label = self._data[instead.key_start : instead.key_end].decode()
        return [Splice(start, end, self._rendered(label, node, self._indent(start)).encode())]

    def _put(self, parent: Spanned, node: Spanned, path: Path) -> list[Splice]:
        if parent.kind == LIST:
            if parent.key == TEXT:
                raise FormatError("text is not put beside other text", where=format_path(path))
            name = str(parent.key)
            last = self._members(parent)[-1]
            begin, end = self._span(last)
            indent = self._indent(begin)
            text = indent + self._moving(name, node, indent)
            return [Splice(end, end, text.encode())]
        key = str(node.key)
        if not _is_element(key) and node.kind != SCALAR:
            raise FormatError("only text can be put there", where=format_path(path))
        tag_start, tag_end = self._tags.span(parent.token)
        empty = self._is_empty_tag(parent)
        if key.startswith("@"):
            self._check_name(key[1:], path)
            at = tag_end - 2 if empty else tag_end - 1
            while self._data[at - 1] in b" \t\r\n":
                at -= 1
            value = self._scalar_text(self._value(node), path, None)
            return [Splice(at, at, f' {key[1:]}="{value}"'.encode())]
        outer = self._indent(tag_start)
        if key == TEXT:
            text = escape(self._value(node), {"\r": "&#13;"})
        else:
            self._check_name(key, path)
            inner = self._inner_indent(parent, outer)
            each = self._members(node) if node.kind == LIST else [node]
            text = "".join(inner + self._moving(key, one, inner) for one in each)
            if empty or not self._has_elements(parent):
                text += outer
        if empty:
            label = self._data[parent.key_start : parent.key_end].decode()
            return [Splice(tag_end - 2, tag_end, f">{text}</{label}>".encode())]
        close = self._tags.span(self._tags.nesting.inside(parent.token)[1])[0]
        at = close
        if key == TEXT and not self._data[tag_end:close].strip(BLANK):
            return [Splice(tag_end, close, text.encode())]
        if key != TEXT and self._has_elements(parent):
            while self._data[at - 1] in b" \t\r\n":
                at -= 1
        return [Splice(at, at, text.encode())]

    def _extent(self, node: Spanned) -> tuple[int, int]:
        if node.kind == LIST:
            raise FormatError("remove the elements one by one", where=format_path(self._path(node)))
        if node.token is None:
            return node.begin, node.stop
        start, end = self._span(node)
        at = start
        while at and self._data[at - 1] in b" \t":
            at -= 1
        if at and self._data[at - 1] == 0x0A:
            start = at - (2 if at > 1 and self._data[at - 2] == 0x0D else 1)
        return start, end

    def _has_room(self, parent: Spanned) -> bool:
        if parent.kind == LIST:
            return bool(self._members(parent)) and self._members(parent)[-1].start >= 0
        if not super()._has_room(parent):
            return False
        return self._has_elements(parent) or all(m.start >= 0 for m in self._members(parent))

    def _can_go(self, node: Spanned) -> bool:
        if node.kind == LIST:
            return all(member.start >= 0 for member in self._members(node))
        return super()._can_go(node)

    def _detach(self, node: Spanned) -> None:
        if not self._can_go(node):
            path = self._path(node)
            self._reread()
            node = self._node(path)
        if node.kind == LIST:
            for member in reversed(self._members(node)):
                self._splice(self._without(member))
        else:
            self._splice(self._without(node))
        self._take_member(node)
        if node.parent.kind == LIST and not node.parent.members:
            self._take_member(node.parent)

    def _renamed(self, node: Spanned, key: str, path: Path) -> list[Splice]:
        if key.startswith("@") != str(node.key).startswith("@") or TEXT in (key, node.key):
            raise FormatError("attributes, elements and text do not become each other by renaming",
                              where=format_path(path))  # fmt: skip
        self._check_name(key.removeprefix("@"), path)
        if node.kind != LIST:
            return [Splice(node.key_start, node.key_end, key[1:].encode())]
        return [each for one in self._members(node) for each in self._names(one, key)]

    def _names(self, element: Spanned, name: str) -> list[Splice]:
        element = self._placed(element)
        out = [Splice(element.key_start, element.key_end, name.encode())]
        if not self._is_empty_tag(element):
            start, end = self._tags.span(self._tags.nesting.inside(element.token)[1])
            out.append(Splice(start + 2, end - 1, name.encode()))
        return out

    def move(self, path: Path, to: Path) -> None:
        with self._whole():
            path, to = self._full(path), self._full(to)
            group = self._node(path)
            if group.kind != LIST and path[-1] == 0 and group.parent is not None:
                group = group.parent
            renamed = to[-1] == 0 and len(to) > 1 and to[:-2] == self._path(group)[:-1]
            whole = group.kind == LIST and (path[-1] != 0 or len(self._members(group)) == 1)
            if whole and renamed and not self.find(to[:-1]):
                self._rename(group, str(to[-2]), to[:-1])
                return
            if self._node(path).kind == LIST:
                raise FormatError("elements are moved one by one", where=format_path(path))
            super().move(path, to)

    def _relocate(self, path: Path, to: Path) -> None:
        """Put an element into the list of its name, or an attribute or text into its element."""
        depth = len(to) - 1
        if isinstance(to[-1], int) and not self.find(to[:-1]):
            depth -= 1
        if depth and not self.find(to[:depth]):
            self._insert(to[:depth], {}, "")
        self._reread()  # what moves is taken from the text as it is
        holder, node = self._node(to[:depth]), self._node(path)
        if _is_element(to[depth]) and self._text_alone(holder):
            raise self._no_room(to, holder)
        self._detach(node)
        self._put_in(holder, node, to[: depth + 1])

    def _put_in(self, holder: Spanned, node: Spanned, path: Path) -> None:
        """Put a node behind the members of an element, or of a list of elements."""
        holder = self._opened(holder)
        if not _is_element(path[-1]):
            self._add(holder, node, path)
            return
        group = Spanned(LIST, members=[node], plain=None, note=node.note)
        self._alter(node, parent=group, key=None)
        self._add(holder, group, path)

    def _opened(self, element: Spanned) -> Spanned:
        """Return an element as one that has members; its text becomes one of them."""
        if element.kind != SCALAR or element.token is None:
            return element
        element = self._placed(element)
        start, end = stripped(self._data, element.start, element.end)
        members = []
        if start < end and not self._is_empty_tag(element):
            text = Spanned(SCALAR, key=TEXT, start=start, end=end, begin=start, stop=end)
            text.parent, text.origin, text.was_leaf = element, element.origin, element.was_leaf
            text.note, text.plain, text.text = element.note, element.plain, element.text
            members.append(text)
        self._alter(
            element, kind=MAPPING, members=members, plain=UNTOUCHED, text=None,
            start=self._tags.span(element.token)[0], was_leaf=element.was_leaf and not members,
        )  # fmt: skip
        return element

    def _text_alone(self, node: Spanned) -> bool:
        """Tell whether a node is an element that holds text and nothing else."""
        return node.kind == SCALAR and bool(self._text(node).strip())

    def _no_room(self, path: Path, node: Spanned) -> FormatError:
        return FormatError(
            f"nothing can be put there: it lies in a {node.kind}", where=format_path(path)
        )

    def _check_room(self, path: Path) -> None:
        """Raise unless a path leads behind the last element of a name, or to what is to be made."""
        node: Spanned | None = self._root
        for depth, part in enumerate(path):
            found = self._fitting(node, part) if node is not None and part != ANY else []
            if found:
                node = found[0][1]
                continue
            if isinstance(part, int):
                in_list = node is not None and node.kind == LIST
                fits = part == (len(self._members(node)) if node is not None and in_list else 0)
                fits = fits and (in_list or (depth > 0 and node is None))
            elif node is None:
                fits = part != ANY and _is_element(path[depth - 1]) | (path[depth - 1] == 0)
            else:
                element = node.kind == MAPPING or (node.kind == SCALAR and node.token is not None)
                taken = _is_element(part) and self._text_alone(node)
                fits = part != ANY and element and not taken
            if not fits:
                raise self._no_room(path[: depth + 1], node or self._root)
            node = None

    def _insert(self, path: Path, value: Any, note: str) -> None:
        self._check_room(path)
        if isinstance(value, (list, tuple)):
            raise FormatError("elements are put in one by one", where=format_path(path))
        depth = len(path) - 1
        while depth and not self.find(path[:depth]):
            depth -= 1
        if path[depth] == 0 and self._node(path[:depth]).kind != LIST:
            depth -= 1
        for part in reversed(path[depth + 1 :]):
            value = value if isinstance(part, int) else {part: value}
        node, holder = self._noted(value, path, note), self._node(path[:depth])
        if holder.kind == LIST:
            self._add(holder, node, path[: depth + 1])
        else:
            self._put_in(holder, node, path[: depth + 1])

    def _moving(self, name: str, node: Spanned, indent: str) -> str:
        """Return an element of a name: what was made, or text that moves as it is."""
        if node.plain is not UNTOUCHED:
            return self._rendered(name, node, indent)
        if node.token is None:
            return f"<{name}>{escape(self._value(node))}</{name}>"
        body = body_of(self._data, self._tags, node.token).decode()
        return f"<{name}{body}" + ("" if self._is_empty_tag(node) else f"</{name}>")

    def _rendered(self, name: str, node: Spanned, indent: str) -> str:
        """Return a made node as an element."""
        self._check_name(name, (name,))
        if node.kind == SCALAR:
            text = escape(str(self._written(node.plain)), {"\r": "&#13;"})
            return f"<{name}>{text}</{name}>"
        if node.kind == LIST:
            raise FormatError("a list needs a name of its own", where=name)
        attributes, children = "", ""
        step = indent + ("  " if "\n" in indent else "")
        for member in self._members(node):
            key = str(member.key)
            if key.startswith("@"):
                self._check_name(key[1:], (key,))
                attributes += f' {key[1:]}="{self._scalar_text(member.plain, (key,), None)}"'
            elif key == TEXT:
                children += self._scalar_text(member.plain, (key,), member)
            else:
                each = self._members(member) if member.kind == LIST else [member]
                children += "".join(step + self._rendered(key, one, step) for one in each)
        if not children:
            return f"<{name}{attributes}/>"
        end = indent if children.startswith(step) else ""
        return f"<{name}{attributes}>{children}{end}</{name}>"

    # ---- places --------------------------------------------------------------------------

    def _span(self, node: Spanned) -> tuple[int, int]:
        """Return where an element is, tags and all."""
        start, end = self._tags.span(node.token)
        if not self._is_empty_tag(node):
            end = self._tags.span(self._tags.nesting.inside(node.token)[1])[1]
        return start, end

    def _is_empty_tag(self, node: Spanned) -> bool:
        return self._data[self._tags.span(node.token)[1] - 2] == 0x2F

    def _indent(self, start: int) -> str:
        """Return the line end and the space before an element; "" if something else is there."""
        at = start
        while at and self._data[at - 1] in b" \t":
            at -= 1
        if at and self._data[at - 1] == 0x0A:
            return self._newline + self._data[at:start].decode()
        return self._newline if at == 0 and start == at else ""

    def _has_elements(self, parent: Spanned) -> bool:
        if self._is_empty_tag(parent):
            return False
        return bool(self._tags.nesting.inside(parent.token)[0])

    def _inner_indent(self, parent: Spanned, outer: str) -> str:
        if self._has_elements(parent):
            first = self._tags.nesting.inside(parent.token)[0][0]
            return self._indent(self._tags.span(first)[0])
        step = "\t" if "\t" in outer else "  "
        return outer + step if outer else ""

    def _check_name(self, name: str, path: Path) -> None:
        if not _XML_NAME.fullmatch(name):
            raise FormatError(f"{name!r} is no name in XML", where=format_path(path))
        prefix, colon, _ = name.partition(":")
        if (
            colon
            and prefix not in ("xml", "xmlns")
            and f"xmlns:{prefix}=".encode() not in self._data
        ):
            raise FormatError(
                f"the file declares no namespace {prefix!r}", where=format_path(path),
                remedy=f"Add xmlns:{prefix}=\"…\" to its first element by hand.",
            )  # fmt: skip


def _is_element(part: Any) -> bool:
    return isinstance(part, str) and not part.startswith("@") and part != TEXT
