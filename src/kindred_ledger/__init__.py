"""Kindred Ledger: move saves, settings and installs between versions, with books that balance.

The public names, imported when first used, so that `import kindred_ledger` costs almost nothing.

The examples of the names below are run in the folder that `kindred demo --only-build --dir play` makes,
after these lines:

>>> import os, glob
>>> import kindred_ledger as kl
>>> card = kl.Card.load("mossferry.card.toml")
>>> install = card.open("mossferry")
>>> ledger = kl.Ledger.open("ledger")
"""

from __future__ import annotations

__version__ = "0.1.0"

TYPE_CHECKING = False  # what type checkers take for true; typing itself costs 10 ms to import

if TYPE_CHECKING:
    from .cards import (
        Card,
        Format,
        Identity,
        Install,
        Surroundings,
        find_cards,
        find_installs,
        identify,
    )
    from .changes import (
        Action,
        Applied,
        Changeset,
        Check,
        Confirmed,
        Drilled,
        Recovered,
        confirm,
        drill,
        recover,
        redo,
        restore,
        undo,
        undo_group,
    )
    from .convert import (
        CardReport,
        Converted,
        Proof,
        Sample,
        Work,
        check_card,
        convert_bytes,
        convert_files,
        convert_install,
        prove_install,
    )
    from .errors import (
        BooksUnbalanced,
        Cancelled,
        CardError,
        DecisionNeeded,
        FormatError,
        KindredError,
        LedgerDamaged,
        LedgerError,
        LossNotAllowed,
        NoLedger,
        NoRoute,
        PlaceBusy,
        PlaceChanged,
        PlaceError,
        PreconditionUnmet,
        UnsafeArchive,
        UnsafeName,
        UsageError,
        Vanished,
        VersionError,
        VersionUntold,
        WrongPassphrase,
    )
    from .finding import (
        Finding,
        Severity,
    )
    from .formats import (
        Document,
        Layout,
        LayoutDocument,
        LayoutError,
        Leaf,
        decode,
    )
    from .ledger import (
        Entry,
        EntryPlace,
        Healed,
        Ledger,
        Mark,
        Mirrored,
        Record,
        Release,
        ReleasePlace,
        ReleaseTag,
        RetentionPolicy,
        Retired,
        Retirement,
        Tag,
        Tagged,
        Verified,
        export,
        heal,
        mirror,
        plan_retirement,
        verify,
    )
    from .merge import (
        Case,
        Choice,
        FileMerge,
        How,
        Policy,
        Rule,
        Three,
        merge_files,
    )
    from .operations import (
        Context,
        Operation,
        read_operation,
    )
    from .patches import (
        Base,
        Manifest,
        Output,
        PatchSet,
        Verdict,
        apply_patch,
        identify_base,
        make_patch_set,
        write_patch_set,
    )
    from .places import (
        AnyPlace,
        AnySelection,
        Difference,
        FolderPlace,
        ItemPlace,
        MemoryPlace,
        Node,
        Patterns,
        Place,
        Seen,
        StorageLimits,
        TarPlace,
        Tree,
        ZipPlace,
        open_place,
        scan,
    )
    from .places.remotes import (
        Login,
        Remote,
        RemotePlace,
        connect,
    )
    from .planning import (
        Comparison,
        ReleaseMatch,
        compare,
        match_releases,
        to_frame,
    )
    from .progress import (
        Progress,
        Task,
    )
    from .releases import (
        ChosenRelease,
        IndexedRelease,
        ReleaseIndex,
        RetryPolicy,
        Shelved,
        Source,
        choose_release,
        read_index,
        shelve,
        shelve_from,
        source_at,
    )
    from .statement import (
        Line,
        Outcome,
        Statement,
    )
    from .transfers import (
        Begin,
        CarryChoices,
        Event,
        MeetChoices,
        Watcher,
        carry,
        carry_files,
        meet,
        switch,
    )
    from .updates import (
        Assembly,
        UpdateChoices,
        assemble,
        install_beside,
        reinstall,
        update,
    )
    from .versions import (
        Scheme,
        Version,
        VersionRange,
        scheme,
    )

