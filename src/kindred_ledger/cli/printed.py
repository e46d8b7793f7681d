"""What the objects that `--json` prints are made of: the parts that commands have in common; see `shapes`."""

from __future__ import annotations

from typing import Any

from msgspec import UNSET, Struct, UnsetType, field

from ..finding import Finding
from ..ledger import LeftOut
from ..statement import Line

__all__ = [
    "Amount",
    "Arrival",
    "Books",
    "Change",
    "Computed",
    "Cost",
    "Deleted",
    "Differing",
    "Does",
    "DumpedField",
    "EditOut",
    "Edits",
    "Entry",
    "Evidence",
    "FieldDifference",
    "FileRoute",
    "FitOut",
    "Folder",
    "Health",
    "Here",
    "Hop",
    "Identified",
    "InCategory",
    "IndexedRelease",
    "Installed",
    "ListedChange",
    "Made",
    "Mark",
    "Match",
    "ModOut",
    "Node",
    "Part",
    "Plan",
    "Proof",
    "Recovered",
    "ReleaseOut",
    "ReleaseTag",
    "Report",
    "SampleOut",
    "Step",
    "Tabled",
    "Tag",
    "UseOut",
    "Verdict",
]


class Tag(Struct, kw_only=True, forbid_unknown_fields=True):
    """What a place holds; `categories` are the card's, by name, with their patterns."""

    title: str
    version: str
    read_from: str
    categories: dict[str, Any]
    disposable: list[str]
    id_lists: dict[str, str]  # packed, in base64


class ReleaseTag(Struct, kw_only=True, forbid_unknown_fields=True):
    """What tells a release from others of its version."""

    channel: str
    date: str
    platform: str
    variant: str
    digest: str
    whole: bool


class Entry(Struct, kw_only=True, forbid_unknown_fields=True):
    """A backup. `when` is UTC in ISO 8601; `roots` are the folders of its place, by part."""

    format: int
    id: str
    when: str
    tag: Tag
    roots: dict[str, str]
    files: int
    size_bytes: int
    complete: bool
    reason: str
    note: str
    pinned: bool
    unsettled: list[str]
    captured: list[str]
    running: list[str]
    release: ReleaseTag | None
    machine: str
    left_out: LeftOut | None


class Change(Struct, kw_only=True, forbid_unknown_fields=True):
    """A change of the history."""

    format: int
    id: str
    when: str
    operation: str
    summary: str
    tag: Tag
    roots: dict[str, str]
    entry: str
    version_after: str
    machine: str
    group: str
    relations: list[dict[str, Any]]
    touched: int


class ListedChange(Change, kw_only=True, forbid_unknown_fields=True):
    """A change in the list of all: `confirmed` says whether somebody said that it turned out well."""

    confirmed: bool


class Books(Struct, kw_only=True, forbid_unknown_fields=True):
    """An account: totals by outcome; `before` and `after` as counted, null before the change is made."""

    subject: str
    unit: str
    totals: dict[str, int]
    before: int | None
    after: int | None
    lines: list[Line] | UnsetType = UNSET


class Computed(Struct, kw_only=True, forbid_unknown_fields=True):
    """A change that is computed and not made: books of the place, of what arrives, of fields."""

    operation: str
    summary: str
    place: str
    place_books: Books
    books: list[Books]
    findings: list[Finding]


class Made(Struct, kw_only=True, forbid_unknown_fields=True):
    """A change that was made; `entry` is where what was there before is stored."""

    id: str
    entry: str
    books: list[Books]
    findings: list[Finding]


class Folder(Struct, kw_only=True, forbid_unknown_fields=True):
    """A folder that no category of the card lists."""

    folder: str
    files: int
    size_bytes: int


class Amount(Struct, kw_only=True, forbid_unknown_fields=True):
    """So many files of so many bytes."""

    files: int
    size_bytes: int


class InCategory(Amount, kw_only=True, forbid_unknown_fields=True):
    """What a category holds."""

    category: str


class Mark(Struct, kw_only=True, forbid_unknown_fields=True):
    """What somebody said of an entry or a change."""

    id: str
    when: str
    kind: str
    subject: str
    note: str


class Evidence(Struct, kw_only=True, forbid_unknown_fields=True):
    """What tells a version, and what it tells; `finding` says why it tells nothing."""

    source: str
    version: str | None
    finding: Finding | None


class Installed(Struct, kw_only=True, forbid_unknown_fields=True):
    """An install. `axes` are its versions by axis; `by_content` says what it is by the shelf."""

    title: str
    version: str | None
    place: str
    evidence: list[Evidence]
    belongings: list[InCategory]
    uncategorised: list[Folder]
    axes: dict[str, str]
    by_content: str
    findings: list[Finding]


class ReleaseOut(ReleaseTag, kw_only=True, forbid_unknown_fields=True):
    """A release on the shelf."""

    id: str
    name: str
    title: str
    version: str
    files: int
    size_bytes: int


class Part(Struct, kw_only=True, forbid_unknown_fields=True):
    """A file of a release in an index."""

    file: str
    size_bytes: int
    digest: str
    files: list[str]
    optional: bool


class IndexedRelease(Struct, kw_only=True, forbid_unknown_fields=True):
    """A release in an index."""

    version: str
    date: str
    channel: str
    platform: str
    variant: str
    notes: str
    parts: list[Part]


class Arrival(Struct, kw_only=True, forbid_unknown_fields=True):
    """A part that is downloaded by hand: `have_bytes` of it are there."""

    part: Part
    state: str
    path: str
    have_bytes: int


