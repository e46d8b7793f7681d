"""Entry: a tree that was kept, under a version tag. Record: a changeset that was applied."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, fields
from typing import Any, Protocol, TypeVar

from ..errors import LedgerDamaged, LedgerError
from ..places import Patterns, Place, Tree

__all__ = ["Entry", "Record", "Tag", "Tagged"]

_FORMAT = 1
_Model = TypeVar("_Model")


@dataclass(frozen=True, slots=True)
class Tag:
    """What a place holds: the title, its version and what that was read from.

    `categories` are the card's, by name, so that an entry can be restored by category without it.
    """

    title: str = ""
    version: str = ""
    read_from: str = ""
    categories: Mapping[str, Patterns] = field(default_factory=dict)


class Tagged(Protocol):
    """Something with a place and a tag, such as an install."""

    @property
    def place(self) -> Place: ...

    @property
    def tag(self) -> Tag: ...


@dataclass(frozen=True, slots=True)
class Entry:
    """What an entry says of itself; its tree is read when asked for (`Ledger.tree`).

    `when` is UTC in ISO 8601; `roots` are the folders the place consisted of, by name; `complete`
    says that the tree is all the place held, not a selection; `reason` is "asked", or the
    operation before which it was kept; `unsettled` are files that changed during every reading and
    are kept as they were read last; `captured` are databases that were in use, each with all that
    was committed; `running` names the programs that ran from the place meanwhile.
    """

    id: str
    when: str
    tag: Tag
    roots: Mapping[str, str]
    files: int
    size_bytes: int
    complete: bool = True
    reason: str = "asked"
    note: str = ""
    pinned: bool = False
    unsettled: tuple[str, ...] = ()
    captured: tuple[str, ...] = ()
    running: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        """Title and version as people type them."""
        return f"{self.tag.title or 'untitled'}@{self.tag.version or 'unknown'}"

    def to_json(self) -> dict[str, Any]:
        """Return the header as stored."""
        return {"format": _FORMAT, **asdict(self)}

    @staticmethod
    def from_json(header: dict[str, Any]) -> Entry:
        """Read a stored header."""
        values = _known(Entry, header)
        values["tag"] = _tag(values.get("tag", {}))
        for name in ("unsettled", "captured", "running"):
            values[name] = tuple(values.get(name, ()))
        return _made(Entry, values)


@dataclass(frozen=True, slots=True)
class Record:
    """One applied changeset: which paths it touched, what they were and what they became.

    `before` and `after` hold the touched paths only (and the folders they lie in); a path of
    `paths` that is missing in one of them did not exist there. `entry` is where the content of
    `before` is kept; `undoes` is the record this one took back.
    """

    id: str
    when: str
    operation: str
    summary: str
    tag: Tag
    roots: Mapping[str, str]
    entry: str
    version_after: str = ""
    undoes: str = ""
    paths: tuple[str, ...] = ()
    before: Tree = field(default_factory=Tree)
    after: Tree = field(default_factory=Tree)
    statements: tuple[Mapping[str, Any], ...] = ()

    def header(self) -> dict[str, Any]:
        """Return what stands in the header: all but paths, trees and statements."""
        kept = {f.name: getattr(self, f.name) for f in fields(self) if f.name not in _BODY}
        return {"format": _FORMAT, **kept, "tag": asdict(self.tag), "touched": len(self.paths)}

    @staticmethod
    def from_json(header: dict[str, Any]) -> Record:
        """Read a stored header; the body's fields stay empty."""
        values = _known(Record, header)
        values["tag"] = _tag(values.get("tag", {}))
        return _made(Record, values)


_BODY = ("paths", "before", "after", "statements")


def _known(model: type, header: dict[str, Any]) -> dict[str, Any]:
    if header.get("format") != _FORMAT:
        raise LedgerError(
            f"{header.get('id', 'this')} is written in format {header.get('format')}",
            remedy="A newer version of this program wrote it; update, then run this again.",
        )
    names = {f.name for f in fields(model)}
    return {name: value for name, value in header.items() if name in names}


def _tag(values: dict[str, Any]) -> Tag:
    categories = {
        name: Patterns(tuple(patterns["include"]), tuple(patterns["exclude"]))
        for name, patterns in values.get("categories", {}).items()
    }
    return Tag(**{**values, "categories": categories})


def _made(model: type[_Model], values: dict[str, Any]) -> _Model:
    try:
        return model(**values)
    except TypeError as error:
        raise LedgerDamaged(f"a header cannot be read: {error}") from error
