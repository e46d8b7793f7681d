"""Plan: a computed change as a plain value, which the engine carries out; see `Changeset`.

Making one touches nothing and asks nothing. What always holds in one: every action names what stands there
now and what shall stand there, every folder that must come into being has an action of its own, and nothing
is put below a link or a file.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import cached_property
from operator import attrgetter
from typing import Any

from msgspec import Struct, field
from msgspec.structs import force_setattr

from ..errors import UnsafeName
from ..finding import Finding, Severity, of_severity
from ..ledger import Relation, Tag
from ..notebook import html_table
from ..places import DIR, Node, Place, Tree, is_ours, parents
from ..statement import ALL_OTHERS, MANY, Line, Outcome, Statement
from .actions import Action

__all__ = ["Plan"]

_STEPS = frozenset(("", ".", ".."))  # parts of a path that lead elsewhere


class Plan(Struct, frozen=True, dict=True):
    """What shall change in one place, path by path, and what is to be said of it.

    `before` is the whole tree it was computed from; `offered` is what the operation was given to
    bring, in paths of the place, and `statements[0]` accounts for it (None: nothing is offered).
    Further statements account for other things, such as the fields of converted files. `proof` looks,
    once all is written, whether it is what was meant; what it raises takes the change back; `clear` removes,
    once it is done, what it took contents from. With
    `keep_whole` all the place holds is kept before, not only what the change touches; with `as_kept` what
    is offered stood in one place before, whatever its names. `relations` say what it has to do with entries
    and other changes.
    """

    place: Place
    operation: str
    summary: str
    before: Tree
    actions: tuple[Action, ...]
    tag: Tag = field(default_factory=Tag)
    version_after: str = ""
    offered: Tree | None = None
    statements: tuple[Statement, ...] = ()
    findings: tuple[Finding, ...] = ()
    relations: tuple[Relation, ...] = ()
    proof: Callable[[], None] | None = None
    clear: Callable[[], None] | None = None
    keep_whole: bool = False
    as_kept: bool = False

    def __post_init__(self) -> None:
        complete = [*_missing_folders(self.before, self.actions), *self.actions]
        force_setattr(self, "actions", tuple(sorted(complete, key=attrgetter("path"))))
        _check_structure(self.after, self.actions)

    def __repr__(self) -> str:
        return f"<{type(self).__name__} {self.summary}: {len(self.actions)} actions>"

    def _repr_html_(self) -> str:
        told = [(each.severity.value, each.place, each.what) for each in self.findings]
        found = html_table(("", "where", "what"), told, caption=self.summary)
        return found + self.preview()._repr_html_()

    @property
    def conflicts(self) -> tuple[Finding, ...]:
        """What a person has to decide, or put right, first."""
        return of_severity(self.findings, Severity.CONFLICT)

    @property
    def losses(self) -> tuple[Finding, ...]:
        """What would be lost, which needs consent."""
        return of_severity(self.findings, Severity.LOSS)

    @property
    def warnings(self) -> tuple[Finding, ...]:
        """What may go wrong."""
        return of_severity(self.findings, Severity.WARNING)

    @property
    def notes(self) -> tuple[Finding, ...]:
        """What is worth knowing."""
        return of_severity(self.findings, Severity.NOTE)

    @cached_property
    def after(self) -> Tree:
        """The tree the place shall have."""
        return _changed(self.before, self.actions)

    def to_json(self, *, lines: bool | Callable[[Line], bool] = False) -> dict[str, Any]:
        """Return the changeset as plain values, without contents; `lines` says which lines of its books."""
        return {
            "operation": self.operation,
            "summary": self.summary,
            "place": self.place.location,
            "place_books": self.preview(every=bool(lines)).to_json(lines=lines),
            "books": [statement.to_json(lines=lines) for statement in self.statements],
            "findings": [finding.to_json() for finding in self.findings],
        }

    def preview(self, *, every: bool = False) -> Statement:
        """Return the account of the place as it would be: a line for every file in it.

        Of many files those that stay as they are have one line, unless `every` file shall have its own.
        """
        return self._listed if every else self._account

    @cached_property
    def _account(self) -> Statement:
        leaves = self.before.leaves
        if len(leaves) < MANY:
            return self._listed
        lines = [
            Line(_outcome(action), action.path, action.reason)
            for action in self.actions
            if _is_leaf(action.before) or _is_leaf(action.after)
        ]
        others = len(leaves) - sum(_is_leaf(action.before) for action in self.actions)
        if others:
            lines.append(Line(Outcome.UNCHANGED, ALL_OTHERS, count=others))
        return Statement(self.place.location, "files", tuple(lines))

    @property
    def _listed(self) -> Statement:
        reasons = {action.path: action for action in self.actions}
        lines = []
        for path in sorted({*self.before.leaves, *self.after.leaves}):
            action = reasons.get(path)
            if action is None:
                lines.append(Line(Outcome.UNCHANGED, path))
            else:
                lines.append(Line(_outcome(action), path, action.reason))
        return Statement(self.place.location, "files", tuple(lines))


def _changed(before: Tree, actions: Iterable[Action]) -> Tree:
    puts = {action.path: action.after for action in actions if action.after is not None}
    gone = {action.path for action in actions if action.after is None}
    if not gone:
        return before.overlay(puts)
    return Tree({**{p: node for p, node in before.items() if p not in gone}, **puts})


def _outcome(action: Action) -> Outcome:
    if _is_folder(action.before):
        return Outcome.ADDED
    if _is_folder(action.after):
        return Outcome.REMOVED
    return action.outcome


def _is_leaf(node: Node | None) -> bool:
    return node is not None and node.kind != DIR


def _is_folder(node: Node | None) -> bool:
    return node is not None and node.kind == DIR


def _missing_folders(before: Tree, actions: Iterable[Action]) -> list[Action]:
    known = {action.path for action in actions if action.after and action.after.kind == DIR}
    filled = {action.path.rpartition("/")[0] for action in actions if action.after is not None}
    missing = {
        folder
        for inner in filled
        for folder in (*parents(inner), inner)
        if folder and folder not in known and folder not in before
    }
    reason = "needed for what lies in it"
    return [Action(folder, None, Node(DIR), reason=reason) for folder in sorted(missing)]


def _check_structure(after: Tree, actions: Sequence[Action]) -> None:
    added = {action.path for action in actions if action.before is None}
    closed = {action.path for action in actions if action.before and not _is_folder(action.after)}
    was_folder = any(_is_folder(a.before) and not _is_folder(a.after) for a in actions)
    for path in after if was_folder else added if closed else ():  # below a file nothing was before
        if folder := next((folder for folder in parents(path) if folder in closed), ""):
            raise UnsafeName(
                f"{path} would be left without its folder {folder}",
                remedy="Move it out of the way, then run this again.",
            )
    for action in actions:
        if action.after is not None and is_ours(action.path):
            raise UnsafeName(
                f"{action.path} would lie where this program stages what it changes",
                remedy="Leave it out, or rename it where it comes from.",
            )
    for path in added:
        if path.startswith("/") or not _STEPS.isdisjoint(path.split("/")):
            raise UnsafeName(f"the path {path!r} leaves the place")
    filled = {path.rpartition("/")[0]: path for path in added}
    for inner, path in filled.items():
        for folder in (*parents(inner), inner) if inner else ():
            if after[folder].kind != DIR:
                raise UnsafeName(
                    f"{path} would be put below {folder}, which is a {after[folder].kind}",
                    remedy="Move that out of the way, then run this again.",
                )
