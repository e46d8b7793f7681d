"""Policy: whose side wins where nobody else can say: rules, of which the last that fits counts."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum

from msgspec import Struct

from ..formats import ANY, Path
from ..places import check_patterns
from .sides import Case

__all__ = ["Choice", "Policy", "Rule", "fits"]


class Choice(StrEnum):
    """What a rule says: take one side, have both stand, merge inside, or ask."""

    MINE = "mine"
    THEIRS = "theirs"
    BOTH = "both"
    MERGE = "merge"
    ASK = "ask"


class Rule(Struct, frozen=True):
    """What becomes of the files that `files` picks, or of some `fields` in them (patterns, with `ANY`).

    A rule answers conflicts; one that is `always` also overrules what the table says. `said` is the reason
    in the books.
    """

    choice: Choice
    files: Callable[[str], bool]
    fields: tuple[Path, ...] = ()
    always: bool = False
    said: str = "you decided so"


class Policy(Struct, frozen=True):
    """Rules in order; later ones win."""

    rules: tuple[Rule, ...] = ()

    def for_file(self, path: str, case: Case) -> Rule | None:
        """Return the rule for a whole file; None if none fits."""
        return self._last(path, case, lambda rule: not rule.fields)

    def for_field(self, path: str, field: Path, case: Case) -> Rule | None:
        """Return the rule for a field of a file, or for what it lies in; None if none fits."""
        return self._last(
            path, case, lambda rule: any(fits(pattern, field) for pattern in rule.fields)
        )

    def check_patterns(self, paths: set[str]) -> None:
        """Raise `UsageError` for a pattern that fits none of these files."""
        check_patterns(*(rule.files for rule in self.rules), paths=paths)

    def _last(self, path: str, case: Case, meant: Callable[[Rule], bool]) -> Rule | None:
        for rule in reversed(self.rules):
            if (rule.always or case.is_conflict) and meant(rule) and rule.files(path):
                return rule
        return None


def fits(pattern: Path, path: Path) -> bool:
    """Tell whether a pattern means a path, or something the path lies in.

    >>> fits(("crew", ANY), ("crew", 3, "name")), fits(("crew", ANY, "name"), ("crew", 3))
    (True, False)
    """
    return len(pattern) <= len(path) and all(
        wanted in (ANY, part) for wanted, part in zip(pattern, path, strict=False)
    )
