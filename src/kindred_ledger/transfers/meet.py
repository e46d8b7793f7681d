"""Meeting: the same person's data on two machines, both changed since they last met.

Three-way, file by file: what both had when they last met, what is here, what the other machine kept. What
only one side did happens here, too, removals among it; what both did to a file is a question, and nothing is
chosen silently. Both machines use one ledger (or a mirror of it): what each kept, and who took in whose
entry, stands there.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import cached_property

from msgspec import Struct

from ..cards import Install, as_install
from ..changes import Action, Changeset, fitted
from ..convert import NotMerged, merge_inside
from ..errors import DecisionNeeded, UsageError
from ..finding import Finding
from ..ledger import Entry, Ledger, Record, TookIn, not_undone, relation_of
from ..merge import Choice, PathDecision, Policy, Rule, Side, digests_of, merge_trees
from ..places import FILE, AnySelection, Every, Node, Tree, archive_of, as_selection, roots_of
from ..planning.deciding import refuse_undecided
from ..planning.mods_after import held_mods, with_mod_findings
from ..planning.naming import beside_name
from ..progress import Progress
from ..statement import Line, Outcome, Statement

__all__ = ["MeetChoices", "meet"]

OPERATION = "meet"
_REMEDY = (
    "Decide with `mine=PATTERN` (yours stays), `theirs=PATTERN` (theirs comes), or `both=PATTERN`"
    " (theirs stands beside yours); of one field with PATTERN:FIELD."
)


def _never(path: str) -> bool:
    return False


class MeetChoices(Struct, frozen=True):
    """What becomes of files that both sides changed: patterns for each way, or rules; later ones win.

    >>> other = kl.Ledger.open("ledger", machine="laptop").backup(install)
    >>> kl.meet(install, ledger=ledger, other=other, choices=kl.MeetChoices(mine="user/*")).conflicts
    ()
    """

    mine: AnySelection = _never
    theirs: AnySelection = _never
    both: AnySelection = _never
    rules: tuple[Rule, ...] = ()

    @property
    def policy(self) -> Policy:
        """The rules they amount to."""
        ways = (Choice.THEIRS, self.theirs), (Choice.MINE, self.mine), (Choice.BOTH, self.both)
        return Policy(
            (*(Rule(choice, as_selection(files) or _never) for choice, files in ways), *self.rules)
        )


def meet(
    install: Install,
    *,
    ledger: Ledger,
    other: Entry | str | None = None,
    categories: str | Iterable[str] = (),
    choices: MeetChoices | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that takes in what another machine did to the same data.

    `other` is what that machine kept; None is the newest entry of another machine. `categories` are what is
    looked at, all of the card if none is named.

    Raises:
        UsageError: there is no entry of another machine, or it is of another title.
        DecisionNeeded: it is of another build.

    >>> other = kl.Ledger.open("ledger", machine="laptop").backup(install)
    >>> kl.meet(install, ledger=ledger, other=other).actions
    ()
    """
    install = as_install(install)
    categories = (categories,) if isinstance(categories, str) else tuple(categories)
    history = _SyncHistory(install, ledger)
    other = ledger.entry(other) if other else history.newest()
    if other.tag.title != install.card.title:
        raise UsageError(f"entry {other.id} is of {other.tag.title or 'no title'}")
    if not other.complete:
        raise UsageError(f"entry {other.id} is of a part only", remedy="Name one of the whole.")
    build = install.sure_version
    if install.card.build(other.tag.version) != build:
        raise DecisionNeeded(
            f"the other machine kept data of {other.tag.version}, here is {build}",
            where=install.place.location,
            remedy="Bring both to one build first; kindred carry brings data over between builds.",
        )
    lasting = [name for name in install.card.categories if name not in install.card.disposable]
    wanted = install.select(categories or lasting)
    base_entry = history.base(other)
    wanted = Every((wanted, _NotLeftOut((other, base_entry) if base_entry else (other,))))
    now = ledger.scan(install.place, progress=progress)
    place = ledger.place(other)
    again = f"To bring one all the same: kindred restore {other.id} --only FOLDER/"
    held = held_mods(install.card, place, place.tree, now, build, remedy=again)
    if held is not None:
        wanted = Every((wanted, held))
    theirs = ledger.tree(other).select(wanted)
    base = ledger.tree(base_entry).select(wanted) if base_entry else Tree()
    ways = choices or MeetChoices()
    ways.policy.check_patterns({*now.leaves, *theirs.leaves})
    policy = ways.policy.after(install.card.updates.decisions)
    found = _MeetPlan(install, ledger, base_entry, other, now, policy)
    for path in merge_trees(base, now.select(wanted), theirs, policy=policy):
        found.take(path)
    refuse_undecided(policy, found.answered)
    since = f"what both had in entry {base_entry.id}" if base_entry else "nothing: they never met"
    change = fitted(
        Changeset(
            place=install.place,
            operation=OPERATION,
            summary=f"merge what {_who(other)} did, from entry {other.id}",
            before=now,
            actions=tuple(found.actions),
            tag=install.tag,
            version_after=build.text,
            offered=found.offered(theirs),
            statements=(
                Statement(f"{_who(other)}, entry {other.id}", "files", tuple(found.lines)),
                *found.statements,
            ),
            findings=(
                Finding.note("compared-with", f"compared with {since}"),
                *found.findings,
                *((held.finding,) if held is not None else ()),
            ),
            relations=(TookIn(other.id),),
        )
    )
    return with_mod_findings(change, install.card, install.version, arriving=True)


