"""What lies directly in what: opening, closing and other tokens of a text, by columns or by lists.

Sorted by depth, the tokens directly inside one opening token lie together, so looking into any
container is two searches and a slice, however large the text is.
"""

from __future__ import annotations

from typing import Any, Protocol

__all__ = ["Columns", "Listed", "Nesting"]


class Nesting(Protocol):
    """The tokens of a text, numbered in order."""

    def position(self, token: int) -> int:
        """Return the byte offset of a token."""
        ...

    def inside(self, token: int) -> tuple[list[int], int]:
        """Return the tokens directly inside an opening one, and its closing one."""
        ...

    def count(self, token: int, data: bytes, sign: int) -> int:
        """Return how many tokens at or inside an opening one are this character of the text."""
        ...


class Listed:
    """Tokens in lists, filled one by one."""

    def __init__(self) -> None:
        self.stack: list[int] = []
        self._positions: list[int] = []
        self._inside: dict[int, list[int]] = {}
        self._closing: dict[int, int] = {}

    def add(self, position: int) -> int:
        """Add a token inside the innermost open one."""
        number = len(self._positions)
        self._positions.append(position)
        if self.stack:
            self._inside[self.stack[-1]].append(number)
        return number

    def open(self, position: int) -> None:
        """Add an opening token."""
        number = self.add(position)
        self._inside[number] = []
        self.stack.append(number)

    def close(self, position: int) -> None:
        """Add the token that closes the innermost open one."""
        opened = self.stack.pop()
        self._closing[opened] = self.add(position)

    def position(self, token: int) -> int:
        return self._positions[token]

    def inside(self, token: int) -> tuple[list[int], int]:
        return self._inside[token], self._closing[token]

    def count(self, token: int, data: bytes, sign: int) -> int:
        return sum(data[at] == sign for at in self._positions[token : self._closing[token]])


class Columns:
    """Tokens in NumPy columns: `(n,)` offsets, and masks of those that open and close.

    `depth` is the deepest level; every opening token must have its closing one. `plain` tells that
    nothing but space stands around the tokens and the values.
    """

    plain = True

    def __init__(self, positions: Any, opening: Any, closing: Any) -> None:
        import numpy as np

        level = np.cumsum(opening.view(np.int8) - closing.view(np.int8), dtype=np.int32)
        self.depth = int(level.max(initial=0))
        if self.depth < 1 << 15:
            level = level.astype(np.int16)  # sorted by radix
        level -= opening  # a bracket lies on the level of what is around it
        self._positions = positions
        self._order = np.argsort(level, kind="stable").astype(np.int32)
        self._level = level
        self._starts = np.searchsorted(level[self._order], np.arange(self.depth + 3))
        self._number = np.int32  # searched for as another type, a column is copied each time

    def position(self, token: int) -> int:
        return int(self._positions[token])

    def count(self, token: int, data: bytes, sign: int) -> int:
        import numpy as np

        inside = self._positions[token : self._closing(token)]
        return int((np.frombuffer(data, np.uint8)[inside] == sign).sum())

    def two_levels(self, token: int) -> tuple[Any, Any]:
        """Return the offsets of the tokens directly inside an opening one, and directly inside those."""
        level, closing = int(self._level[token]), self._number(self._closing(token))
        found = []
        for deeper in (level + 1, level + 2):
            here = self._order[self._starts[deeper] : self._starts[deeper + 1]]
            first, last = here.searchsorted(self._number(token)), here.searchsorted(closing)
            found.append(self._positions[here[first:last]])
        return found[0], found[1]

    def _closing(self, token: int) -> int:
        level = int(self._level[token])
        here = self._order[self._starts[level] : self._starts[level + 1]]
        return int(here[here.searchsorted(self._number(token)) + 1])

    def inside(self, token: int) -> tuple[list[int], int]:
        level = int(self._level[token])
        below = self._order[self._starts[level + 1] : self._starts[level + 2]]
        closing = self._closing(token)
        first = below.searchsorted(self._number(token))
        last = below.searchsorted(self._number(closing))
        return below[first:last].tolist(), closing
