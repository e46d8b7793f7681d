"""Kindred Ledger: move saves, settings and installs between versions, with books that balance.

The public names, imported when first used, so that `import kindred_ledger` costs almost nothing.

>>> import kindred_ledger as kl
>>> kl.Version.parse("1.10") > kl.Version.parse("1.9")
True
"""

from __future__ import annotations

__version__ = "0.1.0"

TYPE_CHECKING = False  # what type checkers take for true; typing itself costs 10 ms to import

if TYPE_CHECKING:
    from .cards import Card, Format, Identity, Install, find_installs, identify
    from .changes import (
        Action,
        Applied,
        Changeset,
        Confirmed,
        Drilled,
        confirm,
        drill,
        recover,
        redo,
        restore,
        undo,
        undo_group,
    )
    from .convert import (
        Sample,
        Work,
        check_card,
        convert_bytes,
        convert_files,
        convert_install,
        prove_install,
    )
    from .errors import KindredError
    from .finding import Finding, Severity
    from .formats import Layout, LayoutDocument, decode
    from .ledger import (
        Entry,
        Healed,
        Ledger,
        Mirrored,
        Release,
        ReleaseTag,
        RetentionPolicy,
        Retirement,
        Tag,
        Verified,
        export,
        heal,
        mirror,
        plan_retirement,
        verify,
    )
    from .merge import Choice, FileMerge, How, Policy, Rule, Three, merge_files
    from .operations import Context, Operation, read_operation
    from .patches import (
        Base,
        Output,
        PatchSet,
        apply_patch,
        identify_base,
        make_patch_set,
        write_patch_set,
    )
    from .places import (
        FolderPlace,
        ItemPlace,
        MemoryPlace,
        Patterns,
        TarPlace,
        Tree,
        ZipPlace,
        open_place,
        scan,
    )
    from .places.remotes import Login, RemotePlace, connect
    from .planning import Comparison, compare, match_releases
    from .progress import Progress
    from .releases import (
        IndexedRelease,
        Source,
        choose_release,
        read_index,
        shelve,
        shelve_from,
        source_at,
    )
    from .statement import Line, Outcome, Statement
    from .transfers import (
        Begin,
        CarryChoices,
        MeetChoices,
        Watcher,
        carry,
        carry_files,
        meet,
        switch,
    )
    from .updates import Assembly, UpdateChoices, assemble, install_beside, reinstall, update
    from .versions import Version, VersionRange, scheme

_HOMES = {
    "cards": "Card Format Identity Install find_installs identify",
    "changes": "Action Applied Changeset Confirmed Drilled confirm drill recover redo restore undo"
    " undo_group",
    "convert": "Sample Work check_card convert_bytes convert_files convert_install prove_install",
    "errors": "KindredError",
    "finding": "Finding Severity",
    "formats": "Layout LayoutDocument decode",
    "ledger": "Entry Healed Ledger Mirrored RetentionPolicy Release ReleaseTag"
    " Retirement Tag Verified export heal mirror plan_retirement verify",
    "merge": "Choice FileMerge How Policy Rule Three merge_files",
    "operations": "Context Operation read_operation",
    "patches": "Base Output PatchSet apply_patch identify_base make_patch_set write_patch_set",
    "places": "FolderPlace ItemPlace MemoryPlace Patterns Tree TarPlace ZipPlace open_place scan",
    "places.remotes": "Login RemotePlace connect",
    "planning": "Comparison compare match_releases",
    "progress": "Progress",
    "releases": "IndexedRelease Source choose_release read_index shelve shelve_from source_at",
    "statement": "Line Outcome Statement",
    "transfers": "Begin CarryChoices MeetChoices Watcher carry carry_files meet switch",
    "updates": "Assembly UpdateChoices assemble install_beside reinstall update",
    "versions": "Version VersionRange scheme",
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names.split()}

__all__ = [
    "Action",
    "Applied",
    "Assembly",
    "Base",
    "Begin",
    "Card",
    "CarryChoices",
    "Changeset",
    "Choice",
    "Comparison",
    "Confirmed",
    "Context",
    "Drilled",
    "Entry",
    "FileMerge",
    "Finding",
    "FolderPlace",
    "Format",
    "Healed",
    "How",
    "Identity",
    "IndexedRelease",
    "Install",
    "ItemPlace",
    "KindredError",
    "Layout",
    "LayoutDocument",
    "Ledger",
    "Line",
    "Login",
    "MeetChoices",
    "MemoryPlace",
    "Mirrored",
    "Operation",
    "Outcome",
    "Output",
    "PatchSet",
    "Patterns",
    "Policy",
    "Progress",
    "Release",
    "ReleaseTag",
    "RemotePlace",
    "RetentionPolicy",
    "Retirement",
    "Rule",
    "Sample",
    "Severity",
    "Source",
    "Statement",
    "Tag",
    "TarPlace",
    "Three",
    "Tree",
    "UpdateChoices",
    "Verified",
    "Version",
    "VersionRange",
    "Watcher",
    "Work",
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
