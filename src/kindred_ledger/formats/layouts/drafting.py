"""Drafting a layout from samples: a first guess, which a person then names and corrects.

All samples are read side by side from the front. What is proposed for a place held in every one of
them: a constant, a text with its length, a compressed block, a table whose rows look alike, a
directory of parts, a number; and at the end a checksum. Of the many ways to cut the bytes the one is
taken that explains most with the fewest fields (a search that keeps the best few ways at each step).
What the samples do not tell is left to `rest bytes to end`. The draft reads and writes all samples.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence

from msgspec import Struct

from ...errors import FormatError, UsageError
from .checks import DIGESTS, digest
from .document import LayoutDocument
from .draft_directories import TABLE, directories
from .layout import Layout
from .positions import likely_positions
from .squeeze import expand

__all__ = ["draft_layout"]

_MOST_FIELDS = 60
_WIDTHS = (("u8", 1), ("u16", 2), ("u32", 4))
_BLOCKS = (("zlib", b"\x78"), ("gzip", b"\x1f\x8b"), ("zstd", b"\x28\xb5\x2f\xfd"))
_MOST_EXPANDED = 16 << 20
_WIDEST_ROW = 64
_MOST_SLOWLY = 1 << 20  # bytes that checksums are tried on which take a step of Python a byte
_FEWEST_WITH_ODD = 3  # samples, of which one may not fit
_LOOKED_AT = 64  # rows
_FEW_ROWS = 8
_ALIKE = 0.8  # of the bytes of rows
_BEAM = 40
_DIRECTORY = 3.0  # what a byte of a directory, or of its parts, counts
_EACH = 0.6  # what a field costs, in bytes of each sample: fewer fields are likelier

Found = tuple[str, list[int], str]  # kind, bytes it takes in each sample, what speaks for it


class _Path(Struct, frozen=True):
    """Guesses one after another (kind and reason), and how much they explain."""

    score: float
    at: tuple[int, ...]
    guesses: tuple[tuple[str, str], ...]


def draft_layout(
    samples: Sequence[bytes], name: str = "drafted", *, names: Sequence[str] = ()
) -> str:
    """Return the text of a first layout for samples of one format version, which differ.

    Where one of several has nothing in common with the others, the draft is of those, and names it; `names`
    are those of the samples.

    Raises:
        UsageError: there are fewer than two samples, or they are all the same.
    """
    if len({bytes(sample) for sample in samples}) < 2:
        raise UsageError(
            "a draft needs at least two samples that differ",
            remedy="Save twice in the game, with one thing changed in between that you know.",
        )
    odd = _odd_one(samples)
    kept = [sample for at, sample in enumerate(samples) if at != odd]
    _, text = max(_draft(kept, name, big=big) for big in (True, False))
    layout = Layout.parse(text)
    for sample in kept:
        if LayoutDocument(sample, layout).encode() != sample:
            raise FormatError("no draft describes all samples", where="the samples")
    text = _with_places(text, [LayoutDocument(sample, layout) for sample in kept])
    if odd is None:
        return text
    which = names[odd] if odd < len(names) else f"sample {odd + 1}"
    return f"# {which} does not fit the others, and was left out: is it damaged?\n{text}"


def _odd_one(samples: Sequence[bytes]) -> int | None:
    """Return the only sample that does not begin, or end, as all others do; None if there is none."""
    if len(samples) < _FEWEST_WITH_ODD or _alike(samples) == (True, True):
        return None
    found = [
        at
        for at in range(len(samples))
        if _alike(samples) < _alike([*samples[:at], *samples[at + 1 :]])
    ]
    return found[0] if len(found) == 1 else None


def _alike(samples: Sequence[bytes]) -> tuple[bool, bool]:
    """Tell whether samples end in a checksum of all before, and whether they begin with one name."""
    ends = any(_checksum(samples, big=big) is not None for big in (True, False))
    return ends, any(True for _ in _magic(list(samples), big=False))


def _with_places(text: str, documents: Sequence[LayoutDocument]) -> str:
    """Return a draft with what numbers tell of others: where they begin, or how large they are."""
    likely = likely_positions(documents)
    lines = []
    for line in text.split("\n"):
        told = likely.get((line.partition(" ")[0],))
        lines.append(
            f"{line}; likely {' or '.join(sorted(told))}" if told and "#" in line else line
        )
    return "\n".join(lines)


def _draft(samples: Sequence[bytes], name: str, *, big: bool) -> tuple[tuple[bool, float], str]:
    """Return how much a draft explains, and its text; a checksum tells the order of bytes best."""
    check = _checksum(samples, big=big)
    ends = [len(sample) - (check[1] if check else 0) for sample in samples]
    best = _search(samples, ends, big=big)
    lines = [
        (f"field{n}", kind.replace(TABLE, f"field{n - 1}"), why)
        for n, (kind, why) in enumerate(best.guesses, 1)
    ]
    score = check is not None and check[1] > 1, best.score
    if any(a < e for a, e in zip(best.at, ends, strict=True)):
        told = "what the samples do not tell"
        lines.append(("rest", "bytes to end", told))
    if check:
        lines.append(("check", f"{check[0]} of start to here", "sure: it fits in all samples"))
    width = min(max((len(kind) for _, kind, _ in lines), default=0), 40)
    text = [f"layout {name}", f"{'big' if big else 'little'} endian", ""]
    text += [f"{label:<9} {kind:<{width}}  # {why}" for label, kind, why in lines]
    return score, "\n".join(text) + "\n"


def _search(samples: Sequence[bytes], ends: list[int], *, big: bool) -> _Path:
    """Return the guesses that explain most."""
    best = _Path(0.0, (0,) * len(samples), ())
    beam = [best]
    for step in range(_MOST_FIELDS):
        further: dict[tuple[int, ...], _Path] = {}
        for path in beam:
            rest = [s[a:e] for s, a, e in zip(samples, path.at, ends, strict=True)]
            if not all(rest):
                continue
            for weight, (kind, sizes, why) in _guesses(rest, big, first=step == 0):
                at = tuple(a + size for a, size in zip(path.at, sizes, strict=True))
                score = path.score + weight * sum(sizes) - _EACH * len(samples)
                old = further.get(at)
                if old is None or score > old.score:
                    further[at] = _Path(score, at, (*path.guesses, (kind, why)))
            for guesses, sizes in directories(samples, path.at, ends, big=big):
                score = path.score + _DIRECTORY * sum(sizes)
                further[tuple(ends)] = _Path(score, tuple(ends), (*path.guesses, *guesses))
        beam = sorted(further.values(), key=lambda path: -path.score)[:_BEAM]
        if not beam:
            break
        best = max(best, beam[0], key=lambda path: path.score)
    return best


def _guesses(rest: list[bytes], big: bool, *, first: bool) -> Iterator[tuple[float, Found]]:
    """Yield what may come next, each with what a byte of it counts."""
    for weight, look, sureness in (
        (3.0, _magic if first else None, "sure"),
        (1.5, _blocks, "sure"),
        (1.2, _texts, "likely"),
        (1.0, _tables, "likely"),
        (0.5, _numbers, "a guess"),
    ):
        for kind, sizes, why in look(rest, big) if look is not None else ():
            yield weight, (kind, sizes, f"{sureness}: {why}")


def _magic(rest: list[bytes], big: bool) -> Iterator[Found]:
    """A name at the very beginning, the same in all."""
    length = 0
    for column in zip(*(data[:16] for data in rest), strict=False):
        if len(set(column)) > 1 or not chr(column[0]).isalnum():
            break
        length += 1
    if length >= 3:
        kind = f'bytes {length} = "{rest[0][:length].decode("latin-1")}"'
        yield kind, [length] * len(rest), "all begin with it"


def _blocks(rest: list[bytes], big: bool) -> Iterator[Found]:
    """A length, and a block that unpacks."""
    for form, width in (("u32", 4), ("u16", 2)):
        for method, mark in _BLOCKS:
            sizes = []
            for data in rest:
                size = _prefix(data, width, big) or 0
                body = data[width : width + size]
                if not size or len(body) != size or not body.startswith(mark):
                    break
                try:
                    expand(method, body, most=_MOST_EXPANDED)
                except FormatError:
                    break
                sizes.append(width + size)
            else:
                kind = f"block {form} {method} {{ rest bytes to end }}"
                yield kind, sizes, "a length, and a block that unpacks"


def _texts(rest: list[bytes], big: bool) -> Iterator[Found]:
    """A length, and as many printable letters; in one sample at least three."""
    for form, width in reversed(_WIDTHS):
        sizes, shown = [], ""
        for data in rest:
            size = _prefix(data, width, big)
            body = data[width : width + (size or 0)]
            if size is None or size > 4096 or len(body) != size or not _is_text(body):
                break
            sizes.append(width + size)
            shown = max(shown, body.decode(), key=len)
        else:
            if len(shown) >= 3:
                yield f"text {form}", sizes, f'a length and its letters, as "{shown[:24]}"'


def _tables(rest: list[bytes], big: bool) -> Iterator[Found]:
    """A count, and so many rows that look alike byte by byte; by the row's width."""
    for form, width in (("u16", 2), ("u32", 4)):
        counts = [_prefix(data, width, big) or 0 for data in rest]
        if not all(1 <= count <= 1 << 20 for count in counts) or max(counts) < 3:
            continue
        if len(set(counts)) == 1 and counts[0] < _FEW_ROWS:  # a version number, more likely
            continue
        longest = max(range(len(rest)), key=lambda n: counts[n])
        best, score = 0, 0.0
        for step in range(4, _WIDEST_ROW + 1):
            if any(width + c * step > len(d) for c, d in zip(counts, rest, strict=True)):
                break
            alike = _alikeness(rest[longest][width:], counts[longest], step)
            if alike > score + 0.02:
                best, score = step, alike
        if score >= _ALIKE:
            rows = [
                data[width + n * best : width + (n + 1) * best]
                for data, count in zip(rest, counts, strict=True)
                for n in range(min(count, _LOOKED_AT))
            ]
            columns = ", ".join(_columns(rows, best, big))
            sizes = [width + count * best for count in counts]
            yield (
                f"table {form} {{ {columns} }}",
                sizes,
                f"a count, and rows of {best} bytes, alike",
            )


