"""Carrying files as they are, between any two places: a folder and a rented server, a card, an archive.

Three-way where it can be: what both places held when files last went between them (the history says it),
what the source has now, what the target has now. What only the source changed arrives; what only the
target changed stays; what both changed, or what nobody knows the past of, is asked about, never replaced
unasked. Nothing is converted: for that there are installs, cards and categories; see `carry`.
"""

from __future__ import annotations

from ..cards import Card
from ..changes import Action, Changeset, fitted
from ..convert import unread_by
from ..finding import Finding
from ..ledger import BothHold, Ledger, Tag, not_undone, relation_of
from ..merge import Choice, PathDecision, Side, merge_trees
from ..places import (
    DIR,
    FILE,
    LINK,
    AnyPlace,
    AnySelection,
    Node,
    Place,
    Tree,
    as_place,
    as_selection,
    check_selected,
    folded,
    limits_at,
    limits_by_part_of,
    parents,
    roots_of,
)
from ..planning.naming import beside_name
from ..progress import Progress
from ..statement import Line, Outcome, Statement
from .carry import CarryChoices

__all__ = ["carry_files", "known_as"]

_REMEDY = (
    "Let it give way with `overwrite=PATTERN`, keep it with `keep=PATTERN`, or have both with"
    " `both=PATTERN`."
)


