"""Document: what a file holds, as nested values that can be edited without disturbing the rest.

A path leads to a value: keys and list indexes. Every leaf (a scalar, or an empty container) can be
listed; each knows the path it was read under (`origin`), or, if it was added, the note it was added
with, so that whoever edits a document can account for every leaf of it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from decimal import Decimal
from functools import lru_cache, wraps
from typing import Any, Protocol, TypeVar

from msgspec import Struct

from ..errors import FormatError, UsageError

__all__ = [
    "ANY",
    "Document",
    "Leaf",
    "Path",
    "as_path",
    "document_paths",
    "format_path",
    "not_reordered",
    "occupied",
    "parse_path",
    "paths_as_text",
    "same_value",
]

Path = tuple[str | int, ...]
T = TypeVar("T")
ANY = "*"  # in a pattern: every key or index at that level
_PART = re.compile(
    r"(?P<dot>\.?)"
    r'(?:\[(?P<index>\d{1,9}|\*)\]|"(?P<quoted>(?:[^"\\]|\\.)*)"|(?P<key>[^.\[\]"]+))'
)
_PLAIN = re.compile(r'[^.\[\]"*]+')


class Leaf(Struct, frozen=True):
    """One leaf: where it is, its value, its text in the file, and where it was when read.

    `value` is str, int, Decimal, bool or None; {} or [] for an empty container. `text` is the raw
    text, so that 1.10 and 1.1 differ. `origin` is None for a leaf that was added; `note` says why it
    was.

    >>> [(leaf.path, leaf.value) for leaf in kl.decode(b"[A]\\nspeed = 2\\n", "ini").leaves()]
    [(('A', 'speed'), '2')]
    """

    path: Path
    value: Any
    text: str
    origin: Path | None
    note: str = ""

    @property
    def name(self) -> str:
        """The path as people write it."""
        return format_path(self.path)


class Document(Protocol):
    """A decoded file. Edits change it in place; `encode` gives the bytes.

    Paths are tuples; every call takes them as text, too: `document.set("crew[0].name", "Ada")`.

    >>> document = kl.decode(b'{"purse": 12}  // mine', "json")
    >>> document.set("purse", 20)
    >>> document.encode()
    b'{"purse": 20}  // mine'
    """

    def leaves(self, at: Path | str = ()) -> Iterator[Leaf]:
        """Yield every leaf at or below a path, in the order of the file."""
        ...

    def find(self, pattern: Path | str) -> list[Path]:
        """Return the existing paths that a pattern (with `ANY`) means, in order."""
        ...

    def get(self, path: Path | str) -> Any:
        """Return the value at a path as plain values; raise `UsageError` if there is none."""
        ...

    def set(self, path: Path | str, value: Any, *, note: str = "") -> None:
        """Put a value at a path, making the containers it needs.

        A leaf put in a leaf's place keeps its origin; whatever is added carries `note`.

        Raises:
            FormatError: the format has no such value, or nothing can be put there.
        """
        ...

    def remove(self, path: Path | str) -> None:
        """Remove what is at a path; comments stay.

        Raises:
            UsageError: there is nothing.
            FormatError: it cannot be removed alone.
        """
        ...

    def move(self, path: Path | str, to: Path | str) -> None:
        """Give what is at a path another path, its text untouched; within one container in place.

        Raises:
            FormatError: something is there already.
        """
        ...

    def reorder(self, path: Path | str, order: Sequence[int]) -> None:
        """Put the members of a container into another order, each with its text.

        Raises:
            FormatError: the order of such members is not changed in files of this kind.
        """
        ...

    def encode(self) -> bytes:
        """Return the bytes; those of an unedited document are the bytes it was read from."""
        ...


@lru_cache(maxsize=4096)  # a card's few paths are read for every file
def parse_path(text: str) -> Path:
    """Read a path: keys with dots between, indexes in brackets, odd keys in double quotes.

    >>> parse_path('crew[0]."pet.name"')
    ('crew', 0, 'pet.name')

    Raises:
        UsageError: the text is no path.
    """
    parts: list[str | int] = []
    at = 0
    while at < len(text):
        match = _PART.match(text, at)
        if match is None or bool(match["dot"]) != (at > 0 and match["index"] is None):
            raise UsageError(
                f"{text!r} is no path: it breaks at column {at + 1}",
                remedy='Write it like ship.crew[0].name, or crew[*].name; quote odd keys: "a.b".c',
            )
        if match["index"] is not None:
            parts.append(ANY if match["index"] == "*" else int(match["index"]))
        elif match["quoted"] is not None:
            parts.append(re.sub(r"\\(.)", r"\1", match["quoted"]))
        else:
            parts.append(match["key"])
        at = match.end()
    if not parts:
        raise UsageError("a path is empty", remedy="Write it like ship.crew[0].name")
    return tuple(parts)


def as_path(path: Path | str) -> Path:
    """Return a path that is given as text, too.

    >>> as_path("crew[0].name"), as_path(("crew", 0))
    (('crew', 0, 'name'), ('crew', 0))

    Raises:
        UsageError: it is neither, or no path.
    """
    if type(path) is tuple:
        return path
    if isinstance(path, str):
        return parse_path(path) if path else ()
    if isinstance(path, (list, tuple)):
        return tuple(path)
    raise UsageError(
        f"{path!r} is no path", remedy='Write it like "crew[0].name", or ("crew", 0, "name").'
    )


def paths_as_text(*names: str) -> Callable[[type[T]], type[T]]:
    """Let methods of a class take their first value, and `move` its first two, as text, too.

    `set` also takes NumPy's scalars and arrays as values.
    """

    def decorate(cls: type[T]) -> type[T]:
        for name in names:
            if name in cls.__dict__:
                method = cls.__dict__[name]
                wrap = {"move": _with_two, "set": _with_value}.get(name, _with_one)
                setattr(cls, name, wrap(method))
        return cls

    return decorate


def _with_value(method: Callable[..., Any]) -> Callable[..., Any]:
    @wraps(method)
    def call(self: Any, path: Any, value: Any, *rest: Any, **options: Any) -> Any:
        at = path if type(path) is tuple else as_path(path)
        return method(self, at, _plain(value), *rest, **options)

    return call


def _plain(value: Any) -> Any:
    """Return a value as Python has it: what NumPy calls a number, truth or text, and what is inside lists."""
    kind = type(value)
    if kind.__module__ == "numpy":
        return value.tolist()
    if kind is list:
        return [_plain(each) for each in value]
    if kind is dict:
        return {key: _plain(each) for key, each in value.items()}
    return value


def _with_one(method: Callable[..., Any]) -> Callable[..., Any]:
    @wraps(method)
    def call(self: Any, path: Any = (), *rest: Any, **options: Any) -> Any:
        return method(self, path if type(path) is tuple else as_path(path), *rest, **options)

    return call


def _with_two(method: Callable[..., Any]) -> Callable[..., Any]:
    @wraps(method)
    def call(self: Any, path: Any, to: Any, **options: Any) -> Any:
        return method(self, as_path(path), as_path(to), **options)

    return call


document_paths = paths_as_text("leaves", "find", "get", "set", "remove", "move", "reorder")


def format_path(path: Path) -> str:
    """Return a path or a pattern as text, the reverse of `parse_path`.

    >>> format_path(("crew", 0, "pet.name"))
    'crew[0]."pet.name"'
    """
    out = ""
    for part in path:
        if isinstance(part, int) or part == ANY:
            out += f"[{part}]"
            continue
        escaped = part.replace("\\", "\\\\").replace('"', '\\"')
        key = part if _PLAIN.fullmatch(part) else f'"{escaped}"'
        out += f".{key}" if out else key
    return out


def not_reordered(path: Path) -> FormatError:
    """Return the error for members whose order is not changed."""
    return FormatError(
        "the order of members is not changed in files of this kind", where=format_path(path)
    )


def same_value(one: Any, other: Any) -> bool:
    """Compare values without taking 1 for True; what is no number is the same as itself."""
    numbers = (int, Decimal)
    if isinstance(one, bool) or isinstance(other, bool):
        return one is other
    if isinstance(one, numbers) and isinstance(other, numbers):
        return one == other or (one != one and other != other)
    return type(one) is type(other) and bool(one == other)


def occupied(path: Path) -> FormatError:
    """Return the error for a move onto something."""
    return FormatError(
        "something is there already", where=format_path(path), remedy="Drop or move that first."
    )
