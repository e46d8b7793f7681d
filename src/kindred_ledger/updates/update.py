"""Updating over the top: three-way between the old release, the install and the new release.

What the card protects stays; what the user edited is noticed where the old release is known; what
the old release left behind goes where that is certain and is listed where it is not. The user's own
files are never among what goes.
"""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from ..cards import PROGRAM, Component, Install, as_install
from ..changes import Changeset
from ..convert import NotMerged, merge_inside
from ..errors import UsageError
from ..finding import Finding
from ..ledger import Ledger, Release
from ..merge import Choice, PathDecision, Policy, Rule, Side, digests_of, merge_trees
from ..places import DIR, FILE, AnyPlace, AnySelection, Place, Tree, as_selection
from ..planning.deciding import refuse_undecided
from ..planning.opened_release import OpenedRelease, open_release, opened_release
from ..planning.recognizing import known_by_content
from ..progress import Progress
from ..statement import Outcome
from .leftovers import left_over
from .plan import Decision, Plan, listed

__all__ = ["Origin", "UpdateChoices", "find_origin", "update"]

_DECIDE = (
    "Decide with `mine=PATTERN` (keep yours) or `theirs=PATTERN` (take the release's); of one field with"
    " PATTERN:FIELD."
)
_RISK = "edits to files that the release changes, too, and what old releases left behind"


def _nothing(path: str) -> bool:
    return False


class UpdateChoices(Struct, frozen=True):
    """What a person decided beforehand.

    `mine` and `theirs` decide files that both sides changed, `rules` files and fields (later ones win);
    `components` are the only ones that are brought, `also` optional ones that are not used yet. Both by code
    name or by what players see.

    >>> choices = kl.UpdateChoices(mine="program/data/harbours.json")
    >>> kl.update(install, "downloads/mossferry-2.0.zip", ledger=ledger, choices=choices).conflicts
    ()
    """

    mine: AnySelection = _nothing
    theirs: AnySelection = _nothing
    components: tuple[str, ...] = ()
    also: tuple[str, ...] = ()
    rules: tuple[Rule, ...] = ()

    @property
    def policy(self) -> Policy:
        """The rules they amount to."""
        return Policy(
            (
                Rule(Choice.THEIRS, as_selection(self.theirs) or _nothing),
                Rule(Choice.MINE, as_selection(self.mine) or _nothing),
                *self.rules,
            )
        )


class Origin(Struct, frozen=True):
    """What an install was made from: the unmodified tree and its place, if known, and who says so."""

    tree: Tree | None = None
    place: Place | None = None
    findings: tuple[Finding, ...] = ()


def find_origin(
    install: Install,
    old: Install | AnyPlace | None,
    *,
    ledger: Ledger,
    progress: Progress | None = None,
) -> tuple[Install, Origin]:
    """Return the release an install was made from: the one given, or the likest one on the shelf.

    The install comes back with what that told about its version.

    Raises:
        UsageError: `old` is another build than the install.
    """
    if old is not None:
        opened = open_release(old, install.card)
        if install.version is None:
            install = replace(install, chosen=opened.sure_version)
        elif opened.sure_version != install.sure_version:
            raise UsageError(
                f"the old release is {opened.sure_version}, the install is {install.sure_version}",
                where=opened.place.location,
                remedy="Give the release the install was made from, or none.",
            )
        offer = opened_release(old, install.card, ledger=ledger, progress=progress)
        return install, Origin(offer.tree, offer.place)
    install, likeness = known_by_content(install, ledger, progress=progress)
    if likeness is None:
        return install, Origin()
    tree = ledger.shelf.tree(likeness.release).moved_into(PROGRAM)
    place = open_release(ledger.shelf.place(likeness.release), install.card).place
    compared = Finding.note("compared-with", f"compared with the shelf: {likeness}")
    return install, Origin(tree, place, (compared,))


