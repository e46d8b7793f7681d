"""The shapes of what `--json` prints: one for each command. docs/json-schema.json is made from them.

Every object has `command` and `status`; an error has `error` in place of the rest. Keys that are not
always there have a default here. What is not named here is not printed: a test holds that.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, get_type_hints

import msgspec
from msgspec import UNSET, Struct, UnsetType, field

from ..finding import Finding
from ..ledger import LeftOut
from ..statement import Line

__all__ = ["SHAPES", "schema"]


class Printed(Struct, kw_only=True, forbid_unknown_fields=True):
    """What every command prints: its name, its exit status, an error if there was one."""

    command: str
    status: int


class Error(Struct, kw_only=True, forbid_unknown_fields=True):
    """What went wrong: `kind` is the name of the exception in Python."""

    what: str
    where: str
    remedy: str
    kind: str
    findings: list[Finding]


class Failed(Printed, kw_only=True, forbid_unknown_fields=True):
    """What any command prints that could not do its work."""

    error: Error


class Tag(Struct, kw_only=True, forbid_unknown_fields=True):
    """What a place holds; `categories` are the card's, by name, with their patterns."""

    title: str
    version: str
    read_from: str
    categories: dict[str, Any]
    disposable: list[str]


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


class Changing(Printed, kw_only=True, forbid_unknown_fields=True):
    """What commands print that change a place; `running` are programs that are in the way."""

    change: Computed
    applied: Made | UnsetType | None = UNSET
    dry_run: bool = False
    running: list[str] = []


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


def _shape(name: str, fields: Mapping[str, Any]) -> type[Struct]:
    """Return the shape of a command; a field is its type, or its type and default."""
    made = [
        (key, *value) if isinstance(value, tuple) else (key, value) for key, value in fields.items()
    ]
    title = "".join(word.capitalize() for word in name.split()) or "Overview"
    return msgspec.defstruct(
        title, made, bases=(Printed,), kw_only=True, forbid_unknown_fields=True
    )


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


_FIELDS: dict[str, dict[str, Any]] = {
    "": {
        "ledger": str, "installs": list[Here], "entries": int, "newest": Entry | None,
        "last_change": Change | None, "unfinished": int, "next": list[Step],
    },
    "backup": {"entry": Entry, "uncategorised": list[Folder]},
    "card check": {"card": str, "report": Report},
    "card layout check": {"layout": str, "samples": list[SampleOut], "findings": list[Finding]},
    "card layout draft": {"layout": str},
    "card new": {"card": str, "written": str},
    "card route": {"title": str, "format": str, "hops": list[Hop], "no_route": (str, ""),
        "routes": (list[FileRoute], []),
    },
    "compare": {"same": int, "differences": list[Differing]},
    "edits combine": {"out": str | None, "edits": Edits, "findings": list[Finding]},
    "edits drop": {"out": str, "dropped": int, "edits": Edits},
    "edits show": {"edits": Edits, "findings": list[Finding]},
    "edits take": {"out": str, "edits": Edits, "findings": list[Finding]},
    "entries": {"entries": list[Entry], "damaged": list[str]},
    "file dump": {"layout": str, "version": int, "fields": list[DumpedField]},
    "file identify": {"files": list[Identified]},
    "file patch identify": {"verdict": Verdict, "looks_like": str},
    "file patch make": {"written": str, "size_bytes": int, "changes": int, "deltas": int},
    "history": {"changes": list[ListedChange], "damaged": list[str]},
    "ledger confirm": {"change": Change, "mark": Mark | None, "findings": list[Finding]},
    "ledger drill": {
        "entry": Entry, "findings": list[Finding], "mark": Mark | None, "proven": int, "entries": int,
        "oldest": Entry | None,
    },
    "ledger export": {"entry": str, "out": str, "files": int, "left_out": list[str]},
    "ledger heal": {"before": Health, "after": Health, "mended": list[str]},
    "ledger import": {"entry": Entry},
    "ledger mirror": {
        "packs": int, "entries": int, "changes": int, "marks": int, "size_bytes": int,
        "not_copied": list[str],
    },
    "ledger passphrase": {"ledger": str, "done": str},
    "ledger retire": {
        "plan": Plan, "done": (Deleted | UnsetType, UNSET), "dry_run": (bool, False),
    },
    "recover": {"recovered": list[Recovered], "left_overs": (list[str] | UnsetType, UNSET)},
    "ledger verify": get_type_hints(Health),
    "scan": {"installs": list[Installed]},
    "shelf add": {"release": ReleaseOut, "findings": list[Finding]},
    "shelf fetch": {
        "release": (ReleaseOut | UnsetType, UNSET), "findings": (list[Finding] | UnsetType, UNSET),
        "fetched": (list[str] | UnsetType, UNSET), "arrivals": (list[Arrival] | UnsetType, UNSET),
        "chosen": str, "reasons": list[str],
    },
    "shelf list": {
        "title": (str | UnsetType, UNSET), "releases": (list[ReleaseOut] | UnsetType, UNSET),
        "indexed": (list[IndexedRelease] | UnsetType, UNSET),
    },
    "shelf remove": {"removed": ReleaseOut},
    "show": {
        "entry": Entry, "proven": list[str], "categories": dict[str, Amount], "tree": list[Node],
    },
    "sync watch": {"event": str, "entry": str | None, "taken_back_by": str | None},
}  # fmt: skip


class FileTable(Printed, kw_only=True, forbid_unknown_fields=True):
    """What `file table` prints: the tables and where one was written, or with `--from` a change."""

    tables: list[Tabled] | UnsetType = UNSET
    written: str | UnsetType | None = UNSET
    findings: list[Finding] | UnsetType = UNSET
    change: Computed | UnsetType = UNSET
    applied: Made | UnsetType | None = UNSET
    dry_run: bool = False
    running: list[str] = []


class Convert(Printed, kw_only=True, forbid_unknown_fields=True):
    """What `convert` prints: a change, or with `--prove` what each conversion is worth."""

    change: Computed | UnsetType = UNSET
    applied: Made | UnsetType | None = UNSET
    dry_run: bool = False
    running: list[str] = []
    proofs: list[Proof] | UnsetType = UNSET


SHAPES: dict[str, type[Struct]] = {
    **{name: _shape(name, fields) for name, fields in _FIELDS.items()},
    "convert": Convert,
    "file table": FileTable,
    **dict.fromkeys(
        ("carry", "edits put", "file patch apply", "file rescue", "reapply", "redo", "restore",
         "shelf assemble", "switch", "sync meet", "undo", "update"),
        Changing,
    ),
}  # fmt: skip


def schema() -> dict[str, Any]:
    """Return the JSON Schema (draft 2020-12) of every command, by its name; `error` is that of a failure."""
    kinds = [*dict.fromkeys(SHAPES.values()), Failed]
    refs, parts = msgspec.json.schema_components(kinds, ref_template="#/$defs/{name}")
    for part in parts.values():
        if "description" in part:  # without the example in Python
            part["description"] = part["description"].partition("\n\n>>>")[0]
    by_kind = dict(zip(kinds, refs, strict=True))
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "What kindred prints with --json",
        "commands": {name: by_kind[kind] for name, kind in sorted(SHAPES.items())},
        "error": by_kind[Failed],
        "$defs": parts,
    }