class FieldDifference(Struct, kw_only=True, forbid_unknown_fields=True):
    """A field that differs; null is none."""

    field: str
    before: str | None
    after: str | None


class Differing(Struct, kw_only=True, forbid_unknown_fields=True):
    """A file that differs."""

    path: str
    status: str
    category: str | None
    fields: list[FieldDifference] | UnsetType = UNSET


class Proof(Struct, kw_only=True, forbid_unknown_fields=True):
    """What the conversion of a file there and back is worth."""

    file: str
    converts: bool
    why: str
    source: str | UnsetType = field(default=UNSET, name="from")
    target: str | UnsetType = field(default=UNSET, name="to")
    comes_back: bool = False
    same_bytes: bool = False
    unrecovered: list[FieldDifference] = []


class Does(Struct, kw_only=True, forbid_unknown_fields=True):
    """One thing a hop does."""

    text: str
    loses: bool


class Hop(Struct, kw_only=True, forbid_unknown_fields=True):
    """From one format version to the next; `by_layout` needs no step."""

    source: str = field(name="from")
    target: str = field(name="to")
    loses: bool
    by_layout: bool
    does: list[Does]


class FileRoute(Struct, kw_only=True, forbid_unknown_fields=True):
    """The route of some files of a folder; `source` None: it cannot be told, which `no_route` says."""

    title: str
    format: str
    hops: list[Hop]
    source: str | None = field(name="from")
    target: str = field(name="to")
    files: list[str]
    no_route: str


class Match(Struct, kw_only=True, forbid_unknown_fields=True):
    """A format of a card that a file fits; `writes` and `reads` are ranges of builds."""

    title: str
    format: str
    version: str
    writes: list[str]
    reads: list[str]
    evidence: list[str]
    finding: Finding | None


class Identified(Struct, kw_only=True, forbid_unknown_fields=True):
    """What a file is."""

    name: str
    size_bytes: int
    kind: str
    evidence: str
    matches: list[Match]
    findings: list[Finding]


class DumpedField(Struct, kw_only=True, forbid_unknown_fields=True):
    """A field of a binary file: `raw` in hex; an `offset` below 0 is none, an `inner` one is in a block."""

    depth: int
    offset: int
    inner: bool
    raw: str
    name: str
    value: str
    remark: str


class Cost(Struct, kw_only=True, forbid_unknown_fields=True):
    """What damage costs an entry."""

    entry: str
    name: str
    whole: bool
    paths: list[str]


class Health(Struct, kw_only=True, forbid_unknown_fields=True):
    """What was found when the ledger was checked."""

    packs: int
    packs_total: int
    size_bytes: int
    entries: int
    changes: int
    findings: list[Finding]
    costs: list[Cost]


class Node(Struct, kw_only=True, forbid_unknown_fields=True):
    """A path of an entry; `blake3` is of a file's content, in hex."""

    path: str
    kind: str
    size_bytes: int
    blake3: str | None


class Step(Struct, kw_only=True, forbid_unknown_fields=True):
    """Something worth doing next."""

    command: str
    why: str


class Here(Struct, kw_only=True, forbid_unknown_fields=True):
    """An install in the overview."""

    title: str
    version: str | None
    place: str
    last_entry: str | None
    findings: list[Finding]


class Verdict(Struct, kw_only=True, forbid_unknown_fields=True):
    """What a file or folder is to a patch set."""

    bases: list[str]
    outputs: list[str]
    near: str
    share: float
    differing: list[str]


class Report(Struct, kw_only=True, forbid_unknown_fields=True):
    """What the check of a card found."""

    findings: list[Finding]
    formats: int
    samples: int
    conversions: int


class SampleOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A sample of a layout."""

    name: str
    size_bytes: int
    version: int | None


class Plan(Struct, kw_only=True, forbid_unknown_fields=True):
    """What would be deleted of the ledger."""

    policy: str
    books: Books
    unused_packs: list[str]
    sparse_packs: list[str]
    size_bytes: int


class Deleted(Struct, kw_only=True, forbid_unknown_fields=True):
    """What was deleted of the ledger."""

    books: Books
    deleted_packs: int
    written_packs: int
    size_bytes: int
    waiting_packs: int


class Recovered(Struct, kw_only=True, forbid_unknown_fields=True):
    """What became of a change that was cut off."""

    id: str
    places: list[str]
    outcome: str
    reason: str


class EditOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """One edit: the file, what was done, where in it, and the value before and after as text."""

    file: str
    what: str
    where: str
    before: str
    after: str


class Edits(Struct, kw_only=True, forbid_unknown_fields=True):
    """An edit set: what it is of, the release it was made on, who made it, and every edit."""

    title: str
    base: str
    version: str
    by: str
    note: str
    size: int
    files: list[str]
    edits: list[EditOut]


class Tabled(Struct, kw_only=True, forbid_unknown_fields=True):
    """A table of a file: its name, how many rows it has, and its columns."""

    name: str
    rows: int
    columns: list[str]


class ModOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A mod: where it lies, what it says of itself, and the files that it is made of."""

    path: str
    kind: str
    id: str
    name: str
    version: str
    builds: str | None
    needs: list[str]
    packed: bool
    descriptor: str
    fault: str


class FitOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """Whether a mod fits the build: keep, update, disable or unknown, and why."""

    path: str
    id: str
    verdict: str
    why: str
    release: str
    is_on: bool


class UseOut(Struct, kw_only=True, forbid_unknown_fields=True):
    """A file that uses a library: its project, how often, and the first places."""

    project: str
    file: str
    count: int
    places: list[str]
