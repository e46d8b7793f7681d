"""Restoring: a place is brought back to the tree of an entry."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ..errors import UsageError
from ..finding import Finding, Severity
from ..ledger import BothHold, Entry, Ledger, Tag
from ..places import (
    DIR,
    FILE,
    NO_LIMITS,
    OTHER,
    PERMISSIONS,
    WORK_FOLDER,
    AnyPlace,
    AnySelection,
    Place,
    Tree,
    archive_of,
    as_selection,
    as_target,
    check_selected,
    collisions,
    is_ours,
    limits_at,
    limits_by_part_of,
    parents,
    parts_of,
    roots_of,
    same_content,
    tells_names_apart,
)
from ..places import second_names as names_again
from ..places.databases import COMPANIONS
from ..progress import Progress
from ..statement import ALL_OTHERS, MANY, Line, Outcome, Statement
from ..wording import count
from .actions import actions_between
from .changeset import Changeset
from .fitting import fitted
from .folder_times import times_as_in

__all__ = ["restore"]


def restore(
    entry: Entry | str,
    place: AnyPlace | None = None,
    *,
    ledger: Ledger,
    only: AnySelection = None,
    why: str = "not asked for",
    exact: bool = False,
    second_names: bool = False,
    tag: Tag | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that brings `place` (default: where it was) back to an entry.

    `entry` may be what names one: an id, `title@version`, `latest`. `only` selects by path (a pattern,
    several, or a function); what it leaves out stays as it is, and `why` says so in the books. What
    lies beside a database that is brought back (`-wal` and its like) goes unless the entry holds it:
    it belongs to the database that is there now. `exact` also removes what the entry
    does not hold; without it such files stay and are listed. Names that differ in case or Unicode form
    only need a disk that tells them apart; on others all but the first are a conflict, or arrive under
    other names if `second_names`. `tag` is what the place holds now.

    Raises:
        UsageError: the place has other parts than the entry.

    >>> entry = ledger.backup(install)
    >>> kl.restore(entry, "copy", ledger=ledger).apply(ledger).statements[0].counted_after
    206
    """
    entry, chosen = ledger.entry(entry), as_selection(only)
    archive = "" if place is not None else archive_of(entry.roots)
    if archive:
        raise UsageError(
            f"entry {entry.id} was taken in from an archive, so there is no folder to restore it to",
            where=archive,
            remedy="Say which folder: `place=FOLDER`.",
        )
    place = ledger.place_at(entry.roots) if place is None else as_target(place)
    _check_fits(entry, place)
    now = ledger.scan(place, progress=progress)
    source = ledger.place(entry, like=now)
    remembered = source.tree
    refused = _refused(remembered, place)
    wanted = remembered
    if refused or any(node.kind == OTHER for node in remembered.values()):
        wanted = remembered.select(lambda p: remembered[p].kind != OTHER and p not in refused)
    if chosen is not None:
        check_selected(chosen, wanted.leaves)
        wanted = wanted.select(chosen)
    spelled = _Spelled.of(wanted, remembered, place, now, again=second_names)
    wanted, remembered = spelled.wanted, spelled.remembered
    refused |= spelled.refused
    wanted, special = _without_special_bits(wanted, now)
    reason = f"as in entry {entry.id}"
    stale = _beside_databases(now, wanted, remembered)
    target = now.overlay(wanted)
    if stale:
        target = target.select(lambda path: path not in stale)
    extra = tuple(
        path
        for path in sorted(now.keys() - remembered.keys())
        if now[path].kind != DIR and path not in stale
        if (chosen is None or chosen(path)) and entry.complete and path not in spelled.originals
        if not entry.lacks(path)
    )
    findings = list(spelled.conflicts)
    if exact and entry.complete:
        target = Tree(
            {
                p: n
                for p, n in target.items()
                if p in wanted or entry.lacks(p) or not _gone(p, chosen, remembered)
            }
        )
        findings += (
            Finding.loss("not-in-entry", "the entry does not hold it", where=path) for path in extra
        )
    elif extra:
        stay = f"{len(extra)} files that the entry does not hold stay (`exact=True` removes them)"
        findings.append(Finding.note("files-stay", stay))
    disposable = sum(1 for path in now.leaves if entry.lacks(path) and path not in remembered)
    if disposable:
        stay = f"{count(disposable, 'disposable file')} that the entry left out: as they are now"
        findings.append(Finding.note("disposable-stay", stay))
    if tag is not None and tag.version and entry.tag.version and tag.version != entry.tag.version:
        other = f"the entry is of {entry.tag.version}, the install is now {tag.version}"
        remedy = "A program and its data belong together: kindred migrate INSTALL BUILD --as-stored"
        findings.append(Finding.warning("other-build", other, remedy=remedy))
    findings += (
        each
        for each in entry.findings
        if each.severity is Severity.WARNING and (not each.where or each.where in wanted)
    )
    if special:
        why = "it ran as another user when it was kept, and will not"
        findings += (Finding.warning("not-as-other-user", why, where=path) for path in special)
    actions = {
        action.path: replace(action, reason=f"belongs to the {_database_of(action.path)} of now")
        if action.path in stale
        else replace(action, source_path=spelled.originals.get(action.path, action.path))
        for action in actions_between(now, target, source, reason=reason)
    }
    of_times = times_as_in(
        remembered, (now, target), actions.values(), limits_by_part=limits_by_part_of(place)
    )
    for action in tuple(of_times):
        actions.setdefault(action.path, action)
    if actions and all(same_content(a.before, a.after) for a in actions.values()):
        many = (
            f"{len(actions)} of the files and folders" if len(actions) > 1 else "1 file or folder"
        )
        only_times = f"only times and permissions differ, of {many}; they come back"
        findings.append(Finding.note("only-times", only_times))
    return fitted(
        Changeset(
            place=place,
            operation="restore",
            summary=f"restore {entry.name} from entry {entry.id}",
            before=now,
            actions=tuple(actions.values()),
            tag=tag or entry.tag,
            version_after=entry.tag.version if chosen is None and entry.complete else "",
            offered=remembered,
            as_kept=True,
            statements=(
                _statement(entry, remembered, wanted, now, why, refused, spelled.originals),
            ),
            findings=tuple(findings),
            relations=(BothHold(entry.roots, wanted),)
            if roots_of(place) != dict(entry.roots)
            else (),
        )
    )


