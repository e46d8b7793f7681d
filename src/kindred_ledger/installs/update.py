"""Updating over the top: three-way between the old release, the install and the new release.

What the card protects stays; what the user edited is noticed where the old release is known; what
the old release left behind goes where that is certain and is listed where it is not.
"""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from ..cards import PROGRAM, Install
from ..changes import Action, Changeset, Conflict, Loss
from ..convert import unread_by
from ..errors import UsageError
from ..ledger import Ledger
from ..places import DIR, FILE, LINK, Place, Side, ThreeWay, Tree, check_portable, three_way
from ..progress import Progress
from ..statement import Line, Outcome, Statement
from ..versions import Version

__all__ = ["update"]

_DECIDE = "Decide with --mine PATTERN (keep yours) or --theirs PATTERN (take the release's)."


def update(
    install: Install,
    release: Install | Place,
    *,
    ledger: Ledger,
    old: Install | Place | None = None,
    mine: Callable[[str], bool] = lambda _: False,
    theirs: Callable[[str], bool] = lambda _: False,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that brings an install to a release, over the top.

    `old` is the release the install was made from, if it is at hand. `mine` and `theirs` decide
    files that both the user and the release changed.

    Raises:
        UsageError: the release is of another title, or `old` of another build than the install.
        DecisionNeeded: a version is not certain.
        UnsafeName, UnsafeArchive: the release is hostile or damaged.
    """
    release = _opened(release, install)
    old = None if old is None else _opened(old, install)
    _check_titles(install, release, old)
    here, there = install.sure_version, release.sure_version
    now = ledger.scan(install.place, progress=progress)
    offered = _release_tree(release, ledger, progress)
    base = _release_tree(old, ledger, progress) if old else None
    plan = _Plan(install, release.place, mine, theirs)
    for path in three_way(base if base is not None else Tree(), now, offered):
        if path.path.startswith(f"{PROGRAM}/"):
            plan.decide(path, known=base is not None)
    plan.folders(now, offered, base)
    if there < here:
        plan.losses.append(
            Loss(
                str(install.place.location),
                f"{there} is older than {here}; it may not read newer data",
            )
        )
    return Changeset(
        place=install.place,
        operation="update",
        summary=f"bring {install.card.name} from {here} to {there}",
        before=now,
        actions=tuple(plan.actions),
        tag=install.tag,
        version_after=there.text,
        offered=offered,
        statements=(Statement(f"release {there}", "files", tuple(plan.lines)),),
        losses=tuple(plan.losses),
        conflicts=tuple(plan.conflicts),
        notes=(*plan.notes(), *_left_to_convert(install, now, plan, there)),
    )


class _Decision(Struct, frozen=True):
    """What happens to one path of the release: a line, and whether the release's file is put."""

    outcome: Outcome
    reason: str
    put: bool = False


class _Plan:
    """Decides path by path and collects what follows."""

    def __init__(
        self,
        install: Install,
        source: Place,
        mine: Callable[[str], bool],
        theirs: Callable[[str], bool],
    ) -> None:
        self._card = install.card
        self._source = source
        self._mine = mine
        self._theirs = theirs
        self.actions: list[Action] = []
        self.lines: list[Line] = []
        self.losses: list[Loss] = []
        self.conflicts: list[Conflict] = []
        self._left_over: list[str] = []
        self._edited: list[str] = []

    def decide(self, path: ThreeWay, *, known: bool) -> None:
        """Decide one path; `known` says whether the old release is."""
        if path.theirs is None or path.theirs.kind == DIR:
            self._gone_in_release(path, known)
            return
        decision = self._for_offered(path, known)
        self.lines.append(Line(decision.outcome, path.path, decision.reason))
        if decision.put:
            self.actions.append(
                Action(path.path, path.mine, path.theirs, self._source, path.path, decision.reason)
            )

    def _for_offered(self, path: ThreeWay, known: bool) -> _Decision:
        protector = self._card.protected_by(path.path)
        if path.mine is None:
            removed = known and path.base is not None
            reason = "you had removed it; the release needs it" if removed else "new in the release"
            return _Decision(Outcome.KEPT, reason, put=True)
        if path.changed_by is Side.NOBODY:
            return _Decision(Outcome.KEPT, "the same already")
        if protector:
            return _Decision(Outcome.HELD, f"yours stays: {protector} are protected")
        if not known:
            return _Decision(Outcome.KEPT, "replaced; the old release is not known", put=True)
        if path.changed_by is Side.THEIRS:
            return _Decision(Outcome.KEPT, "replaced; you had not changed it", put=True)
        self._edited.append(path.path)
        if path.changed_by is Side.MINE:
            return _Decision(Outcome.HELD, "yours stays: you changed it, the release did not")
        return self._both_changed(path)

    def _both_changed(self, path: ThreeWay) -> _Decision:
        if self._mine(path.path):
            return _Decision(Outcome.HELD, "yours stays: you decided so")
        if self._theirs(path.path):
            self.losses.append(Loss(path.path, "your changes to it give way to the release"))
            return _Decision(Outcome.KEPT, "replaced: you decided so", put=True)
        self.conflicts.append(Conflict(path.path, "both you and the release changed it", _DECIDE))
        return _Decision(Outcome.CONFLICT, "both you and the release changed it")

    def _gone_in_release(self, path: ThreeWay, known: bool) -> None:
        if path.mine is None or path.mine.kind == DIR or self._card.category_of(path.path):
            return
        if not known:
            self._left_over.append(path.path)
        elif path.base is None:
            return  # the user's own
        elif path.changed_by is Side.THEIRS:
            self.actions.append(
                Action(path.path, path.mine, None, reason="the new release no longer has it")
            )
        else:
            self._edited.append(path.path)
            self._left_over.append(path.path)

    def folders(self, now: Tree, offered: Tree, base: Tree | None) -> None:
        """Add the release's empty folders; remove what the old release's removal leaves empty."""
        for path, node in offered.items():
            if node.kind == DIR and path not in now:
                self.actions.append(Action(path, None, node, reason="new in the release"))
        if base is None:
            return
        going = {action.path for action in self.actions if action.after is None}
        for path in sorted(base, reverse=True):
            here = now.get(path)
            if base[path].kind != DIR or here is None or here.kind != DIR or path in offered:
                continue
            inner = (other for other in now if other.startswith(f"{path}/"))
            if all(other in going for other in inner):
                going.add(path)
                self.actions.append(
                    Action(path, here, None, reason="the new release no longer has it")
                )

    def notes(self) -> list[str]:
        """Return what the person should know beyond the lines."""
        notes = []
        if self._edited:
            notes.append(f"you had changed: {_listed(self._edited)}")
        if self._left_over:
            notes.append(
                "not in the new release and left alone, as they may be yours or left over from the "
                f"old one: {_listed(self._left_over)}"
            )
        return notes


def _opened(release: Install | Place, install: Install) -> Install:
    return release if isinstance(release, Install) else install.card.open_release(release)


def _release_tree(release: Install, ledger: Ledger, progress: Progress | None) -> Tree:
    tree = ledger.scan(release.place, progress=progress)
    for path, node in tree.items():
        check_portable(path, where=release.place.location)
        if node.kind not in (FILE, DIR):
            what = "a link" if node.kind == LINK else "no plain file"
            raise UsageError(
                f"{path} is {what}, which a release must not hold", where=release.place.location
            )
    return tree


def _check_titles(install: Install, release: Install, old: Install | None) -> None:
    for other in filter(None, (release, old)):
        if other.card.title != install.card.title:
            raise UsageError(
                f"this is a release of {other.card.name}, the install is of {install.card.name}",
                where=other.place.location,
            )
    if old and old.sure_version != install.sure_version:
        raise UsageError(
            f"the old release is {old.sure_version}, the install is {install.sure_version}",
            where=old.place.location,
            remedy="Give the release the install was made from, or none.",
        )


def _left_to_convert(install: Install, now: Tree, plan: _Plan, build: Version) -> list[str]:
    """Say which files the new build will not read as they stay."""
    going = {action.path for action in plan.actions}
    staying = now.select(lambda path: path not in going)
    unread = unread_by(install.card, install.place, staying, build)
    if not unread:
        return []
    kinds = ", ".join(f"{len(paths)} × {kind}" for kind, paths in unread.items())
    return [
        f"{build} does not read {sum(map(len, unread.values()))} files as they are ({kinds}); "
        "when this is done, run: kindred convert"
    ]


def _listed(paths: list[str], most: int = 5) -> str:
    more = f" and {len(paths) - most} more" if len(paths) > most else ""
    return ", ".join(paths[:most]) + more