def carry_files(
    source: AnyPlace,
    target: AnyPlace,
    *,
    ledger: Ledger,
    only: AnySelection = None,
    choices: CarryChoices | None = None,
    exact: bool = False,
    tag: Tag | None = None,
    card: Card | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that brings the files of one place, or those that are wanted, into another.

    `exact` also removes what the source had when files last went between the two, and has no more. `tag`
    says what the target holds; None takes what it was last kept as. With the `card` of that title, what the
    target's build does not read is a loss, and needs consent.

    Raises:
        PlaceError: one of them cannot be read.

    >>> change = kl.carry_files("handheld", "server", ledger=ledger, only="*.pocket")
    >>> [action.path for action in change.actions]
    ['evening.pocket']
    """
    source, target, wanted = as_place(source), as_place(target), as_selection(only)
    chosen = wanted or (lambda path: True)
    theirs = ledger.scan(source, progress=progress)
    now = ledger.scan(target, progress=progress)
    there = {*theirs.leaves, *now.leaves}
    check_selected(wanted, there)
    ways = choices or CarryChoices()
    ways.policy.check_patterns(there)
    plan = _CarryPlan(source, target, now, exact=exact)
    offered = plan.as_spelled_there(theirs.select(chosen))
    base, since = _common(ledger, source, target)
    base = plan.as_spelled_there(base.select(lambda path: path in offered or chosen(path)))
    tag = tag or known_as(target, ledger=ledger)
    known = now.select(lambda path: path in offered or path in base)
    for path in merge_trees(base, known, offered, policy=ways.policy):
        plan.take(path)
    compared = f"compared with {since}" if since else "no files went between the two before"
    findings = [Finding.note("compared-with", compared), *plan.findings]
    findings += _unread(card, source, plan.actions, tag)
    if plan.stay:
        some = ", ".join(plan.stay[:3]) + (f" +{len(plan.stay) - 3}" if plan.stay[3:] else "")
        what = f"the source has these no more, and there they stay (or `exact=True`): {some}"
        findings.append(Finding.note("files-stay", what))
    return fitted(
        Changeset(
            place=target,
            operation="carry",
            summary=f"carry files from {source.location}",
            before=now,
            actions=(*plan.actions, *plan.folders(offered)),
            tag=tag,
            version_after=tag.version,
            offered=Tree({plan.names.get(p, p): n for p, n in offered.items() if n.kind != DIR}),
            statements=(Statement(source.location, "files", tuple(plan.lines)),),
            findings=tuple(findings),
            relations=(BothHold(roots_of(source), Tree(plan.common)),),
        )
    )


def _common(ledger: Ledger, source: Place, target: Place) -> tuple[Tree, str]:
    """Return what both places held when files last went between them, and what is to be said of that."""
    here, there = roots_of(source), roots_of(target)
    base, last = Tree(), ""
    for record in not_undone(ledger.records()):
        shared = relation_of(record.relations, BothHold)
        if shared is None or record.machine != ledger.machine:
            continue
        if (dict(record.roots), dict(shared.roots)) in ((there, here), (here, there)):
            whole = ledger.record(record.id)
            gone = {path for path in whole.paths if path not in whole.after}
            held = relation_of(whole.relations, BothHold)
            both = base.overlay(held.tree if held is not None else Tree())
            base = both.select((both.keys() - gone).__contains__)
            last = f"what both held after change {record.id}"
    return base, last


def _unread(card: Card | None, source: Place, actions: list[Action], tag: Tag) -> list[Finding]:
    """Return what of what arrives the target's build does not read."""
    if card is None or not tag.version:
        return []
    arriving = {a.source_path: a for a in actions if a.source is not None and a.after is not None}
    tree = Tree({path: action.after for path, action in arriving.items() if action.after})
    unread = unread_by(card, source, tree, build=card.build(tag.version))
    return [
        Finding.loss(
            "not-read", f"{card.name} {tag.version} does not read {what}", where=arriving[path].path
        )
        for what, paths in unread.items()
        for path in paths
    ]


def known_as(place: Place, *, ledger: Ledger) -> Tag:
    """Return the tag under which a place was last kept."""
    roots = roots_of(place)
    entries = (entry for entry in reversed(ledger.entries()) if dict(entry.roots) == roots)
    return next((entry.tag for entry in entries), Tag())


class _CarryPlan:
    """What is carried, file by file."""

    def __init__(self, source: Place, target: Place, now: Tree, *, exact: bool) -> None:
        self._source = source
        self._now = now
        self._exact = exact
        self._spelled = {folded(path): path for path in now}
        self._from: dict[str, str] = {}  # of those spelled otherwise in the target, their path here
        self._limits_by_part = limits_by_part_of(target)
        self.names: dict[str, str] = {}  # of those that stand beside, their name
        self.actions: list[Action] = []
        self.lines: list[Line] = []
        self.findings: list[Finding] = []
        self.common: dict[str, Node] = {}
        self.stay: list[str] = []

    def as_spelled_there(self, tree: Tree) -> Tree:
        """Return a tree under the names the target has for the same, which may differ in case only."""
        spelled: dict[str, Node] = {}
        for path, node in tree.items():
            there = path if path in self._now else self._spelled.get(folded(path), path)
            if there == path:
                for folder in reversed(list(parents(path))):
                    known = self._spelled.get(folded(folder), folder)
                    if known != folder:
                        there = known + path[len(folder) :]
                        break
            if there != path:
                self._from[there] = path
            spelled[there] = node
        return Tree(spelled)

    def take(self, path: PathDecision) -> None:
        """Decide about one file."""
        if path.theirs is None or path.theirs.kind == DIR:
            if path.mine is not None and path.base is not None:
                self._gone(path)
            return
        why = limits_at(self._limits_by_part, path.path).why_not(path.path, path.theirs)
        if why or path.theirs.kind not in (FILE, LINK):
            self._line(path, Outcome.LEFT_ALONE, why or "neither file nor link")
        elif path.changed_by is Side.NOBODY:
            self.common[path.path] = path.theirs
            self._line(path, Outcome.UNCHANGED, "the same there")
        elif path.changed_by is Side.THEIRS:
            self._put(path, "changed here" if path.base is not None else "new")
        elif path.changed_by is Side.MINE:
            self._line(path, Outcome.LEFT_ALONE, "only the target changed it, so it stays")
        else:
            self._choose(path)

    def _choose(self, path: PathDecision) -> None:
        if path.choice is Choice.MINE:
            self._line(path, Outcome.LEFT_ALONE, "the target's own stays: you decided so")
        elif path.choice is Choice.BOTH:
            if path.mine is not None:
                self._beside(path)
            else:
                self._put(path, "you decided so")
        elif path.choice is Choice.THEIRS:
            if path.mine is not None:
                self.findings.append(
                    Finding.loss("overwritten", "the target's own gives way", where=path.path)
                )
            self._put(path, "you decided so")
        else:
            if path.mine is None:
                why = "it was removed there, and changed here"
            elif path.base is None:
                why = "the target has another one"
            else:
                why = "both changed it since files last went between them"
            self._line(path, Outcome.CONFLICT, why)
            code = "occupied" if path.base is None else "both-changed"
            self.findings.append(Finding.conflict(code, why, where=path.path, remedy=_REMEDY))

    def _gone(self, path: PathDecision) -> None:
        if path.changed_by is not Side.THEIRS:
            return  # the target made another one of it; it is its own
        if not self._exact:
            self.stay.append(path.path)
            return
        reason = "the source has it no more"
        self.findings.append(Finding.loss("removed", reason, where=path.path))
        self.actions.append(Action(path.path, path.mine, None, reason=reason))

    def folders(self, offered: Tree) -> list[Action]:
        """Return the actions for empty folders of the source that are not there yet."""
        return [
            Action(path, None, node, reason="a folder of the source")
            for path, node in offered.items()
            if node.kind == DIR and path not in self._now
        ]

    def _line(self, path: PathDecision, outcome: Outcome, reason: str) -> None:
        self.lines.append(Line(outcome, path.path, reason))

    def _put(self, path: PathDecision, reason: str, name: str = "") -> None:
        node = path.theirs
        assert node is not None
        at = name or path.path
        source = self._source if node.kind == FILE else None
        before = None if name else path.mine
        self.actions.append(
            Action(at, before, node, source, self._from.get(path.path, path.path), reason)
        )
        self.lines.append(Line(Outcome.UNCHANGED, at, reason))
        if not name:
            self.common[at] = node

    def _beside(self, path: PathDecision) -> None:
        label = self._source.location.rstrip("/").rpartition("/")[2]
        name = beside_name(path.path, label, taken=self._now.__contains__)
        self.names[path.path] = name
        self._put(path, f"stands beside the target's own {path.path.rpartition('/')[2]}", name)
