"""Entry: a tree that was kept, under a version tag. Mark: what was found out of it, or of a change, later."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any, Protocol, TypeVar

from msgspec import Struct, ValidationError, convert, field, to_builtins
from msgspec.structs import replace

from ..errors import LedgerDamaged, LedgerError
from ..finding import Finding
from ..notebook import html_table
from ..os_names import as_name
from ..places import Patterns, Place
from ..wording import count
from ..wording import size as bytes_as_text

__all__ = [
    "BEFORE",
    "CONFIRMED",
    "PROVEN",
    "RETIRED",
    "Entry",
    "Mark",
    "ReleaseTag",
    "Tag",
    "Tagged",
    "iso",
    "read_header",
    "with_roots",
]

BEFORE = "before "  # begins the reason of what an operation kept
_FORMAT = 1
_Model = TypeVar("_Model")
_Rooted = TypeVar("_Rooted", bound="HasRoots")


class Tag(Struct, frozen=True):
    """What a place holds: the title, its version and what that was read from.

    `categories` are the card's, by name, so that an entry can be restored by category without it;
    `disposable` are those of them whose files a title makes again, such as logs. `id_lists` are those of the
    build, which say what the numbers in its worlds mean, as `IdList.packed` gives them, by `WORLDS.LIST`.

    >>> tag = kl.Tag(title="charts", version="3")
    >>> ledger.backup("server", tag=tag).tag.version
    '3'
    """

    title: str = ""
    version: str = ""
    read_from: str = ""
    categories: Mapping[str, Patterns] = field(default_factory=dict)
    disposable: tuple[str, ...] = ()
    id_lists: Mapping[str, bytes] = field(default_factory=dict)

    def disposes(self, path: str) -> bool:
        """Tell whether a path is of a disposable category, and of no other."""
        names = {name for name in self.disposable if self.categories[name](path)}
        return bool(names) and not any(
            patterns(path)
            for name, patterns in self.categories.items()
            if name not in self.disposable
        )


class LeftOut(Struct, frozen=True):
    """The disposable files that an entry does not hold: their categories, how many, and how large."""

    categories: tuple[str, ...]
    files: int
    size_bytes: int


class Tagged(Protocol):
    """Something with a place and a tag, such as an install.

    >>> def title(thing: kl.Tagged) -> str:
    ...     return thing.tag.title
    ...
    >>> title(install)
    'mossferry'
    """

    @property
    def place(self) -> Place: ...

    @property
    def tag(self) -> Tag: ...


class HasRoots(Protocol):
    """A header that names the folders of a place."""

    @property
    def roots(self) -> Mapping[str, str]: ...


class ReleaseTag(Struct, frozen=True):
    """What tells a release from others of its title and version.

    `date` is ISO 8601, to the day or the second; `digest` is of its tree, in hex; `whole` says that
    all contents were kept, not digests only. Empty is what does not apply.

    >>> label = kl.ReleaseTag(channel="preview", platform="linux")
    >>> kl.shelve("downloads/mossferry-2.0.zip", card, ledger=ledger, label=label).release.label.channel
    'preview'
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
    says that the tree is all the place held, not a selection, apart from what was `left_out`;
    `reason` is "asked", or the operation before which it was kept; `unsettled` are files that changed
    during every reading and
    are kept as they were read last; `captured` are databases that were in use, each with all that
    was committed; `running` names the programs that ran from the place meanwhile;
    `release` is there if it is a shelved one; `machine` is the name of the machine that kept it.

    >>> entry = ledger.backup(install, note="before 2.0")
    >>> entry.tag.title, entry.tag.version, entry.note, entry.files
    ('mossferry', '1.4', 'before 2.0', 206)
    >>> ledger.entry("mossferry@1.4").id == entry.id
    True
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
    left_out: LeftOut | None = None

    def __repr__(self) -> str:
        return f"<Entry {self.id} {self.name}, {self.files:,} files>"

    def _repr_html_(self) -> str:
        shown = {
            "entry": self.id, "what": self.name, "when": self.when, "files": f"{self.files:,}",
            "bytes": f"{self.size_bytes:,}", "note": self.note, "why": self.reason,
        }  # fmt: skip
        return html_table(tuple(shown), [tuple(shown.values())])

    @property
    def name(self) -> str:
        """Title and version as people type them."""
        return f"{self.tag.title or 'untitled'}@{self.tag.version or 'unknown'}"

    def lacks(self, path: str) -> bool:
        """Tell whether a path, had it been there, was left out as disposable."""
        return self.left_out is not None and self.tag.disposes(path)

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
        if self.left_out is not None:
            left = self.left_out
            size = f"{count(left.files, 'file')}, {bytes_as_text(left.size_bytes)}"
            what = f"left out as disposable: {', '.join(left.categories)} ({size})"
            found.append(Finding.note("disposable-left-out", what))
        return tuple(found)

    def to_json(self) -> dict[str, Any]:
        """Return the header as stored."""
        return {"format": _FORMAT, **to_builtins(self)}

    @staticmethod
    def from_json(header: dict[str, Any]) -> Entry:
        """Read a stored header."""
        return with_roots(read_header(header, Entry))


PROVEN = "proven"  # an entry came back whole in a drill
CONFIRMED = "confirmed"  # a change turned out well: what was kept before it may be retired
LOST = "lost"  # a manifest went that no copy gave back; the subject is its folder and id
RETIRED = "retired"  # entries went, by a policy; the body has their headers


class Mark(Struct, frozen=True):
    """What was found out of an entry or change later: `kind` says what, `subject` is its id.

    >>> entry = ledger.backup(install)
    >>> kl.drill(entry, ledger=ledger).mark.subject == entry.id
    True
    """

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
        return read_header(header, Mark)


def with_roots(found: _Rooted) -> _Rooted:
    """Return an entry or record with its roots as the system has them; see `os_names`."""
    if not any("\0" in root for root in found.roots.values()):
        return found
    roots = {name: as_name(root) for name, root in found.roots.items()}
    return replace(found, roots=roots)  # type: ignore[type-var]


def read_header(header: dict[str, Any], model: type[_Model], *, format: int = _FORMAT) -> _Model:
    """Return what a stored header says.

    Raises:
        LedgerError: it is of a newer format.
        LedgerDamaged: it is no such header.
    """
    if header.get("format") != format:
        raise LedgerError(
            f"{header.get('id', 'this')} is written in format {header.get('format')}",
            remedy="A newer version of this program wrote it; update, then run this again.",
        )
    try:
        return convert(header, model)
    except ValidationError as error:
        raise LedgerDamaged(f"a header cannot be read: {error}") from error


def iso(now: float) -> str:
    """Return a time as UTC in ISO 8601, to the second."""
    return datetime.fromtimestamp(now, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
