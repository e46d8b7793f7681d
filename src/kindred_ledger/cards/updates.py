"""What a card says about moving an install from build to build, ready to be asked.

What is kept through a clean reinstall and what a release may overwrite are two lists, as they answer
two questions; docs/updating says why, with an example where they differ.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from functools import cached_property
from typing import Any

from msgspec import Struct

from ..errors import KindredError, UsageError
from ..places import Patterns, check_portable
from ..suggestions import hint
from ..versions import Scheme, Version, VersionRange, scheme
from .models import (
    PROGRAM,
    AxisTable,
    CardFile,
    ComponentTable,
    DecisionTable,
    StartTable,
    UpdateTable,
)

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ..merge import Rule

__all__ = ["Component", "Updates", "update_faults"]

_NAME = "{name}"
_SIDES = ("mine", "theirs")


class Component(Struct, frozen=True):
    """A part of a release that can be updated alone, under the code name and the names players see."""

    name: str
    names: tuple[str, ...]
    files: Patterns
    optional: bool
    builds: VersionRange

    def __str__(self) -> str:
        return f"{self.name} ({', '.join(self.names)})" if self.names else self.name

    def is_named(self, text: str) -> bool:
        """Tell whether a person means this by a text."""
        return text.casefold() in {name.casefold() for name in (self.name, *self.names)}


class Updates:
    """The rules of one card, for builds of its scheme."""

    def __init__(self, file: CardFile, builds: Scheme, *, any_case: bool = False) -> None:
        self.table: UpdateTable = file.update
        keep, overwrite = tuple(self.table.keep), tuple(self.table.overwrite)
        self.keep = Patterns(keep, any_case=any_case) if keep else None
        self.overwrite = Patterns(overwrite, any_case=any_case) if overwrite else None
        self.builds = builds
        self.components = {
            name: _component(name, table, builds, any_case)
            for name, table in file.components.items()
        }
        self._decisions = file.decisions
        self._any_case = any_case

    @cached_property
    def decisions(self) -> tuple[Rule, ...]:
        """The rules about files that two sides changed."""
        return tuple(_rule(row, self._any_case) for row in self._decisions)

    def component(self, text: str) -> Component:
        """Return the component of a code name or of a name players see.

        Raises:
            UsageError: there is none.
        """
        for component in self.components.values():
            if component.is_named(text):
                return component
        raise UsageError(
            f"there is no component {text!r}",
            remedy=f"There are: {'; '.join(map(str, self.components.values())) or 'none'}.",
        )

    def moved(self, path: str, before: Version, after: Version) -> str:
        """Return where a file of the user's lives in a build, given where it did in an older one."""
        for move in self.table.moves:
            since = self.builds.parse(move.since)
            if not before < since <= after:
                continue
            source = move.source.strip("/")
            if source.endswith("/*") and path.startswith(source[:-1]):
                return move.to.strip("/").replace(_NAME, path[len(source) - 1 :])
            if path == source:
                return move.to.strip("/").replace(_NAME, path.rpartition("/")[2])
        return path

    def hidden_by(self, path: str) -> str:
        """Return the path that a hand-placed copy hides; empty if it hides none."""
        for rule in self.table.hides:
            top = rule.folder.strip("/") + "/"
            if path.startswith(top):
                return f"{rule.over.strip('/')}/{path[len(top) :]}"
        return ""

    def start_missed(self, before: Version, after: Version) -> StartTable | None:
        """Return the rule by which a build cannot be reached from another in one go, if there is one."""
        for start in self.table.starts:
            if after in VersionRange.parse(start.to, self.builds) and before not in (
                VersionRange.parse(start.source, self.builds)
            ):
                return start
        return None


def _component(name: str, table: ComponentTable, builds: Scheme, any_case: bool) -> Component:
    return Component(
        name,
        tuple(table.names),
        Patterns(tuple(table.include), any_case=any_case),
        table.optional,
        VersionRange.parse(table.builds, builds),
    )


def _rule(row: DecisionTable, any_case: bool) -> Rule:
    from ..merge import Choice, Rule, named_fields

    fields = tuple(meant for field in row.fields for meant in named_fields(field))
    files = Patterns(tuple(row.files), any_case=any_case)
    return Rule(Choice(row.take), files, fields, said="the card says so")


_KEY = tuple[str | int, ...]


