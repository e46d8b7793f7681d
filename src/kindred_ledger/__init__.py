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
    from .cards.mods import (
        Builds,
        Compatibility,
        Fit,
        Mod,
        ModVerdict,
    )
    from .cards.worlds import (
        IdList,
        World,
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
        FileRoute,
        Proof,
        Sample,
        Work,
        check_card,
        convert_bytes,
        convert_files,
        convert_install,
        prove_files,
        prove_install,
        routes_in,
    )
    from .edits import (
        BaseMatch,
        EditedFile,
        EditRow,
        EditSet,
        FileTable,
        LineEdit,
        ReapplyChoices,
        SetRecord,
        ValueEdit,
        combine_edits,
        drop_edits,
        match_bases,
        put_edits,
        read_table,
        reapply,
        tables_in,
        take_edits,
        write_table,
    )
    from .errors import (
        BooksUnbalanced,
        Cancelled,
        CardError,
        DecisionNeeded,
        FormatError,
        IdListError,
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
    from .ledger.migrations import (
        MigrationBegun,
        MigrationNote,
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
    from .migrate import (
        LearnedMove,
        Migration,
        MigrationChoice,
        MigrationConsents,
        MigrationPlan,
        MigrationRun,
        MigrationStatus,
        PlannedStep,
        Remedy,
        ResultState,
        Returned,
        Runbook,
        RunbookStep,
        StepContext,
        StepResult,
        StepStatus,
        Symptom,
        choose_migration,
        choose_return,
        learn_move,
        plan_migration,
        rehearse,
        run_migration,
        symptoms_of,
        usual_runbook,
    )
    from .mods import (
        Answer,
        ModCheck,
        SuspectSearch,
        SuspectsFound,
        Trial,
        TrimChoices,
        Usage,
        Use,
        check_mods,
        most_trials,
        next_trial,
        relink,
        remove_library,
        swap_library,
        trim_mod,
        users_of,
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
        compatible_mods,
        copies_under_test,
        match_releases,
        mods_in,
        place_test_copy,
        to_frame,
    )
    from .planning.helper_sequence import (
        HelperBegan,
        HelperSequence,
        HelperStatus,
        HelperStep,
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
        remove_marker,
        reset_settings,
        update,
        write_marker,
    )
    from .versions import (
        Scheme,
        Version,
        VersionRange,
        scheme,
    )
    from .worlds import (
        BakedField,
        BakedGroup,
        Bundle,
        BundledKind,
        BundledLink,
        Census,
        CensusDifference,
        Consent,
        ContentChange,
        ContentChoices,
        ContentRow,
        DamagedFile,
        Forecast,
        FoundLandmark,
        FoundThing,
        KindCounts,
        Landmark,
        LeftLink,
        OpenedWorld,
        OtherPlace,
        Reconciled,
        RemapWork,
        StartStatus,
        TransplantChoices,
        TransplantForecast,
        TransplantPlan,
        Vanishing,
        WayBack,
        compare_censuses,
        consent_text,
        draw_census,
        find_landmarks,
        first_start,
        forecast,
        forecast_transplant,
        helper_step,
        id_lists,
        landmark_findings,
        open_world,
        read_bundle,
        read_census,
        read_consent,
        read_landmark,
        reconcile,
        reinstate,
        remap,
        set_in_bundle,
        take_census,
        transplant,
        way_back,
    )

_HOMES = {
    "cards": "Card Format Identity Install Surroundings find_cards find_installs identify",
    "changes": "Action Applied Changeset Check Confirmed Drilled Recovered confirm drill"
    " recover redo restore undo undo_group",
    "convert": "CardReport Converted Proof Sample Work check_card convert_bytes convert_files"
    " convert_install prove_files prove_install FileRoute routes_in",
    "edits": "BaseMatch EditRow EditSet EditedFile FileTable LineEdit ReapplyChoices"
    " SetRecord ValueEdit combine_edits drop_edits match_bases put_edits read_table"
    " reapply tables_in take_edits write_table",
    "errors": "BooksUnbalanced Cancelled CardError DecisionNeeded FormatError KindredError"
    " IdListError LedgerDamaged LedgerError LossNotAllowed NoLedger NoRoute PlaceBusy"
    " PlaceChanged PlaceError PreconditionUnmet UnsafeArchive UnsafeName UsageError"
    " Vanished VersionError VersionUntold WrongPassphrase",
    "finding": "Finding Severity",
    "formats": "Document Layout LayoutDocument LayoutError Leaf decode",
    "ledger": "Entry EntryPlace Healed Ledger Mark Mirrored Record Release ReleasePlace"
    " ReleaseTag RetentionPolicy Retired Retirement Tag Tagged Verified export heal"
    " mirror plan_retirement verify",
    "ledger.migrations": "MigrationBegun MigrationNote",
    "merge": "Case Choice FileMerge How Policy Rule Three merge_files",
    "migrate": "Migration MigrationChoice MigrationConsents MigrationPlan MigrationRun MigrationStatus"
    " PlannedStep ResultState Returned Runbook RunbookStep StepContext StepResult StepStatus choose_migration"
    " choose_return plan_migration rehearse"
    " run_migration usual_runbook Remedy Symptom symptoms_of LearnedMove learn_move",
    "mods": "Answer ModCheck SuspectSearch SuspectsFound Trial TrimChoices Usage Use check_mods most_trials"
    " next_trial relink remove_library swap_library trim_mod"
    " users_of",
    "cards.mods": "Builds Compatibility Fit Mod ModVerdict",
    "operations": "Context Operation read_operation",
    "patches": "Base Manifest Output PatchSet Verdict apply_patch identify_base make_patch_set"
    " write_patch_set",
    "places": "AnyPlace AnySelection Difference FolderPlace ItemPlace MemoryPlace Node"
    " Patterns Place Seen StorageLimits TarPlace Tree ZipPlace open_place scan",
    "places.remotes": "Login Remote RemotePlace connect",
    "planning": "Comparison ReleaseMatch compare compatible_mods match_releases mods_in place_test_copy"
    " copies_under_test to_frame",
    "progress": "Progress Task",
    "releases": "ChosenRelease IndexedRelease ReleaseIndex RetryPolicy Shelved Source"
    " choose_release read_index shelve shelve_from source_at",
    "statement": "Line Outcome Statement",
    "transfers": "Begin CarryChoices Event MeetChoices Watcher carry carry_files meet switch",
    "updates": "Assembly UpdateChoices assemble install_beside reinstall remove_marker reset_settings update"
    " write_marker",
    "versions": "Scheme Version VersionRange scheme",
    "worlds": "Census CensusDifference ContentChange ContentRow DamagedFile Landmark"
    " Consent ContentChoices Forecast FoundLandmark OpenedWorld Reconciled"
    " RemapWork Vanishing WayBack compare_censuses consent_text draw_census find_landmarks"
    " forecast helper_step id_lists open_world read_census read_consent read_landmark"
    " landmark_findings reconcile reinstate remap take_census way_back BakedField BakedGroup Bundle"
    " BundledKind BundledLink FoundThing KindCounts LeftLink OtherPlace StartStatus TransplantChoices"
    " TransplantForecast TransplantPlan first_start forecast_transplant read_bundle set_in_bundle transplant",
    "cards.worlds": "IdList World",
    "planning.helper_sequence": "HelperBegan HelperSequence HelperStatus HelperStep",
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names.split()}

__all__ = [
    "Action", "Answer", "AnyPlace", "AnySelection", "Applied", "Assembly", "BakedField", "BakedGroup",
    "Base", "BaseMatch", "Begin", "BooksUnbalanced", "Builds", "Bundle", "BundledKind", "BundledLink",
    "Cancelled", "Card", "CardError", "CardReport", "CarryChoices", "Case", "Census", "CensusDifference",
    "Changeset", "Check", "Choice", "ChosenRelease", "Comparison", "Compatibility", "Confirmed",
    "Consent", "ContentChange", "ContentChoices", "ContentRow", "Context", "Converted", "DamagedFile",
    "DecisionNeeded", "Difference", "Document", "Drilled", "EditRow", "EditSet", "EditedFile", "Entry",
    "EntryPlace", "Event", "FileMerge", "FileRoute", "FileTable", "Finding", "Fit", "FolderPlace",
    "Forecast", "Format", "FormatError", "FoundLandmark", "FoundThing", "Healed", "HelperBegan",
    "HelperSequence", "HelperStatus", "HelperStep", "How", "IdList", "IdListError", "Identity",
    "IndexedRelease", "Install", "ItemPlace", "KindCounts", "KindredError", "Landmark", "Layout",
    "LayoutDocument", "LayoutError", "Leaf", "LearnedMove", "Ledger", "LedgerDamaged", "LedgerError",
    "LeftLink", "Line", "LineEdit", "Login", "LossNotAllowed", "Manifest", "Mark", "MeetChoices",
    "MemoryPlace", "Migration", "MigrationBegun", "MigrationChoice", "MigrationConsents", "MigrationNote",
    "MigrationPlan", "MigrationRun", "MigrationStatus", "Mirrored", "Mod", "ModCheck", "ModVerdict",
    "NoLedger", "NoRoute", "Node", "OpenedWorld", "Operation", "OtherPlace", "Outcome", "Output",
    "PatchSet", "Patterns", "Place", "PlaceBusy", "PlaceChanged", "PlaceError", "PlannedStep", "Policy",
    "PreconditionUnmet", "Progress", "Proof", "ReapplyChoices", "Reconciled", "Record", "Recovered",
    "Release", "ReleaseIndex", "ReleaseMatch", "ReleasePlace", "ReleaseTag", "RemapWork", "Remedy",
    "Remote", "RemotePlace", "ResultState", "RetentionPolicy", "Retired", "Retirement", "RetryPolicy",
    "Returned", "Rule", "Runbook", "RunbookStep", "Sample", "Scheme", "Seen", "SetRecord", "Severity",
    "Shelved", "Source", "StartStatus", "Statement", "StepContext", "StepResult", "StepStatus",
    "StorageLimits", "Surroundings", "SuspectSearch", "SuspectsFound", "Symptom", "Tag", "Tagged",
    "TarPlace", "Task", "Three", "TransplantChoices", "TransplantForecast", "TransplantPlan", "Tree",
    "Trial", "TrimChoices", "UnsafeArchive", "UnsafeName", "UpdateChoices", "Usage", "UsageError", "Use",
    "ValueEdit", "Vanished", "Vanishing", "Verdict", "Verified", "Version", "VersionError",
    "VersionRange", "VersionUntold", "Watcher", "WayBack", "Work", "World", "WrongPassphrase", "ZipPlace",
    "apply_patch", "assemble", "carry", "carry_files", "check_card", "check_mods", "choose_migration",
    "choose_release", "choose_return", "combine_edits", "compare", "compare_censuses", "compatible_mods",
    "confirm", "connect", "consent_text", "convert_bytes", "convert_files", "convert_install",
    "copies_under_test", "decode", "draw_census", "drill", "drop_edits", "export", "find_cards",
    "find_installs", "find_landmarks", "first_start", "forecast", "forecast_transplant", "heal",
    "helper_step", "id_lists", "identify", "identify_base", "install_beside", "landmark_findings",
    "learn_move", "make_patch_set", "match_bases", "match_releases", "meet", "merge_files", "mirror",
    "mods_in", "most_trials", "next_trial", "open_place", "open_world", "place_test_copy",
    "plan_migration", "plan_retirement", "prove_files", "prove_install", "put_edits", "read_bundle",
    "read_census", "read_consent", "read_index", "read_landmark", "read_operation", "read_table",
    "reapply", "reconcile", "recover", "redo", "rehearse", "reinstall", "reinstate", "relink", "remap",
    "remove_library", "remove_marker", "reset_settings", "restore", "routes_in", "run_migration", "scan",
    "scheme", "set_in_bundle", "shelve", "shelve_from", "source_at", "swap_library", "switch", "symptoms_of",
    "tables_in", "take_census", "take_edits", "to_frame", "transplant", "trim_mod", "undo", "undo_group",
    "update", "users_of", "usual_runbook", "verify", "way_back", "write_marker", "write_patch_set",
    "write_table",
]  # fmt: skip


def __getattr__(name: str) -> object:
    from importlib import import_module

    if name not in _HOME_OF:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    found: object = getattr(import_module(f".{_HOME_OF[name]}", __name__), name)
    return found


def __dir__() -> list[str]:
    return [*__all__, "__version__"]
