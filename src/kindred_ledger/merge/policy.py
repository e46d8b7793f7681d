"""Policy: whose side wins where nobody else can say: rules, of which the last that fits counts.

A rule is about whole files or about fields in them. What is typed, `PATTERN` or `PATTERN:FIELD`, makes one; a
rule that was taken before counts only while the three sides are what they were then.
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from contextlib import suppress
from enum import StrEnum

from msgspec import Struct

from ..errors import UsageError
from ..finding import Sides
from ..formats import ANY, Path, parse_path
from ..places import Patterns, check_patterns
from .sides import Case, Question

__all__ = ["Choice", "Policy", "Rule", "fits", "named_fields"]


class Choice(StrEnum):
    """What a rule says: take one side, have both stand, merge inside, or ask.

    >>> choices = kl.UpdateChoices(rules=(kl.Rule.read(kl.Choice.MINE, "program/data/harbours.json"),))
    >>> kl.update(install, "downloads/mossferry-2.0.zip", ledger=ledger, choices=choices).conflicts
    ()
    """

    MINE = "mine"
    THEIRS = "theirs"
    BOTH = "both"
    MERGE = "merge"
    ASK = "ask"


class Rule(Struct, frozen=True):
    """What becomes of the files that `files` picks, or of some `fields` in them.

    A field is a pattern of paths, with `ANY`, or the name it has in findings, as `crew[id=7].name`. A rule
    answers conflicts; one that is `always` also overrules what the table says. `said` is the reason in the
    books, `text` what was typed. With `when` it counts only while the sides are these.

    >>> rule = kl.Rule.read(kl.Choice.MINE, "settings.toml:View.width")
    >>> rule.choice.value, rule.fields
    ('mine', (('View', 'width'), 'View.width'))
    """

    choice: Choice
    files: Callable[[str], bool]
    fields: tuple[Path | str, ...] = ()
    always: bool = False
    said: str = "you decided so"
    text: str = ""
    when: Sides | None = None

    @staticmethod
    def read(choice: Choice, text: str) -> Rule:
        """Make a rule of what was typed: a pattern of files, or `PATTERN:FIELD`.

        Raises:
            UsageError: the pattern cannot be read, or a field is missing behind the colon.
        """
        pattern, colon, field = text.partition(":")
        files = Patterns((pattern,))
        files.check()
        if colon and not field.strip():
            raise UsageError(
                f"{text!r} names no field",
                remedy="Leave out the colon for the whole file, or write the field behind it.",
            )
        return Rule(choice, files, named_fields(field) if colon else (), text=text)


class Policy(Struct, frozen=True):
    """Rules in order; later ones win.

    >>> rule = kl.Rule(kl.Choice.THEIRS, kl.Patterns(("*.toml",)), fields=(("tide",),))
    >>> three = kl.Three(base=b"tide = 1\\n", mine=b"tide = 2\\n", theirs=b"tide = 3\\n")
    >>> kl.merge_files(three, kl.How("settings.toml", policy=kl.Policy((rule,)))).data
    b'tide = 3\\n'
    """

    rules: tuple[Rule, ...] = ()

    def after(self, rules: tuple[Rule, ...]) -> Policy:
        """Return this policy behind other rules: its own win."""
        return Policy((*rules, *self.rules))

    def for_file(self, path: str, case: Case, sides: Callable[[], Sides]) -> Rule | None:
        """Return the rule for a whole file; None if none fits. `sides` gives the digests of it."""
        return self._last(path, case, lambda rule: not rule.fields, sides)

    def for_field(self, path: str, field: Path, question: Question) -> Rule | None:
        """Return the rule for a field of a file, or for what it lies in; None if none fits."""
        return self._last(
            path, question.case, lambda rule: _means(rule, field, question.where), question.sides
        )

    def undecided(self, answered: Collection[str]) -> list[str]:
        """Return what was typed of fields and answered nothing."""
        return [
            rule.text for rule in self.rules if rule.fields and rule.text not in ("", *answered)
        ]

    def check_patterns(self, paths: set[str]) -> None:
        """Raise `UsageError` for a pattern that fits none of these files."""
        check_patterns(*(rule.files for rule in self.rules), paths=paths)

    def _last(
        self, path: str, case: Case, meant: Callable[[Rule], bool], sides: Callable[[], Sides]
    ) -> Rule | None:
        for rule in reversed(self.rules):
            is_meant = (rule.always or case.is_conflict) and meant(rule) and rule.files(path)
            if is_meant and (rule.when is None or rule.when == sides()):
                return rule
        return None


def named_fields(text: str) -> tuple[Path | str, ...]:
    """Return what a text may mean: a pattern of paths, if it is one, and the name a field has in findings."""
    with suppress(UsageError):
        return parse_path(text), text.removesuffix(".*")
    return (text.removesuffix(".*"),)  # all that lies in it


def _means(rule: Rule, path: Path, name: str) -> bool:
    return any(
        name == field or name.startswith((f"{field}.", f"{field}["))
        if isinstance(field, str)
        else fits(field, path)
        for field in rule.fields
    )


def fits(pattern: Path, path: Path) -> bool:
    """Tell whether a pattern means a path, or something the path lies in.

    >>> fits(("crew", ANY), ("crew", 3, "name")), fits(("crew", ANY, "name"), ("crew", 3))
    (True, False)
    """
    return len(pattern) <= len(path) and all(
        wanted in (ANY, part) for wanted, part in zip(pattern, path, strict=False)
    )
