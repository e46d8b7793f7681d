"""What tells the format version of a file: its version key, the layout that fits, signs of the card.

All that says something must say the same. What disagrees is a question, with what each said.
"""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from typing import Any, Protocol

from msgspec import Struct

from ..errors import FormatError, KindredError, VersionUntold
from ..formats import Document, Path, parse_path
from ..versions import Scheme, Version
from .models import FormatTable, VersionSign

__all__ = ["Told", "agreed", "told_by"]


class Versioned(Protocol):
    """What is needed of a format to tell the versions of its files."""

    @property
    def tables(self) -> dict[str, dict[str, Any]]: ...
    @property
    def table(self) -> FormatTable: ...
    @property
    def scheme(self) -> Scheme: ...
    @property
    def layout(self) -> Any: ...
    @property
    def version_path(self) -> Path: ...
    @property
    def version_key(self) -> str: ...
    @property
    def versions(self) -> frozenset[Version]: ...
    def is_named(self, name: str, pattern: str) -> bool: ...


class Told(Struct, frozen=True):
    """Something that tells a file's format version: in words, and the version."""

    what: str
    version: Version


def told_by(format: Versioned, document: Document, name: str) -> tuple[Told, ...]:
    """Return all that tells the version of a file, in the order it counts.

    Raises:
        FormatError: its key holds what is no version, or none the card knows.
    """
    return (
        *_by_key(format, document),
        *_by_layout(format, document),
        *_by_signs(format, document, name),
    )


def agreed(told: tuple[Told, ...]) -> Version | None:
    """Return the version that all evidence tells; None if there is none.

    Raises:
        VersionUntold: it disagrees.
    """
    versions = {each.version for each in told}
    if len(versions) > 1:
        what = "; ".join(f"{each.what}, which means {each.version}" for each in told)
        raise VersionUntold(
            f"what tells its format version disagrees: {what}",
            remedy="Say it with `source=N`, or put right what the card says of `version`.",
        )
    return versions.pop() if versions else None


def _by_key(format: Versioned, document: Document) -> Iterator[Told]:
    if not format.version_path or not document.find(format.version_path):
        return
    key = format.version_key
    text = str(document.get(format.version_path)).strip()
    if format.table.version.values:
        yield Told(f"{key} = {text}", _meant(format, text))
        return
    try:
        version = format.scheme.parse(text)
    except KindredError as error:
        raise FormatError(f"{key} is {text!r}, which is no format version") from error
    if version not in format.versions:
        known = ", ".join(sorted(each.text for each in format.versions))
        raise FormatError(
            f"{key} is {text}, a format version the card does not know",
            remedy=f"It knows {known}. The file may be damaged, or of a newer build.",
        )
    yield Told(f"{key} = {text}", version)


def _meant(format: Versioned, text: str) -> Version:
    """Return the version that a value of the key means."""
    values = format.table.version.values
    if text not in values:
        known = ", ".join(map(repr, values))
        raise FormatError(
            f"{format.version_key} is {text!r}, which the card gives no version",
            remedy=f"It knows {known}. The file may be damaged, or of a newer build.",
        )
    return format.scheme.parse(values[text])


def _by_layout(format: Versioned, document: Document) -> Iterator[Told]:
    layout = format.layout
    if layout is not None and layout.is_told_by_fit and len(_fits(document)) == 1:
        version = format.scheme.parse(str(_fits(document)[0]))
        yield Told(f"it can be read in no other version of the layout {layout.name}", version)


def _by_signs(format: Versioned, document: Document, name: str) -> Iterator[Told]:
    for text, sign in format.table.version.signs.items():
        version = format.scheme.parse(text)
        read: Any = document
        if format.layout is not None and format.layout.is_told_by_fit:
            as_said = int(text) if text.isdigit() else -1
            read = read.in_version(as_said) if as_said in _fits(document) else document
        if _is_as(format, sign, read, name):
            yield Told(in_words(sign), version)


def _fits(document: Any) -> tuple[int, ...]:
    return tuple(document.fits)


def _is_as(format: Versioned, sign: VersionSign, document: Document, name: str) -> bool:
    """Tell whether a file is as a sign says; where an expression cannot be evaluated, it is not."""
    *folders, last = name.replace("\\", "/").split("/")
    if sign.name and not (last and format.is_named(last, sign.name)):
        return False
    if sign.folder and not _lies_in(format, folders, sign.folder.strip("/")):
        return False
    found = document.find(parse_path(sign.has)) if sign.has else []
    if sign.has and not found:
        return False
    if sign.kind and not all(_is_a(sign.kind, document.get(path)) for path in found):
        return False
    if sign.lacks and document.find(parse_path(sign.lacks)):
        return False
    if not sign.holds:
        return True
    from ..formats.expressions import Expression, scope_of

    try:
        return Expression.parse(sign.holds, format.tables)(scope_of(document)) is True
    except FormatError:
        return False


def _lies_in(format: Versioned, folders: list[str], pattern: str) -> bool:
    """Tell whether some of the folders, one in another, are called as a pattern says."""
    many = pattern.count("/") + 1
    runs = ("/".join(folders[at : at + many]) for at in range(len(folders) - many + 1))
    return any(format.is_named(run, pattern) for run in runs)


def _is_a(kind: str, value: Any) -> bool:
    """Tell whether a value is of a kind, one of `KINDS_OF_VALUES`."""
    if isinstance(value, bool) or kind == "truth":
        return isinstance(value, bool) and kind == "truth"
    kinds: dict[str, Any] = {
        "text": str,
        "number": (int, Decimal, float),
        "list": list,
        "mapping": dict,
    }
    return isinstance(value, kinds[kind])


def in_words(sign: VersionSign) -> str:
    """Return what a sign says, as it is told of a file."""
    told = []
    if sign.has:
        told.append(f"there is {sign.has}{f', a {sign.kind}' if sign.kind else ''}")
    if sign.lacks:
        told.append(f"there is no {sign.lacks}")
    if sign.holds:
        told.append(f"{sign.holds} holds")
    if sign.name:
        told.append(f"it is called like {sign.name}")
    if sign.folder:
        told.append(f"it lies in {sign.folder}")
    return " and ".join(told)
