"""A clean reinstall: the new release, and of the old install what is on the keep-list.

What is not on the list goes; the ledger keeps it, and all that may be the user's own is named as a loss
first. Folders outside the program's, where the user's data lives, are not touched.
"""

from __future__ import annotations

from collections.abc import Callable

from ..cards import PROGRAM, Install, as_install
from ..changes import Changeset
from ..finding import Finding
from ..ledger import Ledger
from ..merge import Choice, PathDecision, Policy, Rule, Side, merge_trees
from ..places import DIR, AnyPlace, AnySelection, Tree, as_selection, check_patterns, parents
from ..planning.opened_release import opened_release
from ..progress import Progress
from ..statement import Outcome
from ..wording import count
from .plan import Decision, Plan
from .update import find_origin

__all__ = ["reinstall"]

_RISK = "whatever of yours is not on the keep-list"


def reinstall(
    install: Install,
    release: Install | AnyPlace,
    *,
    ledger: Ledger,
    old: Install | AnyPlace | None = None,
    keep: AnySelection = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that leaves a release and what is on the keep-list, and nothing else.

    `keep` adds to the card's list. `old` is the release the install was made from: what is just as
    it was there is no loss. It is looked for on the ledger's shelf, if it is not given.

    Raises:
        UsageError: the release is of another title, or `old` of another build than the install.
        DecisionNeeded: a version is not certain.
        UnsafeName, UnsafeArchive: the release is hostile or damaged.

    >>> change = kl.reinstall(install, "downloads/mossferry-2.0.zip", ledger=ledger)
    >>> change.summary
    'update Mossferry from 1.4 to 2.0, clean'
    """
    install, keeps = as_install(install), as_selection(keep)
    install, origin = find_origin(install, old, ledger=ledger, progress=progress)
    install.check_version()
    offer = opened_release(release, install.card, ledger=ledger, progress=progress)
    now = ledger.scan(install.place, progress=progress)
    plan = Plan(install, offer, now, style="clean", risk=_RISK)
    plan.findings += origin.findings
    check_patterns(keeps, paths={*now.leaves, *offer.tree.leaves})
    kept = _Kept(install, keeps)
    disposes = install.tag.disposes
    disposed = 0
    rules = (
        Rule(Choice.THEIRS, lambda path: True, always=True),
        Rule(Choice.MINE, kept, always=True),
    )
    for each in merge_trees(origin.tree or Tree(), now, offer.tree, policy=Policy(rules)):
        path, here, there = each.path, each.mine, each.theirs
        if not path.startswith(f"{PROGRAM}/"):
            continue
        if there is not None and there.kind != DIR:
            put = _for_offered(each)
            if put.put and here is not None and origin.tree is not None and _is_edit(each):
                why = "your changes to it give way to the release"
                plan.findings.append(Finding.loss("overwritten", why, where=path))
            plan.take(path, here, there, put)
        elif here is not None and here.kind != DIR and each.choice is not Choice.MINE:
            edit = _is_edit(each)
            reason = "not on the keep-list" if edit else "the new release no longer has it"
            if edit and disposes(path):
                reason = "disposable: the title makes it again"
                disposed += 1
            elif edit:
                plan.findings.append(Finding.loss("removed", reason, where=path))
            plan.drop(path, here, reason)
    if disposed:
        what = f"{count(disposed, 'disposable file')} of yours go"
        plan.findings.append(Finding.note("disposable-removed", what))
    own = [path for path in now.leaves if kept(path) or not path.startswith(f"{PROGRAM}/")]
    plan.relocate([path for path in own if path not in offer.tree])
    _drop_empty_folders(plan)
    plan.empty_folders(None)
    return plan.changeset(ledger, operation="reinstall")


class _Kept:
    """Which paths are kept: the card's list, or what it protects where it has none; and the caller's."""

    def __init__(self, install: Install, more: Callable[[str], bool] | None) -> None:
        self._listed = install.card.updates.keep
        self._protected = install.card.protected_by
        self._more = more

    def __call__(self, path: str) -> bool:
        if self._more is not None and self._more(path):
            return True
        return self._listed(path) if self._listed is not None else bool(self._protected(path))


def _for_offered(each: PathDecision) -> Decision:
    if each.mine is None:
        return Decision(Outcome.UNCHANGED, "new in the release", put=True)
    if each.changed_by is Side.NOBODY:
        return Decision(Outcome.UNCHANGED, "the same already")
    if each.choice is Choice.MINE and _is_edit(each):
        return Decision(Outcome.LEFT_ALONE, "yours stays: it is on the keep-list")
    return Decision(Outcome.UNCHANGED, "replaced by the release's own", put=True)


def _is_edit(each: PathDecision) -> bool:
    """Tell whether a file is not as the old release, if that is known, has it."""
    return each.changed_by is not Side.THEIRS


def _drop_empty_folders(plan: Plan) -> None:
    """Have the folders go in which nothing stays."""
    changes = {action.path: action.after for action in plan.actions}
    after = {
        path
        for path in {*plan.now.leaves, *changes}
        if changes.get(path, plan.now.get(path)) is not None
    }
    needed = {folder for path in (*after, *plan.offer.tree) for folder in parents(path)}
    emptied = {
        path
        for path, node in plan.now.items()
        if node.kind == DIR and path.startswith(f"{PROGRAM}/")
        if path not in needed and path not in plan.offer.tree
    }
    filled = {folder for path in plan.now.leaves for folder in parents(path)}
    for path in sorted(emptied & filled):
        plan.drop(path, plan.now[path], "nothing is left in it")
