"""Assembling: several parts of a download into one install, or files into a program archive.

What two parts hold alike is one file, what differs is a conflict, and parts that the card promises and
nobody brought are named. Into an archive: what was signed for the old contents would be refused by the
program, so signatures go; the archive is kept whole, and undoing gives back its very bytes.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct

from ..cards import PROGRAM, Card, Install
from ..changes import Action, Changeset, fitted
from ..errors import KindredError
from ..finding import Finding
from ..formats.kinds import misnamed
from ..ledger import Ledger, Tag
from ..merge import Case, Choice, PathDecision, Policy, Rule, merge_trees
from ..places import (
    DIR,
    FILE,
    AnyPlace,
    ItemPlace,
    Node,
    Place,
    Tree,
    ZipPlace,
    as_place,
    capabilities_of,
    check_patterns,
    open_place,
)
from ..planning.combining import Combined, combine
from ..planning.readiness import readiness
from ..progress import Progress
from ..statement import Line, Outcome, Statement
from ..versions import Version
from ..wording import count

__all__ = ["Assembly", "assemble"]

_RISK = (
    "assembled; risk: files that two parts hold in different versions, and parts"
    " nobody noticed were missing"
)
_RISK_ARCHIVE = "into an archive; risk: its signature, and files of it that yours replace"
# Signatures of archives as the JAR File Specification ("Signed JAR File") names them.
_SIGNATURE = re.compile(r"META-INF/(?:[^/]+\.(?:SF|DSA|RSA|EC)|SIG-[^/]*)", re.I)


class Assembly(Struct, frozen=True):
    """How to assemble: which files of the target may give way, and what is dropped from an archive.

    `first` decides, for files that parts hold differently, that the first part's is taken; `card`
    names parts that should be there; `at` is the folder in the target where the parts go.

    >>> how = kl.Assembly(drop="*.txt")
    >>> change = kl.assemble(["server", "handheld"], "together", ledger=ledger, how=how)
    >>> change.preview().counted_after, len(change.actions)
    (None, 14)
    """

    card: Card | None = None
    overwrite: Callable[[str], bool] | None = None
    first: Callable[[str], bool] | None = None
    drop: Callable[[str], bool] | None = None
    at: str = ""


def assemble(
    parts: Sequence[AnyPlace],
    target: AnyPlace,
    *,
    ledger: Ledger,
    how: Assembly | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that lays parts over each other into a folder, new or not, or an archive.

    Raises:
        UsageError: a part holds a link, or something else that is no file.
        UnsafeName, UnsafeArchive: a part is hostile or damaged.
        DecisionNeeded: in one of them two folders could be the title's.

    >>> parts = sorted(glob.glob("downloads/parts/*.zip"))
    >>> change = kl.assemble(parts, "fresh", ledger=ledger, how=kl.Assembly(card=card))
    >>> change.tag.title, len(change.actions), change.conflicts
    ('mossferry', 205, ())
    """
    opened, target = [as_place(part) for part in parts], _target(target)
    how = how or Assembly()
    into_archive = capabilities_of(target).is_archive
    combined = combine(
        opened, ledger=ledger, card=None if into_archive else how.card, progress=progress
    )
    now = ledger.scan(target, progress=progress)
    there = {*now.leaves, *combined.tree.leaves}
    check_patterns(how.overwrite, how.first, how.drop, paths=there)
    top = "/".join(filter(None, (capabilities_of(target).item, how.at)))
    lay = _AssemblyPlan(combined, now, top, how, into_archive)
    lay.all()
    release = None if into_archive else _opened(combined, how.card)
    version = release.version if release else None
    ready = readiness(
        how.card or Card.plain("untitled"),
        target,
        lay.actions,
        before=None,
        after=version,
        ledger=ledger,
    )
    return fitted(
        Changeset(
            place=target,
            operation="assemble",
            summary=f"assemble {count(len(parts), 'part')} into {target.location}",
            before=now,
            actions=tuple(lay.actions),
            tag=Tag(
                how.card.title if how.card else "", version.text if version else "", "its parts"
            ),
            version_after=version.text if version else "",
            offered=lay.offered,
            statements=(Statement("the parts", "files", tuple(lay.lines)),),
            findings=(
                *lay.findings,
                *_missing_parts(how.card, combined.tree, release),
                Finding.note("usual-risk", _RISK_ARCHIVE if into_archive else _RISK),
                *_misnamed(target),
                *lay.noticed(),
                *ready,
            ),
        )
    )


def _target(target: AnyPlace) -> Place:
    """Return the place to assemble into: an archive, or a folder that may come into being, and go."""
    if not isinstance(target, (str, os.PathLike)):
        return as_place(target)
    full = os.path.abspath(os.path.expanduser(target))
    place = open_place(full) if os.path.isfile(full) else ItemPlace(full)
    return ZipPlace(full) if isinstance(place, ZipPlace) else place


