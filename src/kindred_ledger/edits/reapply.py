"""Reapply: what somebody changed in the files of one release, brought to the files of another.

Three sides: the *base* both came from, *mine*, and *theirs*, the new originals. The result is theirs with my
edits in it. Missing files are edits only where mine is a whole copy; a mod that holds some files removes
none.
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Set
from contextlib import suppress
from typing import NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from ..cards import PROGRAM, Card, Format, Install
from ..changes import Action, Changeset, fitted
from ..convert import MergedFile, NotMerged, merge_inside
from ..errors import DecisionNeeded, KindredError, UsageError
from ..finding import Finding
from ..formats import Document
from ..ledger import Ledger, Tag
from ..merge import Case, Choice, PathDecision, Policy, Rule, digests_of, merge_trees
from ..merge import Side as Who
from ..places import (
    DIR,
    FILE,
    AnyPlace,
    AnySelection,
    MemoryPlace,
    Node,
    Place,
    Tree,
    as_selection,
    as_target,
    capabilities_of,
    read_bytes,
)
from ..planning.deciding import refuse_undecided
from ..progress import Progress
from ..statement import Line, Outcome, Statement
from ..wording import count
from .accounts import APPLIED, SUPERSEDED, TAKEN, Accounts, edits_in
from .agreement import Suggestion, agreed, disagreements
from .origin import find_base
from .sides import Side, opened_side

__all__ = [
    "ReapplyChoices",
    "Target",
    "base_of",
    "card_of",
    "reapply",
    "reapply_sides",
    "whole_copy",
]

OPERATION = "reapply"
_DECIDE = (
    "Decide with `mine=PATTERN` (yours), `theirs=PATTERN` (the new one), of one field with PATTERN:FIELD, or"
    " all with `prefer=SIDE`."
)
_WHOLE, _PART = 0.1, 0.5  # of the base's files may be missing in a copy; must be missing in a part


def _never(path: str) -> bool:
    return False


class ReapplyChoices(Struct, frozen=True):
    """What a person decided beforehand.

    `mine` and `theirs` are patterns of files both sides changed; `rules` are of files and fields, and win;
    `prefer` answers what nothing else does. `whole` says whether mine is a whole copy, so that a file it
    lacks was removed; None finds out. With `agree` counts and the like are set as the card says they must be.

    >>> kl.ReapplyChoices(theirs="*.txt", prefer="mine").preferred
    <Choice.MINE: 'mine'>
    """

    mine: AnySelection = _never
    theirs: AnySelection = _never
    rules: tuple[Rule, ...] = ()
    prefer: Choice | str = ""
    whole: bool | None = None
    agree: bool = False

    @property
    def policy(self) -> Policy:
        """The rules they amount to."""
        ways = ((Choice.THEIRS, self.theirs), (Choice.MINE, self.mine))
        return Policy(
            (*(Rule(choice, as_selection(files) or _never) for choice, files in ways), *self.rules)
        )

    @property
    def preferred(self) -> Choice | None:
        """The side that answers what nothing else does."""
        if not self.prefer:
            return None
        if self.prefer not in (Choice.MINE, Choice.THEIRS):
            raise UsageError(f"{self.prefer!r} is no side", remedy="Prefer mine or theirs.")
        return Choice(self.prefer)


def reapply(
    mine: Install | AnyPlace,
    theirs: Install | AnyPlace,
    *,
    ledger: Ledger,
    old: Install | AnyPlace | None = None,
    into: Install | AnyPlace | None = None,
    card: Card | None = None,
    choices: ReapplyChoices | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that brings my edits to new originals.

    `theirs` is changed in place, unless `into` says where the result goes: a folder, new or not, or the place
    of mine. `old` is the
    release mine was made from; without it the shelf is asked, which needs the `card` of the title.

    Raises:
        UsageError: the base is not known, or it is of another version than mine.
        DecisionNeeded: several releases could be the base, or mine may be a whole copy or a part.
        PlaceError: a side cannot be read.

    >>> old, new = (f"downloads/mossferry-{build}.zip" for build in ("1.4", "2.0"))
    >>> change = kl.reapply(install, new, old=old, into="edited", ledger=ledger)
    >>> line = change.statements[0].lines[0]
    >>> line.item, line.reason
    ('program/data/tides.ini: Tides.spring', 'applied')
    """
    choices = choices or ReapplyChoices()
    card = card or card_of(mine, theirs, into)
    own = opened_side(mine, card, ledger=ledger, progress=progress)
    new = opened_side(theirs, card, ledger=ledger, progress=progress)
    base, told = base_of(own, old, card, ledger=ledger, progress=progress)
    own, missing = whole_copy(own, base, choices.whole)
    target = Target.of(into, new, card, ledger=ledger, progress=progress)
    summary = f"bring the edits of {own.name} to {new.name}"
    told_first = (told, *missing, *_staying(own, target, card))
    return reapply_sides(
        (base, own, new), target, card, choices, summary=summary, findings=told_first
    )


