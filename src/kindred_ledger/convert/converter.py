"""Converting one file's content: decode, run the steps of the route, encode, read again, account."""

from __future__ import annotations

from msgspec import Struct

from ..cards import Format
from ..errors import BooksUnbalanced, KindredError
from ..formats import Document
from ..statement import Statement
from ..versions import Version
from .bookkeeper import Bookkeeper
from .routes import Hop, find_route
from .steps import compile_action

__all__ = ["Converted", "convert_bytes", "format_version", "route_for"]


class Converted(Struct, frozen=True):
    """The result of a conversion: bytes, books, and what it lost, as (field, value and reason)."""

    data: bytes
    source: Version
    target: Version
    statement: Statement
    losses: tuple[tuple[str, str], ...]
    notes: tuple[str, ...]


def format_version(data: bytes, format: Format) -> Version:
    """Return the format version a file says it is in.

    Raises:
        FormatError: it is damaged, or its number is missing or none the card knows.
    """
    return format.version_of(format.decode(data))


def route_for(format: Format, source: Version, target: Version) -> tuple[Hop, ...]:
    """Return the hops from one version of a format to another; raise `NoRoute` if none lead there."""
    read = format.scheme.parse
    hops = [
        Hop(
            read(step.source),
            read(step.to),
            any("drop" in row and not row.get("lossless") for row in step.do),
            number,
        )
        for number, step in enumerate(format.table.steps)
    ]
    return find_route(hops, source, target)


def convert_bytes(data: bytes, format: Format, target: Version, *, name: str) -> Converted:
    """Convert the content of one file to another version of its format.

    The source is decoded once more and the result is decoded again to count the fields; values
    and paths of the re-read result must be those of the edited document.

    Raises:
        FormatError: the file is damaged or of an unknown version.
        NoRoute: no steps lead to `target`.
        PreconditionUnmet: a step requires what the file does not have.
        BooksUnbalanced: a field went without a reason, or the result does not read back.
    """
    try:
        document = format.decode(data)
        source = format.version_of(document)
        route = route_for(format, source, target)
        books = Bookkeeper()
        notes = []
        for hop in route:
            step = format.table.steps[hop.number]
            for row in step.do:
                compile_action(row)(document, books)
            _raise_version(document, format, hop, books)
            if step.note:
                notes.append(step.note)
        result = document.encode()
        again = format.decode(result)
        original = format.decode(data)
        edited = [(leaf.path, leaf.text) for leaf in document.leaves()]
        if edited != [(leaf.path, leaf.text) for leaf in again.leaves()]:
            raise BooksUnbalanced("what was written does not read back as what was meant")
        statement = books.statement(name, original, document).balanced(
            (leaf.name for leaf in original.leaves()), (leaf.name for leaf in again.leaves())
        )
    except KindredError as error:
        raise error.inside(name) from None
    return Converted(result, source, target, statement, tuple(books.losses), tuple(notes))


def _raise_version(document: Document, format: Format, hop: Hop, books: Bookkeeper) -> None:
    """Write the new format version where the file keeps it, as the kind of value it was."""
    path = format.version_path
    text = hop.target.text
    value: str | int = text
    if text.lstrip("-").isdigit() and not (
        document.find(path) and isinstance(document.get(path), str)
    ):
        value = int(text)
    reason = f"format {hop.source} is now {hop.target}"
    books.explain(document, path, reason)
    document.set(path, value, note=reason)