def update_faults(card: CardFile, builds: Scheme | None) -> Iterator[tuple[_KEY, str]]:
    """Yield what contradicts itself in the tables about updates; a key and the fault each."""
    yield from _component_faults(card.components, builds)
    for key in ("keep", "overwrite"):
        yield from _pattern_faults(("update", key), getattr(card.update, key))
    for at, move in enumerate(card.update.moves):
        yield from _version_faults(("update", "moves", at), builds, version=move.since)
        for text in (move.source, move.to):
            name = text.strip("/").replace("/*", "").replace(_NAME, "x")
            part = name.partition("/")[0]
            if part != PROGRAM and part not in card.locations:
                yield ("update", "moves", at), f"{text!r} begins with no part of an install"
            elif fault := _path_fault(name):
                yield ("update", "moves", at), fault
        if move.source.endswith("/*") and _NAME not in move.to:
            yield ("update", "moves", at), "`to` needs {name}, as `from` is of many files"
    for at, start in enumerate(card.update.starts):
        yield from _version_faults(("update", "starts", at), builds, range=start.to)
        yield from _version_faults(("update", "starts", at), builds, range=start.source)
    for at, row in enumerate(card.decisions):
        if not row.files:
            yield ("decisions", at, "files"), "expected at least one pattern"
        yield from _pattern_faults(("decisions", at, "files"), row.files)
        if not all(map(str.strip, row.fields)):
            yield ("decisions", at, "fields"), "a field has no name"
        if row.take not in _SIDES:
            yield (
                ("decisions", at, "take"),
                f"expected one of {', '.join(_SIDES)}, found {row.take!r}{hint(row.take, _SIDES)}",
            )
    for name in card.update.markers:
        if fault := _path_fault(name):
            yield ("update", "markers", name), fault
    yield from _axis_faults(card.axes)
    for at, rule in enumerate(card.together):
        yield from _together_faults(("together", at), rule, card, builds)
    for at, need in enumerate(card.requires):
        yield from _version_faults(("requires", at), builds, range=need.builds)
        yield from _version_faults(("requires", at), None, range=need.versions)
        if not (need.windows or need.macos or need.linux):
            yield ("requires", at), "expected folders to look in: windows, macos or linux"


def _component_faults(
    components: Mapping[str, ComponentTable], builds: Scheme | None
) -> Iterator[tuple[_KEY, str]]:
    known: dict[str, str] = {}
    for name, table in components.items():
        yield from _pattern_faults(("components", name, "include"), table.include)
        yield from _version_faults(("components", name, "builds"), builds, range=table.builds)
        for each in (name, *table.names):
            other = known.setdefault(each.casefold(), name)
            if other != name:
                yield ("components", name), f"{each!r} is a name of {other!r} already"


def _axis_faults(axes: Mapping[str, AxisTable]) -> Iterator[tuple[_KEY, str]]:
    for name, axis in axes.items():
        if name == PROGRAM:
            yield ("axes", name), f"{PROGRAM!r} is the axis of the builds themselves"
        if not axis.detect:
            yield ("axes", name), "expected at least one way to tell its version in `detect`"
        try:
            scheme(axis.scheme, axis.order)
        except KindredError as error:
            yield ("axes", name), error.what


def _together_faults(
    key: _KEY, rule: Any, card: CardFile, builds: Scheme | None
) -> Iterator[tuple[_KEY, str]]:
    if bool(rule.same) == bool(rule.when):
        yield key, "expected either `same`, axes that go together, or `when` and `need`"
    for name in (*rule.same, *rule.when, *rule.need):
        if name != PROGRAM and name not in card.axes:
            yield key, f"there is no axis {name!r}"
        elif text := {**rule.when, **rule.need}.get(name, ""):
            of = builds if name == PROGRAM else _scheme_of(card.axes[name])
            yield from _version_faults(key, of, range=text)
    if rule.when and not rule.need:
        yield key, "`when` needs `need`: what must hold then"


def _scheme_of(axis: AxisTable) -> Scheme | None:
    try:
        return scheme(axis.scheme, axis.order)
    except KindredError:
        return None


def _pattern_faults(key: _KEY, patterns: list[str]) -> Iterator[tuple[_KEY, str]]:
    try:
        Patterns(tuple(patterns)).check()
    except KindredError as error:
        yield key, error.what


def _version_faults(
    key: _KEY, builds: Scheme | None, *, version: str = "", range: str = ""
) -> Iterator[tuple[_KEY, str]]:
    try:
        if version:
            (builds.parse if builds else Version.parse)(version)
        if range:
            VersionRange.parse(range, builds)
    except KindredError as error:
        yield key, error.what


def _path_fault(path: str) -> str:
    try:
        check_portable(re.sub(r"\*$", "x", path))
    except KindredError as error:
        return error.what
    return ""
