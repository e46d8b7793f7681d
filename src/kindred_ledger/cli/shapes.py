"""The shapes of what `--json` prints: one for each command. docs/json-schema.json is made from them.

Every object has `command` and `status`; an error has `error` in place of the rest. Keys that are not
always there have a default here. What is not named here is not printed: a test holds that.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, get_type_hints

import msgspec
from msgspec import UNSET, Struct, UnsetType

from ..finding import Finding
from .printed import (
    Amount,
    Arrival,
    Change,
    Computed,
    Deleted,
    Differing,
    DumpedField,
    Edits,
    Entry,
    FileRoute,
    FitOut,
    Folder,
    Health,
    Here,
    Hop,
    Identified,
    IndexedRelease,
    Installed,
    ListedChange,
    Made,
    Mark,
    ModOut,
    Node,
    Plan,
    Proof,
    Recovered,
    ReleaseOut,
    Report,
    SampleOut,
    Step,
    Tabled,
    UseOut,
    Verdict,
)
from .printed_migrations import (
    FleetOut,
    MigrationOut,
    RecoveredOut,
    SignedOut,
    StepResultOut,
    SymptomOut,
    TakenBackOut,
    WholePlanOut,
)
from .printed_worlds import (
    CensusDifferenceOut,
    CensusOut,
    ForecastOut,
    HelperOut,
    LandmarkOut,
    StartOut,
    TransplantOut,
)

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


class Changing(Printed, kw_only=True, forbid_unknown_fields=True):
    """What commands print that change a place; `running` are programs that are in the way."""

    change: Computed
    applied: Made | UnsetType | None = UNSET
    dry_run: bool = False
    running: list[str] = []


def _shape(name: str, fields: Mapping[str, Any]) -> type[Struct]:
    """Return the shape of a command; a field is its type, or its type and default."""
    made = [
        (key, *value) if isinstance(value, tuple) else (key, value) for key, value in fields.items()
    ]
    title = "".join(word.capitalize() for word in name.split()) or "Overview"
    return msgspec.defstruct(
        title, made, bases=(Printed,), kw_only=True, forbid_unknown_fields=True
    )


_FIELDS: dict[str, dict[str, Any]] = {
    "": {
        "ledger": str, "installs": list[Here], "entries": int, "newest": Entry | None,
        "last_change": Change | None, "unfinished": int, "next": list[Step],
    },
    "backup": {"entry": Entry, "uncategorised": list[Folder]},
    "card check": {"card": str, "report": Report},
    "card layout check": {"layout": str, "samples": list[SampleOut], "findings": list[Finding]},
    "card layout draft": {"layout": str},
    "card learn": {
        "source": str, "to": str, "runbook": dict[str, Any], "written": str, "files": dict[str, list[str]],
        "converted": dict[str, list[str]], "moved": dict[str, str],
    },
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
    "mod suspects": {
        "next": list[str] | None, "found": list[list[str]], "among": list[str], "told": str, "trials": int,
        "left": int, "ended": bool,
    },
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
        "entry": Entry, "proven": list[str], "signed_off": list[SignedOut],
        "categories": dict[str, Amount], "tree": list[Node],
    },
    "world census": {
        "census": CensusOut, "differences": list[CensusDifferenceOut], "landmarks": list[LandmarkOut],
    },
    "world baked": {"forecast": TransplantOut},
    "world forecast": {"forecast": ForecastOut},
    "world started": {"start": StartOut},
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


class ModCheck(Printed, kw_only=True, forbid_unknown_fields=True):
    """What `mod check` prints: the mods and what is wrong with them, or with `--fix` a change as well."""

    explained: dict[str, str] | UnsetType = UNSET
    place: str | UnsetType = UNSET
    build: str | UnsetType | None = UNSET
    mods: list[ModOut] | UnsetType = UNSET
    fits: list[FitOut] | UnsetType = UNSET
    order: list[str] | UnsetType = UNSET
    findings: list[Finding] | UnsetType = UNSET
    change: Computed | UnsetType = UNSET
    applied: Made | UnsetType | None = UNSET
    dry_run: bool = False
    running: list[str] = []


class ModUsers(Printed, kw_only=True, forbid_unknown_fields=True):
    """What `mod users` prints: who uses a library, or with `--remove` a change."""

    library: str | UnsetType = UNSET
    projects: list[str] | UnsetType = UNSET
    uses: list[UseOut] | UnsetType = UNSET
    files_seen: int | UnsetType = UNSET
    findings: list[Finding] | UnsetType = UNSET
    change: Computed | UnsetType = UNSET
    applied: Made | UnsetType | None = UNSET
    dry_run: bool = False
    running: list[str] = []


class WorldHelper(Printed, kw_only=True, forbid_unknown_fields=True):
    """What `world helper` prints: where the sequence is, or the change of its next step."""

    sequence: HelperOut | UnsetType = UNSET
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


class CardSymptoms(Printed, kw_only=True, forbid_unknown_fields=True):
    """What `card symptoms` prints: what the card knows, or the change of a remedy."""

    symptoms: list[SymptomOut] | UnsetType = UNSET
    change: Computed | UnsetType = UNSET
    applied: Made | UnsetType | None = UNSET
    dry_run: bool = False
    running: list[str] = []


class Migrate(Printed, kw_only=True, forbid_unknown_fields=True):
    """What `migrate` prints: the plan alone, or where it is, and what came of the steps of this run."""

    plan: WholePlanOut | UnsetType = UNSET
    migration: MigrationOut | UnsetType = UNSET
    results: list[StepResultOut] = []
    taken_back: TakenBackOut | UnsetType = UNSET
    recovered: list[RecoveredOut] = []
    findings: list[Finding] = []
    rehearsal: bool = False
    dry_run: bool = False
    fleet: FleetOut | UnsetType = UNSET


SHAPES: dict[str, type[Struct]] = {
    **{name: _shape(name, fields) for name, fields in _FIELDS.items()},
    "convert": Convert,
    "file table": FileTable,
    "card symptoms": CardSymptoms,
    "migrate": Migrate,
    "mod check": ModCheck,
    "mod users": ModUsers,
    "world helper": WorldHelper,
    **dict.fromkeys(
        ("carry", "edits put", "file patch apply", "file rescue", "mod relink", "mod swap",
         "mod test", "mod trim", "reapply", "redo", "restore", "shelf assemble", "switch",
         "sync meet", "undo", "update", "world bundle", "world reinstate", "world remap",
         "world transplant"),
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