class _NotLeftOut(Struct, frozen=True):
    """Paths that none of several entries left out: those are in no tree, and nobody removed them."""

    entries: tuple[Entry, ...]

    def __call__(self, path: str) -> bool:
        return not any(entry.lacks(path) for entry in self.entries)


class _SyncHistory:
    """Who kept what, and who took in whose entries."""

    def __init__(self, install: Install, ledger: Ledger) -> None:
        self._title = install.card.title
        self._here = (ledger.machine, _roots(roots_of(install.place)))
        self._ledger = ledger

    @cached_property
    def _entries(self) -> dict[str, Entry]:
        return {entry.id: entry for entry in self._ledger.entries()}

    def newest(self) -> Entry:
        """Return the newest whole entry of the title that another machine, or place, kept."""
        fitting = [
            entry
            for entry in self._entries.values()
            if entry.tag.title == self._title and entry.complete and entry.reason == "asked"
            if _place_of(entry) != self._here
            if entry.machine != self._here[0] or not archive_of(entry.roots)  # nobody plays there
        ]
        if not fitting:
            raise UsageError(
                f"no other machine kept {self._title} in this ledger",
                where=self._ledger.location,
                remedy="Run kindred backup there, into the same ledger; or bring its mirror here:"
                " kindred ledger mirror OTHER --bring",
            )
        return fitting[-1]

    def base(self, other: Entry) -> Entry | None:
        """Return the latest entry that both sides had: one took in what the other had kept."""
        there = _place_of(other)
        met = [
            brought
            for record in self._standing()
            if (taken := relation_of(record.relations, TookIn)) is not None
            if (brought := self._entries.get(taken.entry)) is not None
            if (_place_of(record), _place_of(brought)) in ((self._here, there), (there, self._here))
            if _place_of(record) == self._here or record.id < other.id
        ]
        return max(met, key=lambda entry: entry.id, default=None)

    def _standing(self) -> list[Record]:
        """Return the meetings that were not taken back."""
        return [r for r in not_undone(self._ledger.records()) if r.operation == OPERATION]


