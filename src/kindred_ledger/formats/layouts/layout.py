"""Layout: the description of a binary format in all its versions, read from one text."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ...errors import FormatError, UsageError
from ...small_files import read_small
from ..document import Path, format_path
from .directory import size_of
from .grammar import Grammar
from .item import Field, Item, Reading
from .language import Source, Tokens
from .parts import Group
from .resolving import resolve

__all__ = ["Layout"]

_LARGEST = 4 << 20  # bytes
_MOST_VERSIONS = 1000


class Layout(Struct, eq=False):
    """A format: its name, byte order, versions, and fields.

    >>> layout = kl.Layout.parse("layout chart\\nlittle endian\\nharbours table u16 { depth u16 }")
    >>> document = kl.LayoutDocument(bytes([2, 0, 7, 0, 9, 0]), layout)
    >>> document.get("harbours[1].depth")
    9
    """

    name: str
    source: Source
    big: bool = False
    low: int = 1
    high: int = 1
    version_path: Path | None = None
    root: Any = None
    refers: bool = False  # some fields stand for rows of tables
    # Of kinds whose parts lie elsewhere, by identity: which share a region, and the fields behind it.
    runs: dict[int, tuple[int, tuple[Field, ...]]] = {}
    reserved: dict[int, tuple[Field, ...]] = {}  # of fields that go to the end: those that follow
    told: set[int] = set()  # the fields that tell where parts lie, by identity
    sizes: set[int] = set()  # those that tell how long others are, or how many
    pools: set[int] = set()  # those that texts lie in

    @property
    def is_told_by_fit(self) -> bool:
        """Whether no field tells a file's version: it is told by which versions the file can be read in."""
        return self.version_path is None and self.low < self.high

    @staticmethod
    def parse(text: str, name: str = "the layout") -> Layout:
        """Read a layout's text.

        Raises:
            LayoutError: with the line and a caret.
        """
        return _Parser(Source(name, text)).layout()

    @staticmethod
    def load(path: str) -> Layout:
        """Read a layout file.

        Raises:
            UsageError: there is no such file.
            FormatError: it cannot be read.
            LayoutError: it is no layout.
        """
        try:
            text = read_small(path, most=_LARGEST).decode("utf-8-sig")
        except FileNotFoundError as error:
            raise UsageError("no such file", where=path, remedy="Check the path.") from error
        except (OSError, UnicodeDecodeError) as error:
            why = error.strerror if isinstance(error, OSError) else error.reason
            raise FormatError(f"the layout cannot be read: {why}", where=path) from error
        return Layout.parse(text.replace("\r\n", "\n").replace("\r", "\n"), path)

    def reserved_size(self, field: Field, version: int | None) -> int | None:
        """Return how many bytes must follow a field that goes to the end; None if that differs."""
        return size_of(self.reserved[id(field)], version or 0)

    def note_version(self, reading: Reading, field: Field, item: Item) -> None:
        """Take over the version once its field was read."""
        path = (*reading.path, field.name)
        if path != self.version_path:
            return
        if not isinstance(item.value, int) or not self.low <= item.value <= self.high:
            reading.fail(
                field,
                f"the file is of format version {item.value}; the layout knows {self.low} to {self.high}",
                item.start,
            )
        reading.version = item.value


class _Parser:
    def __init__(self, source: Source) -> None:
        self._tokens = Tokens(source)
        self._source = source
        self._grammar = Grammar(source, self._tokens)

    def layout(self) -> Layout:
        tokens, grammar = self._tokens, self._grammar
        tokens.skip_ends()
        tokens.expect("layout")
        layout = Layout(tokens.name("the name of the format").text, self._source)
        tokens.end()
        while tokens.next.text in ("little", "big", "versions", "text") or grammar.type_follows():
            if tokens.next.text == "type":
                grammar.type()
                tokens.end()
                continue
            word = tokens.take().text
            if word == "versions":
                layout.low = tokens.number("the first version")
                tokens.expect("to")
                layout.high = tokens.number("the last version")
                if layout.high - layout.low >= _MOST_VERSIONS:
                    tokens.fail(f"a layout has at most {_MOST_VERSIONS} versions")
                if layout.high < layout.low:
                    tokens.fail("the last version comes before the first")
                grammar.versions = (layout.low, layout.high)
                if tokens.accept("from"):
                    path = tokens.name("the field that tells the version").text
                    layout.version_path = tuple(path.split("."))
            elif word == "text":
                grammar.encoding = grammar.codec()
            else:
                tokens.expect("endian")
                layout.big = word == "big"
            tokens.end()
        layout.root = Group(grammar.fields(""))
        layout.refers = bool(grammar.referred)
        for name, at in grammar.referred.items():
            if name not in grammar.names:
                tokens.fail(f"there is no table {name!r} to refer to", at)
        if layout.version_path is not None:
            self._check_version(layout)
        resolve(layout)
        return layout

    def _check_version(self, layout: Layout) -> None:
        group: Any = layout.root
        for name in layout.version_path or ():
            found = None
            if isinstance(group, Group):
                found = next((f for f in group.fields if f.name == name), None)
            if found is None:
                path = format_path(layout.version_path or ())
                self._source.fail(f"there is no field {path} to tell the version", 0)
            group = found.kind
