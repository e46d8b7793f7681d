"""Reading a card and naming every fault of it at once: file, line, table, key, what was expected."""

from __future__ import annotations

import os
import re
import tomllib
import types
from collections.abc import Iterator
from typing import Any, Union, get_args, get_origin, get_type_hints

import msgspec

from ..errors import CardError, KindredError, UsageError
from ..finding import Finding
from ..formats import FOLDER, LAYOUT, codec_names, load_layout, parse_path
from ..places import Patterns
from ..small_files import read_small
from ..suggestions import hint
from ..versions import VersionRange, scheme
from .detect import compile_template
from .helper_models import helper_faults
from .models import KINDS_OF_VALUES, AgreeTable, CardFile, DetectTable, FormatTable
from .runbook_models import runbook_faults
from .symptom_models import symptom_faults
from .updates import update_faults

__all__ = ["read_card"]

_FORMAT = 1
_LARGEST = 4 << 20
_KEY = tuple[str | int, ...]


def read_card(path: str | os.PathLike[str]) -> CardFile:
    """Read and check a card file.

    Raises:
        CardError: with every fault found.
    """
    where = os.fspath(path)
    try:
        data = read_small(where, most=_LARGEST)
    except OSError as error:
        raise CardError(f"the card cannot be read: {error.strerror}", where=where) from error
    try:
        text = data.decode("utf-8-sig")
        values = tomllib.loads(text)
    except (UnicodeDecodeError, tomllib.TOMLDecodeError, RecursionError) as error:
        raise CardError(f"the card is no valid TOML: {error}", where=where) from error
    faults = list(_shape_faults(values, CardFile, ()))
    if not faults:
        card = msgspec.convert(values, CardFile)
        faults = list(_meaning_faults(card, os.path.dirname(where)))
        if not faults:
            return card
    found = tuple(
        Finding.error("card", fault, field=f"{_line_of(text, key)}{_show(key)}")
        for key, fault in faults
    )
    count = f"{len(found)} faults" if len(found) > 1 else "a fault"
    raise CardError(f"the card has {count}", where=where, findings=found)


def _shape_faults(value: Any, kind: Any, key: _KEY) -> Iterator[tuple[_KEY, str]]:
    """Yield every unknown, missing or wrongly typed key below `key`."""
    origin = get_origin(kind)
    if origin in (Union, types.UnionType):
        kind = next(arg for arg in get_args(kind) if arg is not type(None))
        origin = get_origin(kind)
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        if not isinstance(value, dict):
            yield key, f"expected a table, found {_found(value)}"
            return
        yield from _table_faults(value, kind, key)
    elif origin is list:
        if not isinstance(value, list):
            yield key, f"expected a list, found {_found(value)}"
            return
        for at, item in enumerate(value):
            yield from _shape_faults(item, get_args(kind)[0], (*key, at))
    elif origin is dict:
        if not isinstance(value, dict):
            yield key, f"expected a table, found {_found(value)}"
            return
        for name, item in value.items():
            yield from _shape_faults(item, get_args(kind)[1], (*key, name))
    elif kind is not Any and type(value) is not kind:
        yield key, f"expected {_NAMES[kind]}, found {_found(value)}"


def _table_faults(
    value: dict[str, Any], kind: type[msgspec.Struct], key: _KEY
) -> Iterator[tuple[_KEY, str]]:
    hints = get_type_hints(kind)
    known = {field.encode_name: field for field in msgspec.structs.fields(kind)}
    for name, item in value.items():
        if name in known:
            yield from _shape_faults(item, hints[known[name].name], (*key, name))
        else:
            yield (*key, name), _unknown(name, known)
    for name, field in known.items():
        if field.required and name not in value:
            yield (*key, name), "this key is missing"