_HOMES = {
    "cards": "Card Format Identity Install Surroundings find_cards find_installs identify",
    "changes": "Action Applied Changeset Check Confirmed Drilled Recovered confirm drill"
    " recover redo restore undo undo_group",
    "convert": "CardReport Converted Proof Sample Work check_card convert_bytes convert_files"
    " convert_install prove_install",
    "errors": "BooksUnbalanced Cancelled CardError DecisionNeeded FormatError KindredError"
    " LedgerDamaged LedgerError LossNotAllowed NoLedger NoRoute PlaceBusy"
    " PlaceChanged PlaceError PreconditionUnmet UnsafeArchive UnsafeName UsageError"
    " Vanished VersionError VersionUntold WrongPassphrase",
    "finding": "Finding Severity",
    "formats": "Document Layout LayoutDocument LayoutError Leaf decode",
    "ledger": "Entry EntryPlace Healed Ledger Mark Mirrored Record Release ReleasePlace"
    " ReleaseTag RetentionPolicy Retired Retirement Tag Tagged Verified export heal"
    " mirror plan_retirement verify",
    "merge": "Case Choice FileMerge How Policy Rule Three merge_files",
    "operations": "Context Operation read_operation",
    "patches": "Base Manifest Output PatchSet Verdict apply_patch identify_base make_patch_set"
    " write_patch_set",
    "places": "AnyPlace AnySelection Difference FolderPlace ItemPlace MemoryPlace Node"
    " Patterns Place Seen StorageLimits TarPlace Tree ZipPlace open_place scan",
    "places.remotes": "Login Remote RemotePlace connect",
    "planning": "Comparison ReleaseMatch compare match_releases to_frame",
    "progress": "Progress Task",
    "releases": "ChosenRelease IndexedRelease ReleaseIndex RetryPolicy Shelved Source"
    " choose_release read_index shelve shelve_from source_at",
    "statement": "Line Outcome Statement",
    "transfers": "Begin CarryChoices Event MeetChoices Watcher carry carry_files meet switch",
    "updates": "Assembly UpdateChoices assemble install_beside reinstall update",
    "versions": "Scheme Version VersionRange scheme",
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names.split()}

__all__ = [
    "Action",
    "AnyPlace",
    "AnySelection",
    "Applied",
    "Assembly",
    "Base",
    "Begin",
    "BooksUnbalanced",
    "Cancelled",
    "Card",
    "CardError",
    "CardReport",
    "CarryChoices",
    "Case",
    "Changeset",
    "Check",
    "Choice",
    "ChosenRelease",
    "Comparison",
    "Confirmed",
    "Context",
    "Converted",
    "DecisionNeeded",
    "Difference",
    "Document",
    "Drilled",
    "Entry",
    "EntryPlace",
    "Event",
    "FileMerge",
    "Finding",
    "FolderPlace",
    "Format",
    "FormatError",
    "Healed",
    "How",
    "Identity",
    "IndexedRelease",
    "Install",
    "ItemPlace",
    "KindredError",
    "Layout",
    "LayoutDocument",
    "LayoutError",
    "Leaf",
    "Ledger",
    "LedgerDamaged",
    "LedgerError",
    "Line",
    "Login",
    "LossNotAllowed",
    "Manifest",
    "Mark",
    "MeetChoices",
    "MemoryPlace",
    "Mirrored",
    "NoLedger",
    "NoRoute",
    "Node",
    "Operation",
    "Outcome",
    "Output",
    "PatchSet",
    "Patterns",
    "Place",
    "PlaceBusy",
    "PlaceChanged",
    "PlaceError",
    "Policy",
    "PreconditionUnmet",
    "Progress",
    "Proof",
    "Record",
    "Recovered",
    "Release",
    "ReleaseIndex",
    "ReleaseMatch",
    "ReleasePlace",
    "ReleaseTag",
    "Remote",
    "RemotePlace",
    "RetentionPolicy",
    "Retired",
    "Retirement",
    "RetryPolicy",
    "Rule",
    "Sample",
    "Scheme",
    "Seen",
    "Severity",
    "Shelved",
    "Source",
    "Statement",
    "StorageLimits",
    "Surroundings",
    "Tag",
    "Tagged",
    "TarPlace",
    "Task",
    "Three",
    "Tree",
    "UnsafeArchive",
    "UnsafeName",
    "UpdateChoices",
    "UsageError",
    "Vanished",
    "Verdict",
    "Verified",
    "Version",
    "VersionError",
    "VersionRange",
    "VersionUntold",
    "Watcher",
    "Work",
    "WrongPassphrase",
    "ZipPlace",
    "apply_patch",
    "assemble",
    "carry",
    "carry_files",
    "check_card",
    "choose_release",
    "compare",
    "confirm",
    "connect",
    "convert_bytes",
    "convert_files",
    "convert_install",
    "decode",
    "drill",
    "export",
    "find_cards",
    "find_installs",
    "heal",
    "identify",
    "identify_base",
    "install_beside",
    "make_patch_set",
    "match_releases",
    "meet",
    "merge_files",
    "mirror",
    "open_place",
    "plan_retirement",
    "prove_install",
    "read_index",
    "read_operation",
    "recover",
    "redo",
    "reinstall",
    "restore",
    "scan",
    "scheme",
    "shelve",
    "shelve_from",
    "source_at",
    "switch",
    "to_frame",
    "undo",
    "undo_group",
    "update",
    "verify",
    "write_patch_set",
]


def __getattr__(name: str) -> object:
    from importlib import import_module

    if name not in _HOME_OF:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    found: object = getattr(import_module(f".{_HOME_OF[name]}", __name__), name)
    return found


def __dir__() -> list[str]:
    return [*__all__, "__version__"]