class _AssemblyPlan:
    """Lays the combined parts over what is in the target."""

    def __init__(
        self, combined: Combined, now: Tree, top: str, how: Assembly, into_archive: bool
    ) -> None:
        self._combined = combined
        self._now = now
        self._start = f"{top}/" if top else ""
        self._how = how
        self._into_archive = into_archive
        self._torn = {collision.path: collision for collision in combined.collisions}
        self.offered = combined.tree.moved_into(top) if top else combined.tree
        self.actions: list[Action] = []
        self.lines: list[Line] = []
        self.findings: list[Finding] = []
        self._signatures: list[str] = []

    def all(self) -> None:
        """Decide about every path."""
        self.actions += (
            Action(path, None, node, reason="a folder of the parts")
            for path, node in self.offered.items()
            if node.kind == DIR and path not in self._now and path.startswith(self._start)
        )
        policy = Policy((Rule(Choice.THEIRS, self._may_overwrite),))
        here = self._now.select(self.offered.__contains__)
        for decision in merge_trees(Tree(), here, self.offered, policy=policy, known=False):
            if decision.theirs is not None and decision.theirs.kind != DIR:
                self._take(decision, decision.theirs)
        if self._into_archive and self.actions:
            self._drop_signatures()

    def _take(self, decision: PathDecision, node: Node) -> None:
        """Carry out what was decided about a file of the parts."""
        to, here = decision.path, decision.mine
        path = to.removeprefix(self._start)
        if not self._agreed(path, to):
            return
        if decision.case is Case.UNCHANGED:
            self.lines.append(Line(Outcome.UNCHANGED, to, "the same already"))
        elif here is not None and decision.choice is not Choice.THEIRS:
            why = "another one is there"
            self.lines.append(Line(Outcome.CONFLICT, to, why))
            remedy = "Let it give way with `overwrite=PATTERN`, or use another `into=TARGET`."
            self.findings.append(Finding.conflict("occupied", why, where=to, remedy=remedy))
        else:
            reason = "replaces what was there" if here is not None else "from the parts"
            self.lines.append(Line(Outcome.UNCHANGED, to, reason))
            self.actions.append(Action(to, here, node, self._combined.place, path, reason))

    def _agreed(self, path: str, to: str) -> bool:
        """Tell whether the parts agree about a path, or somebody decided for them."""
        torn = self._torn.get(path)
        if torn is None:
            return True
        parts = " and ".join(torn.parts)
        if self._how.first is not None and self._how.first(path):
            lost = f"{torn.parts[1]} has another one, which gives way"
            self.findings.append(Finding.loss("overwritten", lost, where=to))
            return True
        why = f"{parts} hold it in different versions"
        self.lines.append(Line(Outcome.CONFLICT, to, why))
        remedy = "Take the first part's with `first=PATTERN`, or leave a part out."
        self.findings.append(Finding.conflict("parts-differ", why, where=to, remedy=remedy))
        return False

    def _may_overwrite(self, path: str) -> bool:
        if self._how.overwrite is not None:
            return self._how.overwrite(path)
        return self._into_archive  # whose every byte the ledger keeps

    def _drop_signatures(self) -> None:
        drop = self._how.drop
        going = {action.path for action in self.actions}
        for path, node in self._now.items():
            signed = _SIGNATURE.fullmatch(path) is not None
            if node.kind == FILE and path not in going and (signed or (drop and drop(path))):
                self._signatures.append(path)
                reason = "a signature of the old contents" if signed else "you let it go"
                self.actions.append(Action(path, node, None, reason=reason))

    def noticed(self) -> Iterator[Finding]:
        """Yield what the person should know beyond the lines."""
        if self._combined.shared:
            what = f"in more than one part, all alike: {self._combined.shared} of the files"
            yield Finding.note("parts-agree", what)
        if self._combined.extras:
            some = ", ".join(self._combined.extras[:5])
            yield Finding.note("left-out", f"beside the parts lay, and stay out: {some}")
        if self._signatures:
            some = ", ".join(self._signatures[:5])
            yield Finding.note(
                "signature-dropped", f"dropped, as they were of the old contents: {some}"
            )


def _misnamed(target: Place) -> Iterator[Finding]:
    fault = misnamed(target.location, "zip") if capabilities_of(target).is_archive else ""
    if fault:
        yield Finding.note("misnamed", fault)


def _opened(combined: Combined, card: Card | None) -> Install | None:
    """Return what the parts make together; None if that is no release of the title."""
    if card is None or not card.file.program.markers:
        return None
    try:
        return card.open_release(combined.place)
    except KindredError:
        return None


def _missing_parts(card: Card | None, tree: Tree, release: Install | None) -> Iterator[Finding]:
    if card is None:
        return
    lacking = [marker for marker in card.file.program.markers if marker not in tree]
    missing = [f"a part with {marker}" for marker in lacking]
    left_out: list[str] = []
    version: Version | None = release.version if release else None
    for component in card.updates.components.values():
        if any(component.files(f"{PROGRAM}/{path}") for path in tree.leaves):
            continue
        promised = version in component.builds if version is not None else not component.optional
        if promised:
            (left_out if component.optional else missing).append(f"the part {component}")
    if missing:
        yield Finding.warning("part-missing", f"missing, by the card: {', '.join(missing)}")
    if left_out:
        yield Finding.warning("part-left-out", f"optional, and not there: {', '.join(left_out)}")