def _staying(own: Side, target: Target, card: Card | None) -> list[Finding]:
    """Note the files that are mine, but no edit of the originals, where the result goes somewhere else."""
    if card is None or target.place.location == own.place.location:
        return []
    mine = [
        path for path in own.whole.leaves if own.whole[path].kind == FILE and path not in own.tree
    ]
    if not mine:
        return []
    kinds = sorted({card.category_of(path) for path in mine} - {""})
    what = f"not brought, as no edits of the originals: {count(len(mine), 'file')}"
    what += f" ({', '.join(kinds)})" if kinds else ""
    return [Finding.note("files-stay", what, remedy="Bring them with kindred carry.")]


def reapply_sides(
    sides: tuple[Side, Side, Side],
    target: Target,
    card: Card | None,
    choices: ReapplyChoices,
    *,
    summary: str,
    operation: str = OPERATION,
    findings: tuple[Finding, ...] = (),
) -> Changeset:
    """Compute the change that brings what differs between two sides to a third; see `reapply`."""
    old, own, new = sides
    plan = _ReapplyPlan(card, old, own, new, choices)
    policy = plan.policy
    known = {*old.tree.leaves, *own.tree.leaves, *new.tree.leaves}
    policy.check_patterns(known)
    for path in merge_trees(old.tree, own.tree, new.tree, policy=policy):
        plan.take(path)
    refuse_undecided(policy, plan.answered)
    plan.agree()
    return fitted(
        Changeset(
            place=target.place,
            operation=operation,
            summary=summary,
            before=target.before,
            actions=tuple(target.actions(plan.result, plan.removed, known)),
            tag=target.tag,
            version_after=new.version.text if new.version is not None else "",
            statements=plan.statements(),
            findings=(*findings, *plan.findings),
        )
    )


def card_of(*sides: Install | AnyPlace | None) -> Card | None:
    """Return the card of the first install among some sides."""
    return next((side.card for side in sides if isinstance(side, Install)), None)


def base_of(
    mine: Side,
    base: Install | AnyPlace | None,
    card: Card | None,
    *,
    ledger: Ledger,
    progress: Progress | None = None,
) -> tuple[Side, Finding]:
    """Open the base, or find it on the shelf; and say what it is.

    Raises:
        UsageError: it is of another version than mine, or nothing tells what it is.
        DecisionNeeded: several releases could be it.
    """
    if base is not None:
        side = opened_side(base, card, ledger=ledger, progress=progress)
        versions = mine.version, side.version
        if None not in versions and versions[0] != versions[1]:
            raise UsageError(
                f"the base is {side.version}, and these files are of {mine.version}",
                where=side.name,
                remedy="Give the release they were made from, or none, so that it is looked for.",
            )
        return side, Finding.note("compared-with", f"made from {side.name}")
    if card is None:
        raise UsageError(
            "it is not known what these files were made from",
            where=mine.name,
            remedy="Say it: `old=WHERE`; or give the card of their title, so that it is looked for on the"
            " shelf.",
        )
    side, match, against = find_base(mine, card, ledger=ledger, progress=progress)
    return side, Finding.note("compared-with", "; ".join([f"made from {match}", *against]))


