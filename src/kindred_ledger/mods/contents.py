"""What is in a mod, held against its descriptor and the card: parts, sources, numbers, the picture."""

from __future__ import annotations

import re
from collections.abc import Iterator
from decimal import Decimal
from functools import partial
from typing import Any

from ..cards.models import NumberTable, PictureTable
from ..cards.mods import Gathered, Mod, text_at
from ..errors import FormatError, KindredError
from ..formats import ANY, Path, decode, format_path, likely_kinds, parse_path, values_at
from ..places import FILE, Place, archive_in, folded, read_bytes
from ..planning.rearranged import Rearranged
from ..versions import Version
from ..wording import count
from .faults import Fault, error, mended, note, renaming, warning
from .pictures import HEAD, picture_size

__all__ = ["content_faults", "set_number"]

_TEXT_ONLY = ("ini", "xml", "csv", "text")  # in which a number is text by right
_INTEGER = re.compile(r"\s*-?\d{1,18}\s*")


def content_faults(
    each: Gathered, mod: Mod, place: Place, build: Version | None
) -> Iterator[Fault]:
    """Yield what is wrong with what is in a mod whose descriptor can be read."""
    yield from _parts(each, mod)
    yield from _wanted(each)
    for number in each.kind.table.numbers:
        yield from _number(each, mod, number, build)
    if each.kind.table.picture is not None:
        yield from _picture(each, mod, place, each.kind.table.picture)


def _parts(each: Gathered, mod: Mod) -> Iterator[Fault]:
    """Yield the files that the descriptor names and that are not there."""
    top = each.wrapper
    named = [
        str(value)
        for key in each.kind.table.parts
        for value in values_at(mod.values, parse_path(key))
        if isinstance(value, str) and value.strip()
    ]
    if not named:
        return
    exact = {top + _as_path(name) for name in named}
    for name in dict.fromkeys(named):
        wanted = top + _as_path(name)
        if name.startswith(("/", "\\")) or ":" in name or ".." in wanted.split("/"):
            told = f"its descriptor names {name!r}, which leads out of the mod"
            yield error("part-outside", told, each.path, remedy="Name files of the mod only.")
            continue
        if wanted in each.files:
            continue
        told = f"its descriptor names {name}, which is not there"
        fold = folded(wanted)
        alike = [path for path in each.files if path not in exact and folded(path) == fold]
        if len(alike) == 1 and not each.packed:
            told += f"; there is {alike[0]}"
            fault = error("part-missing", told, each.path)
            mend = renaming(each.at(alike[0]), each.at(wanted), "named as the descriptor does")
            yield mended(fault, f"name {alike[0]} as the descriptor does", mend)
        else:
            yield error("part-missing", told, each.path, remedy="Get the mod again, whole.")


def _as_path(name: str) -> str:
    return name.strip().replace("\\", "/").removeprefix("./").rstrip("/")


def _wanted(each: Gathered) -> Iterator[Fault]:
    """Yield that there are sources where what is built from them is wanted, or the reverse."""
    kind = each.kind
    if not kind.table.wants:
        return
    files = [path for path, node in each.files.items() if node.kind == FILE]
    built = [path for path in files if kind.built is not None and kind.built(path)]
    sources = [path for path in files if kind.sources is not None and kind.sources(path)]
    if kind.table.wants == "built" and sources and not built:
        told = f"it holds {count(len(sources), 'source file')}, such as {sources[0]}, and nothing"
        told += " that was built from them"
        yield error("not-built", told, each.path, remedy="Build it, or get it as it is released.")
    elif kind.table.wants == "sources" and built:
        told = f"it holds {count(len(built), 'file')} that building made, such as {built[0]}"
        told += "" if sources else ", and no sources"
        fault = warning if sources else error
        remedy = "Take them out." if sources else "Put its sources there instead."
        yield fault("built-output", told, each.path, remedy=remedy)


# Numbers


def _number(
    each: Gathered, mod: Mod, number: NumberTable, build: Version | None
) -> Iterator[Fault]:
    path = parse_path(number.key)
    found = list(values_at(mod.values, path))
    wanted = each.kind.values_of(number, build) if build is not None else None
    if not found:
        yield from _elsewhere(each, mod, number, path, wanted)
        return
    value = found[0]
    if isinstance(value, str) and _INTEGER.fullmatch(value) and not _is_text_only(each, mod):
        fault = error(
            "number-type", f"its {number.key} is the text {value!r}, and a number is wanted",
            each.path, field=number.key,
        )  # fmt: skip
        yield _set(each, mod, path, fault, int(value), "make it a number")
        return
    exact = _as_int(value)
    if exact is None:
        told = f"its {number.key} is {value!r}, and a whole number is wanted"
        yield error("number-type", told, each.path, field=number.key, remedy="Put it right.")
    elif wanted and exact not in wanted:
        told = f"its {number.key} is {exact}, and {build} takes {' or '.join(map(str, wanted))}"
        fault = error(
            "number-range", told, each.path, field=number.key,
            remedy="" if number.label else "Convert it, or get a release of it for this build.",
        )  # fmt: skip
        if number.label:
            yield _set(each, mod, path, fault, wanted[0], f"set it to {wanted[0]}")
        else:
            yield fault