def _numbers(rest: list[bytes], big: bool) -> Iterator[Found]:
    """Numbers whose upper bytes are zero in all samples; a single byte always."""
    for form, width in _WIDTHS:
        if any(len(data) < width for data in rest):
            continue
        values = [_prefix(data, width, big) or 0 for data in rest]
        if width == 1 or max(values) < 1 << (width * 4 + 4):
            shown = ", ".join(str(value) for value in sorted(set(values))[:4])
            yield form, [width] * len(rest), f"a number: {shown}"


# ---- rows ------------------------------------------------------------------------------------


def _alikeness(data: bytes, count: int, step: int) -> float:
    """Return how much rows agree in which bytes are zero, letters or other: 0 to 1."""
    rows = [data[n * step : (n + 1) * step] for n in range(min(count, _LOOKED_AT))]
    if len(set(rows)) < 2:
        return 0.0
    agree = 0.0
    for column in zip(*rows, strict=True):
        kinds = [0 if byte == 0 else 1 if 32 <= byte < 127 else 2 for byte in column]
        agree += max(kinds.count(kind) for kind in (0, 1, 2)) / len(kinds)
    return agree / step


def _columns(rows: list[bytes], width: int, big: bool) -> list[str]:
    """Cut a row into texts filled up with zeros, and numbers."""
    out: list[str] = []
    at = 0
    while at < width:
        size = _text_width([row[at:] for row in rows])
        kind = f"text {size}" if size else ""
        if not size:
            size = next(s for s in (4, 2, 1) if at + s <= width)
            while size > 1 and any(
                _text_width([row[at + n :] for row in rows]) for n in range(1, size)
            ):
                size //= 2
            kind = "f32" if size == 4 and _are_floats(rows, at, big) else f"u{size * 8}"
        out.append(f"c{len(out) + 1} {kind}")
        at += size
    return out