def whole_copy(mine: Side, base: Side, whole: bool | None) -> tuple[Side, tuple[Finding, ...]]:
    """Return a side in which a file is missing only if it was removed: a part is filled up from the base.

    Raises:
        DecisionNeeded: so many files are missing that nobody can say which it is.
    """
    files = [path for path in base.tree.leaves if base.tree[path].kind == FILE]
    lacking = [path for path in files if path not in mine.tree]
    share = len(lacking) / max(1, len(files))
    if whole is None and lacking:
        if _WHOLE < share < _PART and len(lacking) > 1:
            raise DecisionNeeded(
                f"{len(lacking):,} of {count(len(files), 'file')} of {base.name} are missing here: you"
                " removed them, or this is a part of a copy",
                where=mine.name,
                choices=("`whole=True`: you removed them", "`whole=False`: it is a part"),
            )
        whole = share < _PART
    if whole or not lacking:
        return mine, ()
    there = base.tree.select(lambda path: path not in mine.tree)
    what = f"a part of {base.name}: {len(files) - len(lacking)} of {count(len(files), 'file')}"
    filled = replace(mine, tree=mine.tree.overlay(there))
    return filled, (Finding.note("part-of-a-copy", what),)


class Target(Struct, frozen=True):
    """Where the result goes: the place, all that stands there, what of it the result replaces.

    `strip` is what paths of the sides begin with and those of the place do not.
    """

    place: Place
    before: Tree
    replaced: Tree
    tag: Tag
    strip: str = ""

    @staticmethod
    def of(
        into: Install | AnyPlace | None,
        theirs: Side,
        card: Card | None,
        *,
        ledger: Ledger,
        progress: Progress | None = None,
    ) -> Target:
        """Return the place of theirs, or the one that is named.

        Raises:
            UsageError: theirs is in an archive or the ledger, and nothing is named.
        """
        if into is None:
            if not _is_writable(theirs.place):
                raise UsageError(
                    "the new originals are in an archive or the ledger, which is not changed",
                    where=theirs.name,
                    remedy="Say where the result goes: `into=FOLDER`.",
                )
            return Target(theirs.place, theirs.whole, theirs.tree, _tag(theirs))
        strip = f"{PROGRAM}/" if card is not None else ""
        side = _existing(into, card, ledger, progress)
        if side is not None and isinstance(into, (Install, str, os.PathLike)):
            return Target(side.place, side.whole, side.tree, _tag(side))
        place = as_target(into)  # type: ignore[arg-type]
        before = ledger.scan(place, progress=progress)
        if side is None:
            return Target(place, before, before, getattr(place, "tag", Tag()), strip)
        return Target(place, before, side.tree.under(PROGRAM), _tag(side), strip)

    def actions(
        self, result: Mapping[str, _Put], removed: Mapping[str, str], known: Set[str]
    ) -> list[Action]:
        """Return what turns the place into the result; what no side has, of those `known`, stays there.

        `removed` says why a file is not in the result.
        """
        wanted = {path.removeprefix(self.strip): put for path, put in result.items()}
        told = {path.removeprefix(self.strip) for path in known}
        gone = (told & {*self.replaced.leaves}) - wanted.keys()
        after = {path: node for path, node in self.before.items() if path not in gone}
        after.update({path: put.node for path, put in wanted.items()})
        actions = []
        for each in self.before.diff(Tree(after)):
            put = wanted.get(each.path)
            if each.status == "touched":
                continue
            if put is None:
                why = removed.get(f"{self.strip}{each.path}", _OTHERWISE)
                reason = why if each.after is None else ""
                actions.append(Action(each.path, each.before, each.after, reason=reason))
            else:
                actions.append(
                    Action(each.path, each.before, put.node, put.source, put.path, put.reason)
                )
        return actions


def _tag(side: Side) -> Tag:
    found = side.install.tag if side.install is not None else getattr(side.place, "tag", Tag())
    return found if isinstance(found, Tag) else Tag()


_OTHERWISE = "neither the new originals nor your edits have it"


class _Put(NamedTuple):
    """A file of the result: where its content is, and why it is so."""

    node: Node
    source: Place
    path: str
    reason: str


def _is_writable(place: Place) -> bool:
    caps = capabilities_of(place)
    return caps.remote is not None or bool(caps.folders())


