"""Agreement: what a card says must agree in the files after a merge: counts, and ids of other tables.

Two sides that each kept a count right make one that is wrong together. What does not agree is told; where the
right value is known it is suggested, and set if that was asked for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from msgspec import Struct

from ..cards import Format
from ..cards.models import AgreeTable
from ..errors import KindredError
from ..finding import Finding
from ..formats import Document, Path, format_path, parse_path
from ..formats.expressions import Expression, scope_of
from ..merge import frozen

__all__ = ["Suggestion", "agreed", "disagreements"]

_SHOWN = 3


class Suggestion(Struct, frozen=True):
    """A value that does not agree with the rest of its file, and what it should be."""

    path: Path
    now: Any
    wanted: Any
    why: str

    @property
    def name(self) -> str:
        """The place, as findings name it."""
        return format_path(self.path)

    def finding(self, file: str, *, made: bool) -> Finding:
        """Return it as what was done, or as what may be."""
        if made:
            what = f"set from {self.now} to {self.wanted}: {self.why}"
            return Finding.note("made-to-agree", what, where=file, field=self.name)
        what = f"it is {self.now} and should be {self.wanted}: {self.why}"
        return Finding.warning(
            "disagrees", what, where=file, field=self.name, remedy="To have it set: `agree=True`"
        )


def disagreements(
    format: Format, document: Document, *, other: Callable[[str], Document | None]
) -> Iterator[Suggestion | Finding]:
    """Yield what does not agree in a file; `other` gives another one by its path, if it is there."""
    for table in format.table.agree:
        try:
            if table.value:
                yield from _unequal(table, document)
            else:
                yield from _astray(table, document, other)
        except KindredError as error:
            yield Finding.warning(
                "agreement-unread", f"{table.why}: {error.what}", field=table.value
            )


def _unequal(table: AgreeTable, document: Document) -> Iterator[Suggestion]:
    found = document.find(parse_path(table.value))
    for path in found:
        now = document.get(path)
        wanted = Expression.parse(table.equals)(scope_of(document, path))
        if str(now) != str(wanted):
            yield Suggestion(path, now, wanted, table.why)


def _astray(
    table: AgreeTable, document: Document, other: Callable[[str], Document | None]
) -> Iterator[Finding]:
    second = other(table.file.lstrip("/")) if table.file else document
    if second is None:
        return
    known = {frozen(second.get(path)) for path in second.find(parse_path(table.among))}
    lost = [
        f"{format_path(path)} = {document.get(path)}"
        for path in document.find(parse_path(table.each))
        if frozen(document.get(path)) not in known
    ]
    if lost:
        more = f" and {len(lost) - _SHOWN} more" if len(lost) > _SHOWN else ""
        what = f"{table.why}: {', '.join(lost[:_SHOWN])}{more}"
        yield Finding.warning("disagrees", what, field=table.each)


def agreed(format: Format, data: bytes, suggestions: list[Suggestion]) -> bytes:
    """Return a file with what was suggested.

    Raises:
        FormatError: it cannot be set there.
    """
    document = format.decode(data)
    for each in suggestions:
        is_text = isinstance(document.get(each.path), str)
        document.set(each.path, str(each.wanted) if is_text else each.wanted, note="to agree")
    return document.encode()