def _meaning_faults(card: CardFile, folder: str) -> Iterator[tuple[_KEY, str]]:
    """Yield what contradicts itself in a card whose shape is right."""
    if card.card != _FORMAT:
        yield (
            ("card",),
            f"cards of format {_FORMAT} are read, this is {card.card}; update this program",
        )
    if not re.fullmatch(r"[a-z0-9][a-z0-9._-]*", card.title):
        yield ("title",), "expected small letters, digits, dots and dashes, as people type it"
    builds = None
    try:
        builds = scheme(card.versions.scheme, card.versions.order)
    except KindredError as error:
        yield ("versions",), error.what
    if not card.program.markers:
        yield ("program", "markers"), "at least one file must tell that an install is of this title"
    if card.variant is not None:
        if card.variant.of == card.title:
            yield ("variant", "of"), "a title is no variant of itself"
        for name, versions in card.variant.reads.items():
            if not versions:
                yield ("variant", "reads", name), "expected the format versions it reads"
    ways: list[tuple[_KEY, list[DetectTable]]] = [((), card.detect)]
    ways += [(("axes", name), axis.detect) for name, axis in card.axes.items()]
    ways += [(("requires", at), need.detect) for at, need in enumerate(card.requires)]
    for key, tables in ways:
        for at, detect in enumerate(tables):
            for fault in _detect_faults(detect):
                yield (*key, "detect", at), fault
    for name, text in card.versions.names.items():
        try:
            if builds is not None:
                builds.parse(text)
        except KindredError as error:
            yield ("versions", "names", name), error.what
    yield from update_faults(card, builds)
    if card.mods or card.projects:
        from .mods import mods_faults, projects_faults  # loaded by cards that have some

        yield from mods_faults(card, builds)
        yield from projects_faults(card)
    if card.worlds:
        from .worlds import worlds_faults  # loaded by cards that have some

        yield from worlds_faults(card)
    if card.transplants:
        from .transplants import transplants_faults  # loaded by cards that have some

        yield from transplants_faults(card, builds)
    yield from helper_faults(card.helpers, builds)
    yield from runbook_faults(card.runbooks, builds)
    yield from symptom_faults(card.symptoms, builds)
    for name, category in card.categories.items():
        try:
            Patterns(tuple(category.include), tuple(category.exclude)).check()
        except KindredError as error:
            yield ("categories", name), error.what
        for at, row in enumerate(category.by_build):
            try:
                VersionRange.parse(row.builds, builds)
                Patterns(tuple(row.include), tuple(row.exclude)).check()
            except KindredError as error:
                yield ("categories", name, "by_build", at), error.what
        if category.disposable and (category.protect or category.required):
            yield ("categories", name), "what is disposable is neither protected nor required"
    for name, location in card.locations.items():
        try:
            VersionRange.parse(location.builds, builds)
        except KindredError as error:
            yield ("locations", name, "builds"), error.what
    for name, table in card.tables.items():
        if not isinstance(table, (dict, list)):
            yield ("tables", name), "expected a table of old = new, or a list"
    for name, table in card.formats.items():
        for key, fault in _format_faults(table, builds, folder, card.tables):
            yield ("formats", name, *key), fault


def _detect_faults(detect: DetectTable) -> Iterator[str]:
    if bool(detect.file) == bool(detect.folder):
        yield "expected either `file` or `folder`"
        return
    for template in filter(None, (detect.folder, detect.pattern)):
        try:
            compile_template(template)
        except KindredError as error:
            yield error.what
    if detect.folder:
        return
    ways = [detect.pattern, detect.key, detect.offset >= 0, detect.digests]
    if sum(map(bool, ways)) != 1:
        yield "expected one of `pattern`, `key`, `offset` or `digests` with `file`"
    elif detect.key and detect.codec not in codec_names():
        yield f"`key` needs a `codec`, one of {', '.join(codec_names())}" + hint(
            detect.codec, codec_names()
        )
    elif detect.offset >= 0 and not 0 < detect.length <= 100:
        yield "`offset` needs a `length` of 1 to 100 bytes"


