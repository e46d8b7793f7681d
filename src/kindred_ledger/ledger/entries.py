"""Entry: a tree that was kept, under a version tag. Record: a changeset that was applied. Mark: what was
found out of either later."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, Protocol, TypeVar

from msgspec import Struct, ValidationError, convert, field, to_builtins
from msgspec.structs import asdict, replace

from ..errors import LedgerDamaged, LedgerError
from ..finding import Finding
from ..os_names import as_name
from ..places import Patterns, Place, Tree

__all__ = [
    "BEFORE",
    "CONFIRMED",
    "PROVEN",
    "RETIRED",
    "Entry",
    "Mark",
    "Record",
    "ReleaseTag",
    "Tag",
    "Tagged",
    "not_undone",
]

BEFORE = "before "  # begins the reason of what an operation kept
_FORMAT = 1
_Model = TypeVar("_Model")
_Rooted = TypeVar("_Rooted", "Entry", "Record")


class Tag(Struct, frozen=True):
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


class ReleaseTag(Struct, frozen=True):
    """What tells a release from others of its title and version.

    `date` is ISO 8601, to the day or the second; `digest` is of its tree, in hex; `whole` says that
    all contents were kept, not digests only. Empty is what does not apply.
    """

    channel: str = "stable"
    date: str = ""
    platform: str = ""
    variant: str = ""
    digest: str = ""
    whole: bool = True


class Entry(Struct, frozen=True):
    """What an entry says of itself; its tree is read when asked for (`Ledger.tree`).

    `when` is UTC in ISO 8601; `roots` are the folders the place consisted of, by name; `complete`
    says that the tree is all the place held, not a selection; `reason` is "asked", or the
    operation before which it was kept; `unsettled` are files that changed during every reading and
    are kept as they were read last; `captured` are databases that were in use, each with all that
    was committed; `running` names the programs that ran from the place meanwhile;
    `release` is there if it is a shelved one; `machine` is the name of the machine that kept it.
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
    release: ReleaseTag | None = None
    machine: str = ""

    @property
    def name(self) -> str:
        """Title and version as people type them."""
        return f"{self.tag.title or 'untitled'}@{self.tag.version or 'unknown'}"

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What was unusual when it was made."""
        found = [
            Finding.warning(
                "torn",
                "it changed during every reading and may be torn",
                where=path,
                remedy="Close the game and its launcher, then keep it again.",
            )
            for path in self.unsettled
        ]
        if self.running:
            ran = "; ".join(self.running)
            what = f"kept while this ran: {ran}. What it had not written yet is not in the entry."
            found.append(Finding.warning("kept-while-running", what))
        found += (
            Finding.note(
                "captured", "a database in use, kept with all that was committed", where=path
            )
            for path in self.captured
        )
        return tuple(found)

    def to_json(self) -> dict[str, Any]:
        """Return the header as stored."""
        return {"format": _FORMAT, **to_builtins(self)}

    @staticmethod
    def from_json(header: dict[str, Any]) -> Entry:
        """Read a stored header."""
        return _rooted(_read(header, Entry))


_EMPTY = Tree()


def _no_tree() -> Tree:
    """Return the one empty tree: a history has three for each change."""
    return _EMPTY


class Record(Struct, frozen=True):
    """One applied changeset: which paths it touched, what they were and what they became.

    `before` and `after` hold the touched paths only (and the folders they lie in); a path of
    `paths` that is missing in one of them did not exist there. `entry` is where the content of
    `before` is kept; `undoes` is the record this one took back; `machine` made it; `brings` is the entry
    of another machine that it took in. `other` are the roots of the place it brought files from as they
    are, and `common` what both places held once it was done. `touched` is how many `paths` a stored one has,
    also where they were not read.
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
    machine: str = ""
    brings: str = ""
    other: Mapping[str, str] = field(default_factory=dict)
    common: Tree = field(default_factory=_no_tree)
    touched: int = 0
    paths: tuple[str, ...] = ()
    before: Tree = field(default_factory=_no_tree)
    after: Tree = field(default_factory=_no_tree)
    statements: tuple[Mapping[str, Any], ...] = ()

    def header(self) -> dict[str, Any]:
        """Return what stands in the header: all but paths, trees and statements."""
        kept = {name: value for name, value in asdict(self).items() if name not in _BODY}
        return {"format": _FORMAT, **to_builtins(kept), "touched": len(self.paths) or self.touched}

    @staticmethod
    def from_json(header: dict[str, Any]) -> Record:
        """Read a stored header; the body's fields stay empty."""
        record = _rooted(_read(header, Record))
        other = {name: as_name(root) for name, root in record.other.items()}
        return replace(record, other=other) if other != record.other else record


PROVEN = "proven"  # an entry came back whole in a drill
CONFIRMED = "confirmed"  # a change turned out well: what was kept before it may be retired
LOST = "lost"  # a manifest went that no copy gave back; the subject is its folder and id
RETIRED = "retired"  # entries went, by a policy; the body has their headers


class Mark(Struct, frozen=True):
    """What was found out of an entry or change later: `kind` says what, `subject` is its id."""

    id: str
    when: str
    kind: str
    subject: str
    note: str = ""

    def to_json(self) -> dict[str, Any]:
        """Return the header as stored."""
        return {"format": _FORMAT, **to_builtins(self)}

    @staticmethod
    def from_json(header: dict[str, Any]) -> Mark:
        """Read a stored header."""
        return _read(header, Mark)


_BODY = ("paths", "before", "after", "statements", "common")


def not_undone(records: Iterable[Record]) -> list[Record]:
    """Return the changes that were not taken back, the oldest first, as they are given."""
    undone: set[str] = set()
    found = []
    for record in reversed(list(records)):  # an undo that was undone itself counts for nothing
        if record.undoes and record.id not in undone:
            undone.add(record.undoes)
        found.append(record)
    return [record for record in reversed(found) if record.id not in undone]


def _rooted(found: _Rooted) -> _Rooted:
    """Return an entry or record with its roots as the system has them; see `os_names`."""
    if not any("\0" in root for root in found.roots.values()):
        return found
    return replace(found, roots={name: as_name(root) for name, root in found.roots.items()})


def _read(header: dict[str, Any], model: type[_Model]) -> _Model:
    if header.get("format") != _FORMAT:
        raise LedgerError(
            f"{header.get('id', 'this')} is written in format {header.get('format')}",
            remedy="A newer version of this program wrote it; update, then run this again.",
        )
    try:
        return convert(header, model)
    except ValidationError as error:
        raise LedgerDamaged(f"a header cannot be read: {error}") from error
