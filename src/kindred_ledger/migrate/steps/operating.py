"""Operate: a step that is an operation of the library; what it does not say is that of the migration."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

import msgspec
from msgspec import field

from ...changes import Changeset
from ...errors import KindredError
from ...operations import KINDS, Operation, read_operation
from .base import RunbookStep, StepContext, names_in

__all__ = ["Operate"]

_ALWAYS = {"install": "{install}", "what": "{install}", "release": "{release}"}
_OF_KIND = {
    "convert": {"to": "{build}"},
    "update": {"old": "{old}"},
    "reinstall": {"old": "{old}"},
    "remap": {"target": "{release}"},
    "reapply": {"edited": "{start}", "old": "{old}", "into": "{install}"},
}
_KNOWN = ("install", "release", "old", "build", "from", "start")


class Operate(RunbookStep, frozen=True, tag="operation"):
    """Do an operation; in a card its kind stands in `do`, and its fields beside it."""

    is_change: ClassVar[bool] = True

    operation: str = ""
    fields: Mapping[str, Any] = field(default_factory=dict)

    @property
    def kind(self) -> str:
        """The kind of operation."""
        return self.operation

    def said(self) -> dict[str, Any]:
        """Return the fields of the operation with what it takes from the migration, not filled yet."""
        known = {each.name: each for each in msgspec.structs.fields(KINDS[self.operation])}
        said = {name: text for name, text in _ALWAYS.items() if name in known}
        said.update(_OF_KIND.get(self.operation, {}))
        return {"operation": self.operation, **said, **self.fields}

    def made(self, at: StepContext) -> Operation:
        """Return the operation, as it is meant here.

        Raises:
            UsageError: a field is wrong, or says what is not there.
        """
        return read_operation(at.filled(self.said()))

    def told(self, at: StepContext) -> str:
        """Say what it will do: the words of its change say more, once that is computed."""
        return self.why or f"{self.operation} {at.begun.install}"

    def change(self, at: StepContext) -> Changeset | None:
        """Return its change."""
        return self.made(at).compute(at.context)

    def faults(self) -> list[str]:
        """Return what is wrong with its fields."""
        found = [
            f"there is no {{{name}}}; names are: {', '.join(_KNOWN)}"
            for name in sorted(names_in(self.fields) - {*_KNOWN})
        ]
        try:
            read_operation(self.said())
        except KindredError as error:
            found.append(f"{error.what}. {error.remedy}".strip())
        return found