def _gone(path: str, only: Callable[[str], bool] | None, remembered: Tree) -> bool:
    return path not in remembered and (only is None or only(path))


def _check_fits(entry: Entry, place: Place) -> None:
    """Raise `UsageError` unless the place has the same parts as the entry."""
    parts = parts_of(place)
    if "" not in parts and set(entry.roots) != set(parts):
        raise UsageError(
            f"entry {entry.id} has the parts {', '.join(sorted(entry.roots)) or 'of one folder'}, "
            f"this place {', '.join(sorted(parts))}",
            where=place.location,
            remedy="Restore it into a plain folder first: `place=FOLDER`.",
        )


def _without_special_bits(wanted: Tree, now: Tree) -> tuple[Tree, list[str]]:
    """Return a tree with no more than permissions in its modes, and the files that had more.

    What stands there keeps the bits it has.
    """
    special = [path for path, node in wanted.items() if node.mode & ~PERMISSIONS]
    if not special:
        return wanted, []
    masked = {}
    for path in special:
        node, here = wanted[path], now.get(path)
        own = here.mode & ~PERMISSIONS if here is not None and here.kind == node.kind else 0
        masked[path] = node._replace(mode=node.mode & PERMISSIONS | own)
    gone = [path for path in special if wanted[path].kind == FILE and masked[path] != wanted[path]]
    return wanted.overlay(masked), gone


def _beside_databases(now: Tree, wanted: Tree, remembered: Tree) -> set[str]:
    """Return the files beside databases that will no longer belong to them."""
    return {
        beside
        for beside in now
        if beside.endswith(COMPANIONS) and beside not in remembered
        for path in (_database_path(beside),)
        if path in wanted and wanted[path].kind == FILE
        if not same_content(now.get(path), wanted[path])
    }


