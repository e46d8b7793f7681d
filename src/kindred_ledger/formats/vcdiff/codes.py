"""Instruction codes: what each byte of the instruction section means (RFC 3284, sections 5.4 to 5.6).

A code stands for one or two instructions, each with its size (0: it follows in the section) and, for
a copy, the mode of its address. There is a default table; an application may define its own.
"""

from __future__ import annotations

from typing import NamedTuple

from ...errors import FormatError

__all__ = ["ADD", "COPY", "DEFAULT", "NEAR", "NOOP", "RUN", "SAME", "CodeTable", "Half"]

NOOP, ADD, RUN, COPY = range(4)
NEAR, SAME = 4, 3  # sizes of the address caches of the default table (section 5.6)
_CODES = 256


class Half(NamedTuple):
    """One instruction of a code."""

    kind: int
    size: int = 0
    mode: int = 0


class CodeTable(NamedTuple):
    """What each of the 256 codes means, and how large the address caches are."""

    codes: tuple[
        tuple[Half, ...], ...
    ]  # of one or two halves each; none for a code that does nothing
    near: int = NEAR
    same: int = SAME

    def text(self) -> bytes:
        """Return the table as the string of 1,536 bytes that a difference of tables is made of.

        It has the 256 kinds of the first halves, then those of the second, then their sizes and
        their modes (section 7).
        """
        pairs = [(*code, Half(NOOP), Half(NOOP))[:2] for code in self.codes]
        return bytes(
            getattr(pair[at], field) for field in Half._fields for at in (0, 1) for pair in pairs
        )

    @staticmethod
    def read(text: bytes, near: int, same: int) -> CodeTable:
        """Read a table from its string; the reverse of `text`.

        Raises:
            FormatError: it has instructions or modes that there are not.
        """
        if len(text) != 6 * _CODES:
            raise FormatError(f"a code table has {6 * _CODES:,} bytes, this has {len(text):,}")
        columns = [text[at : at + _CODES] for at in range(0, len(text), _CODES)]
        codes = []
        for number, (one, two, size, size_two, mode, mode_two) in enumerate(
            zip(*columns, strict=True)
        ):
            halves = (Half(one, size, mode), Half(two, size_two, mode_two))
            for half in halves:
                if half.kind > COPY or (half.kind == COPY and half.mode >= 2 + near + same):
                    raise FormatError(f"the code table's code {number} is no instruction: {half}")
            codes.append(tuple(half for half in halves if half.kind != NOOP))
        return CodeTable(tuple(codes), near, same)


def _default() -> CodeTable:
    """Return the default code table (section 5.6)."""
    codes: list[tuple[Half, ...]] = [(Half(RUN),)]
    codes += [(Half(ADD, size),) for size in range(18)]
    for mode in range(9):
        codes += [(Half(COPY, size, mode),) for size in (0, *range(4, 19))]
    for mode in range(9):
        longest = 6 if mode < 6 else 4
        codes += [
            (Half(ADD, added), Half(COPY, size, mode))
            for added in range(1, 5)
            for size in range(4, longest + 1)
        ]
    codes += [(Half(COPY, 4, mode), Half(ADD, 1)) for mode in range(9)]
    return CodeTable(tuple(codes))


DEFAULT = _default()
