"""Layouts made up at random: fields of all kinds, in each other, that refer to those before them."""

from __future__ import annotations

import random

__all__ = ["Grammar"]

_FIXED = ("u8", "u16", "u24", "u32", "i16")
_LEAVES = (
    "u8", "u16", "i8", "u32", "varint", "uuid", "fixed u16 over 100", "time u32 seconds", "time u16 days",
    "colour bgra", "enum u8 { x = 0, y = 1 }", "flags u8 { lit = 0 }", "f32", "text zero",
)  # fmt: skip
_PLACES = ("", "times 2", "from here", "from end", "or 9", "align 4")
_PARTS = ("u8", "bytes to end", "{ x u8, y bytes to end }")


class Grammar:
    """Writes layouts; every name is another."""

    def __init__(self, rng: random.Random) -> None:
        self._rng = rng
        self._count = 0

    def layout(self) -> str:
        """Return the text of a layout."""
        return f"layout t\n{self._rng.choice(('little', 'big'))} endian\n{self._fields((), 0)}"

    def _name(self) -> str:
        self._count += 1
        return f"f{self._count}"

    def _fields(self, known: tuple[str, ...], depth: int) -> str:
        """Return some fields; `known` are the numbers before them."""
        rng = self._rng
        lines: list[str] = []
        mine: list[str] = []
        for _ in range(rng.randrange(1, 6)):
            name, kind = self._name(), self._kind(known, depth)
            if known and rng.random() < 0.1:
                kind = f"at {rng.choice(known)} {rng.choice(_PLACES)} {kind}"
            elif rng.random() < 0.1:
                table = self._name()
                lines.append(f"{table} table {self._size(known)} {{ o u16, s u16, w u16 }}")
                kind = f"each {table} at o size s {rng.choice(_PLACES)} {rng.choice(_PARTS)}"
            elif kind in ("u16", "u32") and mine and rng.random() < 0.4:
                kind = f"{kind} = {rng.choice(('size', 'count'))} of {rng.choice(mine)}"
            elif known and rng.random() < 0.1:
                kind = f"{kind} if ({rng.choice(known)} > 1)"
            elif kind in _FIXED:
                known = (*known, name)
            lines.append(f"{name} {kind}")
            mine.append(name)
        if rng.random() < 0.3:
            method = rng.choice(("crc32", "sum8", "fnv1a-32", "md5"))
            lines.append(f"{self._name()} {method} of start to here")
        return "\n".join(lines)

    def _size(self, known: tuple[str, ...]) -> str:
        sizes = ["to end", "u8", "u16", "varint", str(self._rng.randrange(4))]
        if known:
            sizes += [
                self._rng.choice(known),
                f"({self._rng.choice(known)} * {self._rng.choice(known)})",
            ]
        return self._rng.choice(sizes)

    def _kind(self, known: tuple[str, ...], depth: int) -> str:
        rng, size = self._rng, self._size(known)
        kinds = [*_LEAVES, f"text {size}", f"bytes {size}", f"packed {size} of {rng.randrange(1, 20)} bits",
                 f"runs {size} of {rng.choice(('u8', 'u16'))} i16", f"table {size} u16"]  # fmt: skip
        if depth < 2 and rng.random() < 0.4:
            inner = self._fields(known, depth + 1)
            how = rng.choice(("", "zlib", "xor 7", "lz4"))
            kinds = [f"{{ {inner} }}", f"table {size} {{ {inner} }}", f"optional u8 {{ {inner} }}",
                     f"block {size} {how} {{ {inner} }}"]  # fmt: skip
            if known:
                kinds.append(f"choice {rng.choice(known)} {{ 1 u8, 2 {{ {inner} }}, else u16 }}")
        return rng.choice(kinds)