def _are_floats(rows: list[bytes], at: int, big: bool) -> bool:
    form = ">f" if big else "<f"
    values = [struct.unpack(form, row[at : at + 4])[0] for row in rows]
    return any(values) and all(value == 0 or 1e-3 < abs(value) < 1e7 for value in values)


def _text_width(parts: list[bytes]) -> int:
    """Return the width of a text filled up with zeros at the front of all parts, 0 if there is none."""
    longest = 0
    for part in parts:
        text = part.split(b"\0", 1)[0]
        if len(text) < 2 or not _is_text(text):
            return 0
        longest = max(longest, len(text))
    width = longest
    while width < len(parts[0]) and all(part[width] == 0 for part in parts):
        width += 1
    if width == longest or any(
        part[len(part.split(b"\0", 1)[0]) : width].strip(b"\0") for part in parts
    ):
        return 0
    # Zeros behind it may be the upper bytes of a number: texts are as wide as people choose.
    usual = [size for size in (8, 12, 16, 20, 24, 32, 40, 48, 64) if longest <= size <= width]
    return usual[-1] if usual else width


def _is_text(body: bytes) -> bool:
    try:
        return all(sign.isprintable() or sign in "\n\t" for sign in body.decode())
    except UnicodeDecodeError:
        return False


def _prefix(data: bytes, width: int, big: bool) -> int | None:
    if len(data) < width:
        return None
    return int.from_bytes(data[:width], "big" if big else "little")


def _checksum(samples: Sequence[bytes], *, big: bool) -> tuple[str, int] | None:
    """Return the checksum that stands at the end of all samples, and its size."""
    for name, size in sorted(
        DIGESTS.items(), key=lambda item: -item[1]
    ):  # a short one fits by chance
        if name.startswith("fnv") and len(samples[0]) > _MOST_SLOWLY:
            continue
        try:
            if all(
                len(sample) > size and digest(name, sample[:-size], big=big) == sample[-size:]
                for sample in samples
            ):
                return name, size
        except UsageError:  # of a package that is not installed
            continue
    return None
