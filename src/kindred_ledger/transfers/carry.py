"""Carrying: chosen categories from one install to another, into a form the other can read.

Data of a newer build does not go to an older one unless the older build reads it or a route of
the card leads back. Data of another title goes to a variant of it, if the variant's card says that it
reads such. What stands in the target and differs is a conflict, never overwritten unasked: it gives way,
stays, stands beside what arrives, or is merged with it key by key, as a person says.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct

from ..cards import Install, as_install
from ..changes import Action, Changeset, fitted
from ..convert import Fitted, fit_among, fit_file
from ..errors import KindredError, UsageError
from ..finding import Finding
from ..ledger import Ledger
from ..merge import Case, Choice, PathDecision, Policy, Rule, decide_path
from ..places import (
    DIR,
    FILE,
    LINK,
    AnySelection,
    MemoryPlace,
    Node,
    Tree,
    as_selection,
    check_selected,
    parents,
    read_bytes,
    roots_of,
)
from ..planning.mods_after import with_mod_findings
from ..planning.naming import beside_name
from ..progress import Progress
from ..statement import Line, Outcome, Statement
from ..versions import Version
from .merging import merge_settings

__all__ = ["CarryChoices", "carry"]

_REMEDY = (
    "Let it give way with `overwrite=PATTERN`, keep it with `keep=PATTERN`, have both with"
    " `both=PATTERN`"
)
_OR_MERGE = "or merge settings key by key with `merge=PATTERN`."


def _never(path: str) -> bool:
    return False


class CarryChoices(Struct, frozen=True):
    """What becomes of files of the target that differ from what arrives: patterns for each way.

    `overwrite`: they give way; `keep`: they stay, and what would arrive is held; `both`: what arrives
    gets a name with its build; `merge`: settings, key by key.

    >>> choices, second = kl.CarryChoices(overwrite="*"), card.open("second/mossferry")
    >>> kl.carry(install, second, "settings", ledger=ledger, choices=choices).conflicts
    ()
    """

    overwrite: AnySelection = _never
    keep: AnySelection = _never
    both: AnySelection = _never
    merge: AnySelection = _never

    @property
    def policy(self) -> Policy:
        """The rules they amount to: the target's own is mine."""
        ways = (
            (Choice.THEIRS, self.overwrite),
            (Choice.BOTH, self.both),
            (Choice.MERGE, self.merge),
            (Choice.MINE, self.keep),
        )
        return Policy(tuple(Rule(choice, as_selection(files) or _never) for choice, files in ways))