class _MeetPlan:
    """What is done about each file."""

    def __init__(
        self,
        install: Install,
        ledger: Ledger,
        base: Entry | None,
        other: Entry,
        now: Tree,
        policy: Policy,
    ) -> None:
        self._install = install
        self._base = ledger.place(base) if base is not None else None
        self._policy = policy
        self._source = ledger.place(other)
        self._who = _who(other)
        self._now = now
        self._named: dict[str, str] = {}  # of what stands beside, its name there
        self.actions: list[Action] = []
        self.lines: list[Line] = []
        self.answered: set[str] = set()  # texts of rules that decided something inside a file
        self.statements: list[Statement] = []
        self.findings: list[Finding] = []

    def take(self, path: PathDecision) -> None:
        """Decide about one file."""
        if path.changed_by is Side.NOBODY:
            self._line(path, Outcome.UNCHANGED, "the same here")
        elif path.changed_by is Side.MINE:
            self._line(path, Outcome.LEFT_ALONE, "yours stays: only you changed it")
        elif path.changed_by is Side.THEIRS:
            self._put(path, f"only {self._who} changed it")
        elif path.choice is Choice.BOTH and path.theirs and path.mine:
            self._beside(path.path, path.theirs)
        elif path.choice is Choice.MINE:
            self._line(path, Outcome.LEFT_ALONE, f"yours stays: {path.said}")
        elif path.choice is Choice.THEIRS:
            lost = f"what {self._who} has takes its place"
            self.findings.append(Finding.loss("overwritten", lost, where=path.path))
            self._put(path, path.said)
        else:
            why = f"both you and {self._who} {_verb(path)} it"
            try:
                self._merge(path)
                return
            except NotMerged as error:
                self.answered |= error.answered
                sides = digests_of(path.base, path.mine, path.theirs)
                self.findings += error.conflicts(path.path, why, sides, remedy=_REMEDY)
                why = f"{why}, and it cannot be merged: {error.what}"
                self._line(path, Outcome.CONFLICT, why)

    def _merge(self, path: PathDecision) -> None:
        """Put together what both did inside a file."""
        if self._base is None or path.mine is None or path.theirs is None:
            raise NotMerged("what both had before is not known")
        places = self._base, self._install.place, self._source
        sides = list(zip(places, (path.base, path.mine, path.theirs), strict=True))
        merged = merge_inside(self._install.card, path.path, sides, policy=self._policy)
        self.answered |= merged.merge.answered
        if merged.same_as is Side.MINE:
            self._line(path, Outcome.LEFT_ALONE, merged.stays(self._who))
            return
        self.actions.append(
            Action(path.path, path.mine, merged.node, merged.source, path.path, merged.reason)
        )
        self._line(path, Outcome.CHANGED, merged.reason)
        self.findings += merged.findings
        self.statements.append(merged.merge.statement)

    def offered(self, theirs: Tree) -> Tree:
        """Return what the other side brings, under the names it has here."""
        return Tree({self._named.get(p, p): n for p, n in theirs.items() if n.kind != "dir"})

    def _line(self, path: PathDecision, outcome: Outcome, reason: str) -> None:
        if path.theirs is not None and path.theirs.kind != "dir":
            self.lines.append(Line(outcome, path.path, reason))

    def _put(self, path: PathDecision, reason: str) -> None:
        theirs = path.theirs
        if theirs is None or theirs.kind == "dir":
            self.actions.append(Action(path.path, path.mine, None, reason=f"removed: {reason}"))
            return
        source = self._source if theirs.kind == FILE else None
        self.actions.append(Action(path.path, path.mine, theirs, source, path.path, reason))
        self._line(path, Outcome.UNCHANGED, reason)

    def _beside(self, path: str, theirs: Node) -> None:
        name = beside_name(path, self._who, taken=self._now.__contains__)
        self._named[path] = name
        reason = f"stands beside yours, which is {path.rpartition('/')[2]}"
        self.actions.append(Action(name, None, theirs, self._source, path, reason))
        self.lines.append(Line(Outcome.UNCHANGED, name, reason))


def _verb(path: PathDecision) -> str:
    if path.mine is None or path.theirs is None:
        return "changed, and one of you removed,"
    return "changed" if path.base is not None else "made"


def _who(entry: Entry) -> str:
    return entry.machine or "the other machine"


def _place_of(kept: Entry | Record) -> tuple[str, tuple[tuple[str, str], ...]]:
    return kept.machine, _roots(kept.roots)


def _roots(roots: Mapping[str, str]) -> tuple[tuple[str, str], ...]:
    return tuple(sorted(roots.items()))
