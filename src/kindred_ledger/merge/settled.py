"""Changes that need no merging: fields of records that one side alone changed, or both alike."""

from __future__ import annotations

from collections.abc import Hashable
from typing import Any

from msgspec import Struct

from .sides import Case
from .values import Decided, key_name, record_name

__all__ = ["Settled"]


class Settled(Struct):
    """What was decided in the records of a list, `field` of which names them: every field by its name.

    `before` and `after` are the values of mine and of the result, with the name of the part that was decided.
    """

    name: str = ""
    field: str = ""
    decided: list[Decided] = []
    before: dict[str, tuple[Hashable, str]] = {}
    after: dict[str, tuple[Hashable, str]] = {}

    def note(
        self, record: dict[str, Any], field: str, case: Case, mine: Hashable, result: Hashable
    ) -> None:
        """Note a field that was changed in a record."""
        name = f"{record_name(self.name, self.field, record)}.{key_name(field)}"
        self.decided.append(Decided(name, case, case.changed_by, case.said))
        self.before[name] = mine, name
        self.after[name] = result, name