def _elsewhere(
    each: Gathered, mod: Mod, number: NumberTable, path: Path, wanted: list[int] | None
) -> Iterator[Fault]:
    """Yield that a number is not where it is looked for, and where it is instead."""
    others = [at for at, value in _named(mod.values, path[-1], ()) if _as_int(value) is not None]
    if len(others) == 1 and ANY not in path and not each.packed:
        there = format_path(others[0])
        told = f"its {path[-1]} stands at {there}, and is looked for at {number.key}"
        fault = error("number-misplaced", told, each.path, field=there)
        mend = partial(
            _edit, path=each.at(each.descriptor), codec=_codec(each), at=others[0], to=path
        )
        yield mended(fault, f"move it to {number.key}", mend)
    elif number.required:
        told = f"it has no {number.key}"
        fault = error("number-missing", told, each.path, field=number.key, remedy="Add it.")
        if number.label and wanted:
            yield _set(each, mod, path, fault, wanted[0], f"set it to {wanted[0]}")
        else:
            yield fault


def _named(values: Any, name: Any, at: Path) -> Iterator[tuple[Path, Any]]:
    """Yield every value of a key, wherever it stands."""
    if not isinstance(values, (dict, list)):
        return
    for key, value in values.items() if isinstance(values, dict) else enumerate(values):
        if key == name and isinstance(values, dict):
            yield (*at, key), value
        yield from _named(value, name, (*at, key))


def _as_int(value: Any) -> int | None:
    if isinstance(value, bool):
        return None
    if isinstance(value, int):
        return value
    if isinstance(value, Decimal) and value == value.to_integral_value():
        return int(value)
    return int(value) if isinstance(value, str) and _INTEGER.fullmatch(value) else None


def _codec(each: Gathered) -> str:
    return each.kind.table.codec


def _is_text_only(each: Gathered, mod: Mod) -> bool:
    codec = _codec(each) or next(iter(likely_kinds(mod.descriptor, b"")), "")
    return codec in _TEXT_ONLY


def _set(each: Gathered, mod: Mod, at: Path, fault: Fault, value: int, fix: str) -> Fault:
    """Return a fault with what sets a number in the descriptor."""
    if each.packed or ANY in at:
        return fault
    path = each.at(each.descriptor)
    return mended(fault, fix, partial(_edit, path=path, codec=_codec(each), at=at, value=value))


def _edit(
    made: Rearranged, *, path: str, codec: str, at: Path, to: Path = (), value: int = 0
) -> None:
    """Set a number in a file, or move it, and leave all else as it is."""
    data = read_bytes(made, path)
    kinds = [codec] if codec else likely_kinds(path.rpartition("/")[2], data)
    for kind in kinds:
        try:
            document = decode(data, kind)
        except FormatError:
            continue
        if to:
            document.move(at, to)
        else:
            document.set(at, value)
        made.put(path, document.encode(), "its numbers were put right")
        return


def set_number(made: Rearranged, path: str, codec: str, key: str, value: int) -> None:
    """Have a number of a descriptor be another one, and all else of the file stay as it is."""
    _edit(made, path=path, codec=codec, at=parse_path(key), value=value)


# The picture


def _picture(each: Gathered, mod: Mod, place: Place, table: PictureTable) -> Iterator[Fault]:
    name = table.file or text_at(mod.values, table.key)
    path = each.wrapper + _as_path(name)
    if not name or path not in each.files:
        if table.required or (name and table.key):
            told = f"its picture {name} is not there" if name else "it names no picture"
            yield warning("picture-missing", told, each.path, field=name, remedy="Add one.")
        return
    try:
        inside = archive_in(place, each.path) if each.packed else place
        data = read_bytes(inside, path if each.packed else each.at(path))
    except KindredError as odd:
        yield warning("picture-unread", f"its picture cannot be read: {odd.what}", each.path)
        return
    if table.size_bytes and len(data) > table.size_bytes:
        told = f"its picture has {len(data):,} bytes, and at most {table.size_bytes:,} are taken"
        yield warning("picture-large", told, each.path, field=name, remedy="Make it smaller.")
    sides = picture_size(data[:HEAD])
    if sides is None:
        told = "the size of its picture is not told by what is in it"
        yield note("picture-unread", told, each.path, field=name)
    elif table.square and sides[0] != sides[1]:
        told = f"its picture is {sides[0]} x {sides[1]} pixels, and a square is wanted"
        yield warning("picture-not-square", told, each.path, field=name, remedy="Cut it square.")
    elif table.pixels and max(sides) > table.pixels:
        told = (
            f"its picture is {sides[0]} x {sides[1]} pixels, and at most {table.pixels} are taken"
        )
        yield warning("picture-large", told, each.path, field=name, remedy="Make it smaller.")
