"""Merging trees: path by path, whose file it is. What is inside files both changed is another matter."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from ..finding import Sides
from ..places import DIR, Node, Tree, same_content
from .policy import Choice, Policy, Rule
from .sides import ABSENT, Case, Side, case_of

__all__ = ["PathDecision", "decide_path", "digests_of", "merge_trees"]

_NO_RULES = Policy()


class PathDecision(Struct, frozen=True):
    """One path on three sides, None where a side has nothing there; its row, and the rule that answers it."""

    path: str
    base: Node | None
    mine: Node | None
    theirs: Node | None
    case: Case
    rule: Rule | None = None

    @property
    def changed_by(self) -> Side:
        """Who changed the path since the base."""
        return self.case.changed_by

    @property
    def choice(self) -> Choice | None:
        """What the policy says; None if it says nothing."""
        return self.rule.choice if self.rule is not None else None

    @property
    def said(self) -> str:
        """Who says so: the reason of the rule; empty without one."""
        return self.rule.said if self.rule is not None else ""


def merge_trees(
    base: Tree, mine: Tree, theirs: Tree, *, policy: Policy = _NO_RULES, known: bool = True
) -> Iterator[PathDecision]:
    """Yield a decision for every path of three trees, in order, folders left out.

    `known` False says that there is no base; see `case_of`.
    """
    for path in sorted(base.keys() | mine.keys() | theirs.keys()):
        b, m, t = base.get(path), mine.get(path), theirs.get(path)
        if any(node is not None and node.kind != DIR for node in (b, m, t)):
            yield decide_path(path, base=b, mine=m, theirs=t, policy=policy, known=known)


def decide_path(
    path: str,
    *,
    base: Node | None,
    mine: Node | None,
    theirs: Node | None,
    policy: Policy = _NO_RULES,
    known: bool = True,
) -> PathDecision:
    """Return the decision for one path; see `merge_trees`."""
    b, m, t = (ABSENT if node is None else node for node in (base, mine, theirs))
    case = case_of(b, m, t, same=same_content, known=known)
    return PathDecision(
        path,
        base,
        mine,
        theirs,
        case,
        policy.for_file(path, case, lambda: digests_of(base, mine, theirs)),
    )


def digests_of(*nodes: Node | None) -> Sides:
    """Return what tells three versions of a file apart: the digests, or the kind of what is no file."""
    base, mine, theirs = (
        "" if node is None else node.digest.hex() if node.digest else f"{node.kind} {node.target}"
        for node in nodes
    )
    return Sides(base, mine, theirs)