def update(
    install: Install,
    release: Install | AnyPlace,
    *,
    ledger: Ledger,
    old: Install | AnyPlace | None = None,
    choices: UpdateChoices | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that brings an install to a release, over the top.

    `old` is the release the install was made from, if it is at hand; else it is looked for on the
    ledger's shelf.

    Raises:
        UsageError: the release is of another title, or `old` of another build than the install.
        DecisionNeeded: a version is not certain.
        UnsafeName, UnsafeArchive: the release is hostile or damaged.

    >>> change = kl.update(install, "downloads/mossferry-2.0.zip", ledger=ledger)
    >>> change.summary, change.conflicts
    ('update Mossferry from 1.4 to 2.0, over the top', ())
    >>> _ = change.apply(ledger)
    >>> card.open("mossferry").version.text
    '2.0'
    """
    install = as_install(install)
    choices = choices or UpdateChoices()
    install, origin = find_origin(install, old, ledger=ledger, progress=progress)
    install.check_version()
    offer = opened_release(release, install.card, ledger=ledger, progress=progress)
    now = ledger.scan(install.place, progress=progress)
    choices.policy.check_patterns({*now.leaves, *offer.tree.leaves})
    chosen = [install.card.updates.component(name) for name in choices.components]
    if chosen:
        offer = _only(offer, chosen)
    plan = Plan(install, offer, now, style="over the top", risk=_RISK)
    if chosen:
        plan.partial = True
        plan.subject = f"only {' and '.join(c.name for c in chosen)} of {plan.card.name}"
    plan.findings += origin.findings
    over = _OverTheTop(plan, origin, choices, chosen)
    base = origin.tree if origin.tree is not None else Tree()
    for path in merge_trees(base, now, offer.tree, policy=over.policy, known=over.known):
        if path.path.startswith(f"{PROGRAM}/") and over.is_meant(path.path):
            over.decide(path)
    refuse_undecided(over.policy, over.answered)
    over.tell_leftovers(ledger)
    over.relocate()
    plan.empty_folders(origin.tree if not chosen else None)
    plan.findings += over.findings()
    return plan.changeset(ledger)


def _only(offer: OpenedRelease, chosen: list[Component]) -> OpenedRelease:
    tree = offer.tree
    wanted = tree.select(
        lambda path: tree[path].kind == FILE and any(c.files(path) for c in chosen)
    )
    if not wanted.files:
        raise UsageError(
            f"the release holds nothing of {' and '.join(map(str, chosen))}",
            where=offer.place.location,
        )
    return replace(offer, tree=wanted)


class _OverTheTop:
    """Decides path by path."""

    def __init__(
        self, plan: Plan, origin: Origin, choices: UpdateChoices, chosen: list[Component]
    ) -> None:
        self._plan = plan
        self._base = origin.place
        self.known = origin.tree is not None  # else nobody knows what both sides changed
        self.policy = choices.policy.after(plan.card.updates.decisions if self.known else ())
        self._choices = choices
        self._chosen = chosen
        self._card = plan.card
        self._unused = self._unused_parts()
        self._left_over: list[str] = []
        self._edited: list[str] = []
        self._belongings: list[str] = []
        self._own: list[str] = []
        self._shipped: dict[str, Release] = {}
        self.answered: set[str] = set()  # texts of rules that decided something inside a file

    def is_meant(self, path: str) -> bool:
        """Tell whether a path is among what shall be brought."""
        return not self._chosen or any(component.files(path) for component in self._chosen)

    def decide(self, path: PathDecision) -> None:
        """Decide one path."""
        if path.theirs is None or path.theirs.kind == DIR:
            self._gone_in_release(path)
            return
        decision = self._for_offered(path)
        if decision is not None:
            self._plan.take(path.path, path.mine, path.theirs, decision)

    def _unused_parts(self) -> list[Component]:
        """Return the optional parts the install does not use and nobody asked for."""
        updates = self._card.updates
        asked = [updates.component(name) for name in self._choices.also] + self._chosen
        return [
            component
            for component in updates.components.values()
            if component.optional
            and component not in asked
            and any(component.files(path) for path in self._plan.offer.tree.leaves)
            and not any(component.files(path) for path in self._plan.now.leaves)
        ]

    def _for_offered(self, path: PathDecision) -> Decision | None:
        """Return what becomes of a file of the release; None if it was merged with mine."""
        if path.mine is None:
            for component in self._unused:
                if component.files(path.path):
                    return Decision(
                        Outcome.LEFT_ALONE, f"an optional part you do not use: {component}"
                    )
            removed = self.known and path.base is not None
            reason = "you had removed it; the release needs it" if removed else "new in the release"
            return Decision(Outcome.UNCHANGED, reason, put=True)
        if path.changed_by is Side.NOBODY:
            return Decision(Outcome.UNCHANGED, "the same already")
        overwrite = self._card.updates.overwrite
        if overwrite is not None and overwrite(path.path):
            return Decision(
                Outcome.UNCHANGED, "replaced; the card lets a release overwrite it", put=True
            )
        protector = self._card.protected_by(path.path)
        if protector:
            return Decision(Outcome.LEFT_ALONE, f"yours stays: {protector} are protected")
        if not self.known:
            if path.choice is Choice.MINE:
                return Decision(Outcome.LEFT_ALONE, f"yours stays: {path.said}")
            return Decision(Outcome.UNCHANGED, "replaced; the old release is not known", put=True)
        if path.changed_by is Side.THEIRS:
            return Decision(Outcome.UNCHANGED, "replaced; you had not changed it", put=True)
        self._edited.append(path.path)
        if path.changed_by is Side.MINE:
            return Decision(Outcome.LEFT_ALONE, "yours stays: you changed it, the release did not")
        return self._both_changed(path)

    def _both_changed(self, path: PathDecision) -> Decision | None:
        if path.choice is Choice.MINE:
            return Decision(Outcome.LEFT_ALONE, f"yours stays: {path.said}")
        if path.choice is Choice.THEIRS:
            self._plan.findings.append(
                Finding.loss(
                    "overwritten", "your changes to it give way to the release", where=path.path
                )
            )
            return Decision(Outcome.UNCHANGED, f"replaced: {path.said}", put=True)
        why = "both you and the release changed it"
        try:
            return self._merged(path)
        except NotMerged as error:
            self.answered |= error.answered
            sides = digests_of(path.base, path.mine, path.theirs)
            self._plan.findings += error.conflicts(path.path, why, sides, remedy=_DECIDE)
            return Decision(Outcome.CONFLICT, f"{why}, and it cannot be merged: {error.what}")

    def _merged(self, path: PathDecision) -> Decision | None:
        """Merge what is inside a file; return a decision where one side has all of it already."""
        mine, theirs = path.mine, path.theirs
        assert mine is not None and theirs is not None and self._base is not None
        places = self._base, self._plan.install.place, self._plan.offer.place
        sides = list(zip(places, (path.base, mine, theirs), strict=True))
        merged = merge_inside(self._card, path.path, sides, policy=self.policy)
        self.answered |= merged.merge.answered
        if merged.same_as is Side.MINE:
            return Decision(Outcome.LEFT_ALONE, merged.stays("the release"))
        if merged.same_as is Side.THEIRS:
            return Decision(Outcome.UNCHANGED, "replaced: what you changed is in it, too", put=True)
        self._plan.merge(path.path, mine, merged)
        return None

    def _gone_in_release(self, path: PathDecision) -> None:
        if path.mine is None or path.mine.kind == DIR:
            return
        if self._card.category_of(path.path):
            self._belongings.append(path.path)
        elif not self.known:
            self._left_over.append(path.path)
        elif path.base is None:
            self._own.append(path.path)
        elif path.changed_by is Side.THEIRS:
            self._plan.drop(path.path, path.mine, "the new release no longer has it")
        else:
            self._edited.append(path.path)
            self._left_over.append(path.path)

    def tell_leftovers(self, ledger: Ledger) -> None:
        """Find out which of the files that look like the user's own a release left behind long ago."""
        title = self._card.title
        own = [path.removeprefix(f"{PROGRAM}/") for path in (*self._own, *self._left_over)]
        found = left_over(
            own, self._plan.now.under(PROGRAM), ledger.shelf.releases(title), ledger=ledger
        )
        self._shipped = {f"{PROGRAM}/{path}": release for path, release in found.items()}
        self._own = [path for path in self._own if path not in self._shipped]
        self._left_over = [path for path in self._left_over if path not in self._shipped]

    def relocate(self) -> None:
        """Move the user's files that live elsewhere from the new build on."""
        others = [path for path in self._plan.now.leaves if not path.startswith(f"{PROGRAM}/")]
        if not self._chosen:
            own = (*self._belongings, *self._own, *self._left_over, *others)
            moved = self._plan.relocate(own)
            self._left_over = [path for path in self._left_over if path not in moved]

    def findings(self) -> list[Finding]:
        """Return what the person should know beyond the lines."""
        found = []
        if self._unused and not self._chosen:
            unused = [str(component) for component in self._unused]
            what = f"optional and not used, so left out: {listed(unused)} (`with=NAME` brings it)"
            found.append(Finding.note("part-unused", what))
        if self._edited:
            found.append(Finding.note("edited", f"you had changed: {listed(self._edited)}"))
        if self._shipped:
            stale = [f"{path} ({release.name})" for path, release in self._shipped.items()]
            what = f"left over from older releases, which you can remove: {listed(stale)}"
            found.append(Finding.note("left-over", what))
        if self._left_over:
            what = (
                "not in the new release and left alone, as they may be yours or left over from the "
                f"old one: {listed(self._left_over)}"
            )
            found.append(Finding.note("maybe-left-over", what))
        return found
