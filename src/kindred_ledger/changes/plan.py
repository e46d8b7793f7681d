"""Plan: a computed change as a plain value, which the engine carries out; see `Changeset`."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from functools import cached_property

from msgspec import Struct, field

from ..finding import Finding, Severity, of_severity
from ..ledger import Tag
from ..places import DIR, Node, Place, Tree
from ..statement import ALL_OTHERS, MANY, Line, Outcome, Statement
from .actions import Action

__all__ = ["Plan"]


class Plan(Struct, frozen=True, dict=True):
    """What shall change in one place, path by path, and what is to be said of it.

    `before` is the whole tree it was computed from; `offered` is what the operation was given to
    bring, in paths of the place, and `statements[0]` accounts for it (None: nothing is offered).
    Further statements account for other things, such as the fields of converted files. `proof` looks,
    once all is written, whether it is what was meant; what it raises takes the change back. With
    `keep_whole` all the place holds is kept before, not only what the change touches; with `as_kept` what
    is offered stood in one place before, whatever its names. `brings` is the
    entry of another machine that is taken in; `other` are the roots of another place from which files come
    as they are, and `common` is what both will hold.
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
    undoes: str = ""
    proof: Callable[[], None] | None = None
    keep_whole: bool = False
    as_kept: bool = False
    brings: str = ""
    other: Mapping[str, str] = field(default_factory=dict)
    common: Tree = field(default_factory=Tree)

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
            lines.append(Line(Outcome.KEPT, ALL_OTHERS, count=others))
        return Statement(self.place.location, "files", tuple(lines))

    @property
    def _listed(self) -> Statement:
        reasons = {action.path: action for action in self.actions}
        lines = []
        for path in sorted({*self.before.leaves, *self.after.leaves}):
            action = reasons.get(path)
            if action is None:
                lines.append(Line(Outcome.KEPT, path))
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
        return Outcome.DROPPED
    return action.outcome


def _is_leaf(node: Node | None) -> bool:
    return node is not None and node.kind != DIR


def _is_folder(node: Node | None) -> bool:
    return node is not None and node.kind == DIR
