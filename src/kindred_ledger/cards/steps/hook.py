"""hook: let a function of an installed package act on the fields."""

from __future__ import annotations

from functools import lru_cache
from typing import Any, ClassVar

from ...errors import FormatError, KindredError, UsageError
from ...extensions import HOOKS, installed, load
from ...suggestions import hint
from . import row as read
from .kind import Editing, Row, Step, Tables

__all__ = ["Hook"]


@lru_cache
def _loaded(name: str) -> Any:
    return load(HOOKS, name)


class Hook(Step, frozen=True):
    """Let a function of an installed package act on the fields; the books hold it like any step."""

    verb: ClassVar = "hook"
    needs: ClassVar = ("reason",)
    allows: ClassVar = ("loses",)

    name: str
    reason: str
    loss: str = ""

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Hook:
        name = read.text(row, "hook")
        if name not in installed(HOOKS):
            meant = hint(name, installed(HOOKS))
            raise UsageError(
                f"no installed package has the hook {name!r}{meant}",
                remedy="Install the package that has it.",
            )
        return cls(name, read.text(row, "reason"), read.text(row, "loses"))

    def describe(self) -> str:
        lost = f", which loses {self.loss}" if self.loss else ""
        return f"{self.reason}, by {self.name} of an installed package{lost}"

    def run(self, fields: Editing) -> None:
        call = _loaded(self.name)
        try:
            call(fields)
        except KindredError:
            raise
        except Exception as error:  # whatever the package's own mistakes raise
            raise FormatError(
                f"the hook {self.name!r} failed: {type(error).__name__}: {error}",
                remedy="Report it to those who made the package.",
            ) from error

    @property
    def loses(self) -> bool:
        return bool(self.loss)