def carry(
    source: Install,
    target: Install,
    categories: str | Sequence[str],
    *,
    ledger: Ledger,
    only: AnySelection = None,
    choices: CarryChoices | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that brings categories of one install into another.

    `choices` says what becomes of files of the target that differ.

    Raises:
        UsageError: the installs are of different titles, or a category or part is not there.
        DecisionNeeded: a version is not certain.

    >>> change = kl.carry(install, card.open("second/mossferry"), "saves", ledger=ledger)
    >>> len(change.losses)
    4
    >>> change.apply(ledger, allow_loss=True).statements[0].totals()["added"]
    4
    """
    source, target, chosen_by = as_install(source), as_install(target), as_selection(only)
    categories = (categories,) if isinstance(categories, str) else tuple(categories)
    adopted = target.card.reads_of(source.card)
    if adopted is None and source.card.title != target.card.title:
        raise UsageError(
            f"{source.card.name} and {target.card.name} are different titles",
            remedy="Carry between installs of one title, or let the card of the one say that it is"
            " a `[variant]` of the other.",
        )
    wanted = source.select(categories)
    theirs = ledger.scan(source.place, progress=progress)
    now = ledger.scan(target.place, progress=progress)
    chosen = theirs.select(lambda path: wanted(path) and (chosen_by is None or chosen_by(path)))
    check_selected(chosen_by, theirs.select(wanted).leaves)
    ways = choices or CarryChoices()
    there = {*chosen.leaves, *now.leaves}
    ways.policy.check_patterns(there)
    _check_parts(chosen, target)
    missing = _check_categories(source, categories, chosen)
    plan = _CarryPlan(source, target, now, ways, adopted)
    with (progress or Progress()).task("fitting", total=len(chosen.leaves)) as task:
        for path in chosen.leaves:
            plan.take(path, chosen[path])
            task.advance()
    change = fitted(
        Changeset(
            place=target.place,
            operation="carry",
            summary=f"carry {', '.join(categories)} from {source.place.location}",
            before=now,
            actions=(*plan.actions(), *_folders(chosen, now, plan.held)),
            tag=target.tag,
            version_after=target.tag.version,
            offered=Tree(
                {
                    **{p: n for p, n in chosen.items() if n.kind != DIR and p not in plan.renamed},
                    **plan.nodes,
                }
            ),
            statements=(
                Statement(f"{source.card.name} {source.sure_version}", "files", tuple(plan.lines)),
                *plan.statements,
            ),
            findings=(*missing, *dict.fromkeys(plan.findings)),
        )
    )
    return with_mod_findings(change, target.card, target.version, arriving=True)


class _CarryPlan:
    """What is carried, file by file."""

    def __init__(
        self,
        source: Install,
        target: Install,
        now: Tree,
        choices: CarryChoices,
        adopted: Mapping[str, Sequence[Version]] | None,
    ) -> None:
        self._source = source
        self._target = target
        self._now = now
        self._policy = choices.policy
        self._build = target.sure_version
        self._adopted = adopted
        self._newer = adopted is None and source.sure_version > self._build
        self._contents: dict[str, bytes] = {}
        self._puts: list[tuple[str, Node, str]] = []
        self._froms: dict[str, str] = {}  # of those that arrive under another name
        self.nodes: dict[str, Node] = {}
        self.held: set[str] = set()
        self.renamed: set[str] = set()
        self.lines: list[Line] = []
        self.statements: list[Statement] = []
        self.findings: list[Finding] = []

    def take(self, path: str, node: Node) -> None:
        """Decide about one file of the source."""
        if node.kind == LINK:
            self._hold(path, "links are not carried between installs")
            return
        if path in self._now and self._decide(path, node).choice is Choice.MINE:
            self._hold(path, "the target's own stays: you decided so")
            return
        try:
            fitted = self._fit(path, node)
        except KindredError as error:
            self._hold(path, f"{error.what}. {error.remedy}".strip(". "))
            return
        if fitted is None and self._newer:
            what = "it goes to an older build as it is; the card does not describe its format"
            self.findings.append(Finding.note("not-converted", what, where=path))
        outcome, reason = Outcome.UNCHANGED, "arrives as it is"
        if fitted is not None and fitted.converted is not None:
            made = fitted.converted
            outcome = Outcome.CHANGED
            reason = f"{fitted.format.name} {made.source} is now {made.target}"
            self._contents[path] = made.data
            node = MemoryPlace({path: made.data}).survey()[path]._replace(mode=node.mode)
            self.nodes[path] = node
            self.statements.append(made.statement)
            self.findings += made.findings
        self._put(path, node, outcome, reason)

    def _decide(self, path: str, node: Node) -> PathDecision:
        """Decide between the target's own file and what arrives; nobody knows what both came from."""
        return decide_path(
            path, base=None, mine=self._now.get(path), theirs=node, policy=self._policy, known=False
        )

    def actions(self) -> list[Action]:
        """Return the actions for what arrives."""
        made = MemoryPlace(self._contents)
        return [
            Action(
                path,
                self._now.get(path),
                node,
                made if path in self._contents else self._source.place,
                path if path in self._contents else self._froms.get(path, path),
                reason,
            )
            for path, node, reason in self._puts
        ]

    def _fit(self, path: str, node: Node) -> Fitted | None:
        format = self._source.card.format_of(path) if node.kind == FILE else None
        if self._adopted is not None:
            name = format.name if format is not None else "such files"
            if format is None or name not in self._adopted:
                raise UsageError(
                    f"{self._target.card.name} reads no {name} of {self._source.card.name}"
                )
            data = read_bytes(self._source.place, path)
            return fit_among(
                format, path, data, versions=self._adopted[name], written_by=self._source.version
            )
        if format is None:
            return None
        data = read_bytes(self._source.place, path)
        return fit_file(self._source.card, path, data, self._build, written_by=self._source.version)

    def _put(self, path: str, node: Node, outcome: Outcome, reason: str) -> None:
        if path not in self._now:  # there is nothing to decide
            self._arrive(path, node, outcome, reason)
            return
        decision = self._decide(path, node)
        if decision.case is Case.UNCHANGED:
            self.lines.append(Line(outcome, path, reason))
        elif decision.choice is Choice.MERGE:
            self._merge(path, node)
        elif decision.choice is Choice.BOTH:
            self._beside(path, node, outcome, reason)
        elif decision.choice is Choice.THEIRS:
            self.findings.append(
                Finding.loss("overwritten", "the target's own gives way", where=path)
            )
            self._arrive(path, node, outcome, reason)
        else:
            self._ask(path, "the target has another one")

    def _arrive(self, path: str, node: Node, outcome: Outcome, reason: str) -> None:
        self._puts.append((path, node, reason))
        self.lines.append(Line(outcome, path, reason))

    def _ask(self, path: str, why: str, remedy: str = f"{_REMEDY}, {_OR_MERGE}") -> None:
        self.lines.append(Line(Outcome.CONFLICT, path, why))
        self.findings.append(Finding.conflict("occupied", why, where=path, remedy=remedy))

    def _beside(self, path: str, node: Node, outcome: Outcome, reason: str) -> None:
        """Have a file arrive under a name of its own, with the build it is from."""
        taken = {*self._now, *self.nodes}
        name = beside_name(path, self._source.sure_version.text, taken=taken.__contains__)
        self._froms[name] = path
        self.renamed.add(path)
        self.nodes[name] = node
        if path in self._contents:
            self._contents[name] = self._contents.pop(path)
            self.nodes.pop(path)
        why = f"{reason}, beside the target's own {path.rpartition('/')[2]}"
        self._arrive(name, node, outcome, why)

    def _merge(self, path: str, node: Node) -> None:
        """Put the values of what arrives into the target's own file."""
        format = self._target.card.format_of(path)
        if format is None or node.kind != FILE:
            self._ask(path, "it cannot be merged: the card does not say what is in it", _REMEDY)
            return
        arrives = self._contents.get(path)
        mine = arrives if arrives is not None else read_bytes(self._source.place, path)
        theirs = read_bytes(self._target.place, path)
        try:
            merged = merge_settings(format, mine, theirs, name=path)
        except KindredError as error:
            where = f"{error.where}: " if error.where and error.where != path else ""
            self._ask(path, f"it cannot be merged: {where}{error.what}", _REMEDY)
            return
        self._contents[path] = merged.data
        made = MemoryPlace({path: merged.data}).survey()[path]
        self.nodes[path] = made._replace(mode=self._now[path].mode)
        self.statements.append(merged.statement)
        counts = merged.statement.totals()
        said = f"merged key by key: {counts['unchanged']} of your values"
        if counts["added"]:
            said += f", {counts['added']} of its own"
        self._puts.append((path, self.nodes[path], said))
        self.lines.append(Line(Outcome.CHANGED, path, said))
        self.findings += merged.noticed(path)
        if merged.lost:
            what = "the comments of the target stay, yours do not come along"
            self.findings.append(Finding.note("comments-stay", what, where=path))

    def _hold(self, path: str, reason: str) -> None:
        self.held.add(path)
        self.lines.append(Line(Outcome.LEFT_ALONE, path, reason))


def _check_categories(source: Install, categories: Iterable[str], chosen: Tree) -> list[Finding]:
    """Return what is to be said of categories of which nothing is there."""
    findings = []
    for name in categories:
        wanted = source.card.categories[name]
        if not any(wanted(path) for path in chosen.leaves):
            if source.card.file.categories[name].required:
                why = "nothing of it is in the source, and the card requires it"
                remedy = "Look whether this is the right install."
                findings.append(Finding.conflict("category-empty", why, where=name, remedy=remedy))
            else:
                findings.append(Finding.note("category-empty", f"the source has no {name}"))
    return findings


def _check_parts(chosen: Tree, target: Install) -> None:
    there = roots_of(target.place)
    for part in sorted({path.partition("/")[0] for path in chosen.leaves}):
        if part not in there:
            raise UsageError(
                f"the target has no {part} folder yet",
                where=target.place.location,
                remedy="Start the game there once so that it makes its folders, then run this again.",
            )


def _folders(chosen: Tree, now: Tree, held: set[str]) -> list[Action]:
    """Return the actions for folders that are not there yet, but for those of which all is held."""
    came = {part for path in chosen.leaves if path not in held for part in parents(path)}
    stays = {part for path in held for part in parents(path)} - came
    return [
        Action(path, None, node, reason="a folder of the source")
        for path, node in chosen.items()
        if node.kind == DIR and path not in now and path not in stays
    ]