def _database_of(path: str) -> str:
    return _database_path(path).rpartition("/")[2]


def _database_path(beside: str) -> str:
    return next(beside.removesuffix(end) for end in COMPANIONS if beside.endswith(end))


class _Spelled(Struct, frozen=True):
    """What of an entry arrives, by the names it gets: others where two of them are one on the disk.

    `originals` has the entry's names of those that get others, by these.
    """

    wanted: Tree
    remembered: Tree
    originals: dict[str, str] = {}  # a struct copies it
    refused: dict[str, str] = {}
    conflicts: tuple[Finding, ...] = ()

    @staticmethod
    def of(wanted: Tree, remembered: Tree, place: Place, now: Tree, *, again: bool) -> _Spelled:
        """Name what is wanted; `again` gives other names where they are needed."""
        twins = collisions(wanted) if wanted.keys() - now.keys() else []  # else all stand there
        if not twins or tells_names_apart(place, now):
            return _Spelled(wanted, remembered)
        if again:
            names = names_again(wanted, taken=(*now, *remembered))
            return _Spelled(
                Tree({names.get(path, path): node for path, node in wanted.items()}),
                Tree({names.get(path, path): node for path, node in remembered.items()}),
                {new: path for path, new in names.items()},
            )
        firsts = {other: one for one, other in twins}
        refused = {
            path: f"{firsts[at]} and {at} are one on this disk"
            for path in wanted
            for at in (*parents(path), path)
            if at in firsts
        }
        remedy = "Restore them under other names (`second_names=True`), or only one of them (`only=PATTERN`)."
        inner = {folder for path in refused for folder in parents(path)}
        conflicts = (
            Finding.conflict("names-alike", why, where=path, remedy=remedy)
            for path, why in refused.items()
            if path not in inner
        )
        left = wanted.select(lambda path: path not in refused)
        return _Spelled(left, remembered, {}, refused, tuple(conflicts))


def _refused(tree: Tree, place: Place) -> dict[str, str]:
    """Return what of a tree a place cannot hold, each with why."""
    some = tree if WORK_FOLDER in "\n".join(tree).lower() else ()
    ours = {path: "where this program stages what it changes" for path in some if is_ours(path)}
    limits_by_part = limits_by_part_of(place)
    if all(limits == NO_LIMITS for limits in limits_by_part.values()):
        return ours
    whys = (
        (path, limits_at(limits_by_part, path).why_not(path, node)) for path, node in tree.items()
    )
    return {path: why for path, why in whys if why} | ours


def _statement(
    entry: Entry,
    remembered: Tree,
    wanted: Tree,
    now: Tree,
    why: str,
    refused: Mapping[str, str],
    originals: Mapping[str, str],
) -> Statement:
    lines = []
    leaves: Sequence[str] = remembered.leaves
    if len(leaves) >= MANY:
        left_out = remembered.keys() - wanted.keys()
        differ = sorted({*wanted.unlike(now), *(p for p in left_out if remembered[p].kind != DIR)})
        as_kept = Line(
            Outcome.UNCHANGED,
            ALL_OTHERS,
            "stand there as they were kept",
            count=len(leaves) - len(differ),
        )
        leaves, lines = differ, [as_kept] if as_kept.count else []
    for path in leaves:
        if path in wanted:
            was = f", where it is called {originals[path]}" if path in originals else ""
            lines.append(Line(Outcome.UNCHANGED, path, f"arrives as it was kept{was}"))
        elif remembered[path].kind == OTHER and path in now and now[path].kind == OTHER:
            lines.append(
                Line(Outcome.UNCHANGED, path, "neither file nor link: it stands there as it did")
            )
        elif remembered[path].kind == OTHER:
            lines.append(
                Line(Outcome.LEFT_ALONE, path, "neither file nor link: it was listed, not kept")
            )
        elif same_content(now.get(path), remembered[path]):
            lines.append(Line(Outcome.UNCHANGED, path, "left out, and stands there as it was kept"))
        else:
            lines.append(Line(Outcome.LEFT_ALONE, path, refused.get(path, why)))
    return Statement(f"entry {entry.id}", "files", tuple(lines))