def _existing(
    into: Install | AnyPlace, card: Card | None, ledger: Ledger, progress: Progress | None
) -> Side | None:
    """Open a place to write to that is an install already, such as that of mine; None for a plain folder."""
    if isinstance(into, (str, os.PathLike)):
        full = os.path.expanduser(into)
        if card is None or not os.path.isdir(full) or not card.is_install(full):
            return None
        into = card.open(full)
    if isinstance(into, Install):
        return opened_side(into, card, ledger=ledger, progress=progress)
    if card is None or not card.file.program.markers:
        return None
    tree = into.survey()
    if all(marker in tree for marker in card.file.program.markers):
        return opened_side(into, card, ledger=ledger, progress=progress)
    return None


class _ReapplyPlan:
    """What becomes of each file."""

    def __init__(
        self, card: Card | None, base: Side, mine: Side, theirs: Side, choices: ReapplyChoices
    ) -> None:
        self._card = card
        self._base, self._theirs = base, theirs
        self._own = mine
        self._choices = choices
        self.policy = choices.policy.after(card.updates.decisions if card is not None else ())
        self.result: dict[str, _Put] = {}
        self.removed: dict[str, str] = {}  # why a file is not in the result
        self.accounts = Accounts()
        self.findings: list[Finding] = []
        self.answered: set[str] = set()
        self._inside: list[MergedFile] = []
        self._consistent: list[Statement] = []

    def take(self, path: PathDecision) -> None:
        """Decide about one file."""
        if path.changed_by is Who.NOBODY:
            if path.case is not Case.UNCHANGED:
                self._note_mine(path, SUPERSEDED, Outcome.UNCHANGED)
                self.accounts.file(path.path, "theirs", TAKEN, Outcome.UNCHANGED)
            self._keep_theirs(path)
            return
        if path.changed_by is Who.THEIRS:
            if path.choice is Choice.MINE:  # a rule that is always
                self._use_mine(path, path.said)
                self.accounts.file(
                    path.path, "theirs", f"overridden: {path.said}", Outcome.LEFT_ALONE
                )
                return
            self.accounts.file(path.path, "theirs", TAKEN, Outcome.UNCHANGED)
            self._keep_theirs(path)
            return
        if path.changed_by is Who.MINE:
            if path.choice is Choice.THEIRS:
                self._left_out(path, path.said)
                return
            self._note_mine(path, APPLIED, Outcome.UNCHANGED)
            self._use_mine(path, "yours: only you changed it")
            return
        self._both_changed(path)

    def _note_mine(self, path: PathDecision, reason: str, outcome: Outcome) -> None:
        """Note what becomes of all my edits of one file, each by its name where that is known."""
        names: tuple[str, ...] = ()
        nodes = path.base, path.mine
        if all(node is not None and node.kind == FILE for node in nodes):
            with suppress(KindredError):
                sides = self._base.place, self._own.place
                contents = [read_bytes(place, path.path) for place in sides]
                names = edits_in(path.path, contents[0], contents[1], self._card)
        self.accounts.file(path.path, "mine", reason, outcome, names)

    def _both_changed(self, path: PathDecision) -> None:
        if path.choice is Choice.MINE:
            self._over(path, path.said)
            return
        if path.choice is Choice.THEIRS:
            self._gives_way(path, path.said)
            return
        why = "both you and the new originals changed it"
        try:
            self._merge(path)
        except NotMerged as error:
            self.answered |= error.answered
            preferred = self._choices.preferred
            if preferred is Choice.MINE and not error.questions:
                self._over(path, "you prefer yours")
                return
            if preferred is Choice.THEIRS and not error.questions:
                self._gives_way(path, "you prefer theirs")
                return
            sides = digests_of(path.base, path.mine, path.theirs)
            self.findings += error.conflicts(path.path, why, sides, remedy=_DECIDE)
            reason = f"in conflict: {error.what}"
            self.accounts.file(path.path, "mine", reason, Outcome.CONFLICT)
            self.accounts.file(path.path, "theirs", reason, Outcome.CONFLICT)
            self._keep_theirs(path, "not decided yet")

    def _over(self, path: PathDecision, said: str) -> None:
        self._note_mine(path, f"applied: {said}", Outcome.UNCHANGED)
        self.accounts.file(path.path, "theirs", f"overridden: {said}", Outcome.LEFT_ALONE)
        self._use_mine(path, f"yours: {said}")

    def _gives_way(self, path: PathDecision, said: str) -> None:
        self.findings.append(
            Finding.loss(
                "overwritten", "your changes to it give way to the new one", where=path.path
            )
        )
        self._left_out(path, said)
        self.accounts.file(path.path, "theirs", TAKEN, Outcome.UNCHANGED)

    def _left_out(self, path: PathDecision, said: str) -> None:
        self._note_mine(path, f"left out: {said}", Outcome.LEFT_ALONE)
        self._keep_theirs(path)

    def _merge(self, path: PathDecision) -> None:
        mine, theirs = path.mine, path.theirs
        if mine is None or theirs is None:
            raise NotMerged("one side removed it")
        places = self._base.place, self._own.place, self._theirs.place
        sides = list(zip(places, (path.base, mine, theirs), strict=True))
        merged = merge_inside(self._card, path.path, sides, policy=self._with_preference())
        self.answered |= merged.merge.answered
        self.accounts.merged(path.path, merged.merge)
        self.findings += merged.findings
        self._inside.append(merged)
        if merged.same_as is Who.THEIRS:
            self._keep_theirs(path)
            return
        self.result[path.path] = _Put(merged.node, merged.source, path.path, merged.reason)

    def _with_preference(self) -> Policy:
        preferred = self._choices.preferred
        if preferred is None:
            return self.policy
        any_field = Rule(preferred, lambda path: True, ((),), said=f"you prefer {preferred.value}")
        return Policy((any_field, *self.policy.rules))

    def agree(self) -> None:
        """Look whether the files agree as the card says they must, and have them, if that was asked for."""
        card = self._card
        for path, put in sorted(self.result.items()) if card is not None else ():
            format = card.format_of(path) if card is not None else None
            if format is None or not format.table.agree:
                continue
            with suppress(KindredError):
                document = format.decode(read_bytes(put.source, put.path))
                self._agree(path, put, format, document)

    def _agree(self, path: str, put: _Put, format: Format, document: Document) -> None:
        suggested: list[Suggestion] = []
        for each in disagreements(format, document, other=self._document):
            if isinstance(each, Finding):
                self.findings.append(replace(each, where=path))
            else:
                suggested.append(each)
        made = self._choices.agree
        self.findings += (each.finding(path, made=made) for each in suggested)
        if not (made and suggested):
            return
        data = agreed(format, read_bytes(put.source, put.path), suggested)
        source = MemoryPlace({path: data})
        node = source.survey()[path]._replace(mode=put.node.mode)
        self.result[path] = _Put(node, source, path, f"{put.reason}; made to agree")
        lines = tuple(Line(Outcome.CHANGED, each.name, f"set: {each.why}") for each in suggested)
        names = [each.name for each in suggested]
        books = Statement(f"made to agree in {path}", "edits", lines).balanced(names, names)
        self._consistent.append(books)

    def _document(self, path: str) -> Document | None:
        """Return a file of the result, read by the card; None if it is not there."""
        put = self.result.get(path)
        format = self._card.format_of(path) if self._card is not None else None
        if put is None or format is None:
            return None
        return format.decode(read_bytes(put.source, put.path))

    def _keep_theirs(self, path: PathDecision, reason: str = "of the new originals") -> None:
        if path.theirs is not None and path.theirs.kind != DIR:
            put = _Put(path.theirs, self._theirs.place, path.path, reason)
            self.result[path.path] = put

    def _use_mine(self, path: PathDecision, reason: str) -> None:
        if path.mine is not None and path.mine.kind != DIR:
            self.result[path.path] = _Put(path.mine, self._own.place, path.path, reason)
        else:
            self.removed[path.path] = reason

    def statements(self) -> tuple[Statement, ...]:
        """Return the accounts of the edits of both sides, and of the fields of merged files."""
        inside = (each.merge.statement for each in self._inside)
        return (*self.accounts.statements(), *self._consistent, *inside)
