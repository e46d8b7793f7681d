"""What elements of XML say as plain values, told from the text without a node for each."""

from __future__ import annotations

from typing import Any

from .xml_pieces import ATTRIBUTE, NAME, TEXT, has_asides, resolved, texts_in
from .xml_scan import Tags

__all__ = ["body_of", "value_of"]


def value_of(data: bytes, tags: Tags, token: int) -> Any:
    """Return what an element says: its text if it has that alone, else its parts by their keys."""
    start, end = tags.span(token)
    name_end = NAME.match(data, start + 1).end()  # type: ignore[union-attr]
    told: dict[str, Any] = {
        f"@{name.decode()}": resolved((double or single).decode())
        for _, name, double, single in ATTRIBUTE.findall(data, name_end, end)
    }
    if data[end - 2] == 0x2F:
        return told or ""
    children, closing = tags.nesting.inside(token)
    stop = tags.span(closing)[0]
    if not told and not len(children) and not has_asides(data, end, stop):
        return resolved(data[end:stop].decode())
    texts: list[tuple[int, int]] = []
    groups: dict[bytes, list[Any]] = {}
    at = end
    skip = False
    for child in children:
        begin, behind = tags.span(child)
        if skip:  # the closing tag of the child before
            skip, at = False, behind
            continue
        texts += texts_in(data, at, begin)
        name = NAME.match(data, begin + 1)[0]  # type: ignore[index]
        groups.setdefault(name, []).append(value_of(data, tags, child))
        at, skip = behind, data[behind - 2] != 0x2F
    texts += texts_in(data, at, stop)
    told.update((name.decode(), members) for name, members in groups.items())
    if texts:
        values = [resolved(data[begin:stop].decode()) for begin, stop in texts]
        told[TEXT] = values[0] if len(values) == 1 else values
    return told


def body_of(data: bytes, tags: Tags, token: int) -> bytes:
    """Return the text of an element behind its name, to its closing tag."""
    start, end = tags.span(token)
    name_end = NAME.match(data, start + 1).end()  # type: ignore[union-attr]
    if data[end - 2] != 0x2F:
        end = tags.span(tags.nesting.inside(token)[1])[0]
    return data[name_end:end]