def _format_faults(
    table: FormatTable, builds: Any, folder: str, tables: dict[str, Any]
) -> Iterator[tuple[_KEY, str]]:
    told_by_layout = keyless = False
    if bool(table.layout) != (table.codec == LAYOUT):
        yield ("layout",), f"`layout` names the file of a layout, for the codec {LAYOUT!r}"
    elif table.layout:
        try:
            layout = load_layout(os.path.join(folder, table.layout))
            told_by_layout = layout.version_path is not None or layout.is_told_by_fit
            keyless = layout.is_told_by_fit
        except KindredError as error:
            yield ("layout",), f"{error.where}: {error.what}"
    elif table.codec not in (*codec_names(), FOLDER):
        yield (
            ("codec",),
            f"there is no codec {table.codec!r}"
            + hint(table.codec, [*codec_names(), FOLDER, LAYOUT]),
        )
    versions = scheme("integer")
    try:
        versions = scheme(table.scheme)
        if not (table.version.key or table.version.signs or told_by_layout):
            raise UsageError("a version needs a key, or signs")
        for path in (
            table.version.key,
            *(p for s in table.version.signs.values() for p in (s.has, s.lacks)),
        ):
            if path:
                parse_path(path)
        if keyless and (table.version.key or table.version.default):
            raise UsageError(
                "the layout names no field that tells the version: what fits tells it, and signs"
            )
        if table.version.values and (not (table.version.key or told_by_layout) or keyless):
            raise UsageError("`values` are those of a key, and there is none")
        for text, version in table.version.values.items():
            if not text.strip() or text != text.strip():
                raise UsageError(f"{text!r} is no value of a key: spaces around it are not read")
            versions.parse(version)
        for version, sign in table.version.signs.items():
            versions.parse(version)
            if not (sign.has or sign.lacks or sign.holds or sign.name or sign.folder):
                raise UsageError(f"the sign of {version} says nothing")
            if sign.kind and (sign.kind not in KINDS_OF_VALUES or not sign.has):
                known = ", ".join(KINDS_OF_VALUES)
                raise UsageError(f"`kind` of a sign is one of {known}, of the value at `has`")
            if sign.holds:
                from ..formats.expressions import Expression

                Expression.parse(sign.holds, tables)
    except KindredError as error:
        yield ("version",), error.what
    for at, row in enumerate(table.builds):
        try:
            VersionRange.parse(row.builds, builds)
            for text in (row.writes, *row.reads):
                versions.parse(text)
        except KindredError as error:
            yield ("builds", at), error.what
        if row.writes not in row.reads:
            yield ("builds", at), "these builds cannot read what they write"
    for version, groups in table.required.items():
        for group in groups:
            try:
                versions.parse(version)
                parse_path(group)
            except KindredError as error:
                yield ("required", version), error.what
    for pattern, named in table.keys.items():
        try:
            parse_path(pattern)
            parse_path(named)
        except KindredError as error:
            yield ("keys", pattern), error.what
    for at, each in enumerate(table.agree):
        for fault in _agree_faults(each):
            yield ("agree", at), fault
    if table.steps:
        from .steps import row_faults  # loaded by cards that have some
    for at, step in enumerate(table.steps):
        for number, action in enumerate(step.do):
            for fault in row_faults(action, tables):
                yield ("steps", at, "do", number), fault


def _agree_faults(table: AgreeTable) -> Iterator[str]:
    alone, among = (table.value, table.equals), (table.each, table.among)
    if all(alone) == all(among) or (any(alone) and any(among)):
        yield "expected either `value` and `equals`, or `each` and `among`"
        return
    try:
        for path in filter(None, (table.value, *among)):
            parse_path(path)
        if table.equals:
            from ..formats.expressions import Expression

            Expression.parse(table.equals)
    except KindredError as error:
        yield error.what


_NAMES = {str: "text in quotes", int: "a whole number", bool: "true or false"}


def _found(value: Any) -> str:
    names = {dict: "a table", list: "a list", float: "a number with a point"}
    return f"{names.get(type(value), _NAMES.get(type(value), type(value).__name__))} ({str(value)[:40]})"


def _unknown(name: str, known: Any) -> str:
    return "unknown key" + (hint(name, known) or f"; expected one of {', '.join(known)}")


def _show(key: _KEY) -> str:
    out = ""
    for part in key:
        out += f"[{part + 1}]" if isinstance(part, int) else f".{part}" if out else part
    return out


def _line_of(text: str, key: _KEY) -> str:
    """Return "line N: " for the deepest part of a key that can be found, counting tables."""
    names = [part for part in key if isinstance(part, str)]
    lines = text.splitlines()
    for depth in range(len(names), 0, -1):
        header = re.compile(
            r"\s*\[\[?\s*" + r"\s*\.\s*".join(map(re.escape, names[:depth])) + r"\s*\]"
        )
        number = next((part for part in key[depth:] if isinstance(part, int)), 0)
        at = [n for n, line in enumerate(lines) if header.match(line)]
        if not at:
            continue
        start = at[min(number, len(at) - 1)]
        return f"line {_assignment(lines, start + 1, names[depth:]) or start + 1}: "
    found = _assignment(lines, 0, names)
    return f"line {found}: " if found else ""


def _assignment(lines: list[str], start: int, names: list[str]) -> int:
    if not names:
        return 0
    wanted = re.compile(rf"\s*[{{]?\s*{re.escape(names[0])}\b")
    for number, line in enumerate(lines[start:], start + 1):
        if re.match(r"\s*\[", line) and start:
            return 0
        if wanted.match(line):
            return number
    return 0
