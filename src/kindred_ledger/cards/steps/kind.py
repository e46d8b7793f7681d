"""A kind of step: how a row of a card is read, what it says, what it does to a document, what it loses."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, ClassVar, Protocol, Self

from msgspec import Struct

from ...formats import Document, Path
from ...formats.expressions import Expression

__all__ = ["Editing", "PathStep", "Row", "Step", "Tables"]

Row = Mapping[str, Any]
Tables = Mapping[str, Mapping[str, Any]]


class Editing(Protocol):
    """What a step can do to the fields of a document; each edit has its reason."""

    document: Document

    def is_there(self, pattern: Path) -> bool: ...

    def change(
        self,
        pattern: Path,
        value: Any,
        reason: str,
        *,
        where: Expression | None = None,
        loss: str = "",
    ) -> None: ...

    def translate(
        self, pattern: Path, table: Mapping[str, Any], *, strict: bool = False, loss: str = ""
    ) -> None: ...

    def fill(
        self, pattern: Path, value: Any, reason: str, *, source: Path | None = None
    ) -> None: ...

    def move(self, pattern: Path, to: Path) -> None: ...

    def drop(
        self, pattern: Path, reason: str, *, loss: bool, where: Expression | None = None
    ) -> None: ...

    def check(self, pattern: Path, holds: Callable[[Any], str], remedy: str) -> None: ...

    def require(self, pattern: Path, condition: Expression, remedy: str) -> None: ...

    def sort_rows(self, pattern: Path, by: Expression, *, descending: bool = False) -> None: ...

    def sort_keys(self, pattern: Path, keys: tuple[str, ...]) -> None: ...


class Step(Struct, frozen=True):
    """One step, made from a row of a card; a class for each kind.

    `verb` is the key that names the kind, `needs` are the keys that must stand beside it, `allows` those
    that may. Where a step runs one by one and where by columns, the fields know, the step does not.
    """

    verb: ClassVar[str] = ""
    needs: ClassVar[tuple[str, ...]] = ()
    allows: ClassVar[tuple[str, ...]] = ()
    is_condition: ClassVar[bool] = False

    @classmethod
    def read(cls, row: Row, tables: Tables) -> Self:
        """Make a step of a row that has the keys it needs and no others; `tables` are the card's.

        Raises:
            UsageError: the row says what no step can be.
        """
        raise NotImplementedError

    def describe(self) -> str:
        """Return what it does, in words; each kind has its own."""
        raise NotImplementedError

    def run(self, fields: Editing) -> None:
        """Edit the fields it names, and say why each changes, comes or goes.

        Raises:
            PreconditionUnmet: a condition on the data does not hold.
            FormatError: the data cannot become what it should.
        """
        raise NotImplementedError

    def has_matter(self, fields: Editing) -> bool:
        """Tell whether a document has what it is about."""
        return True

    @property
    def loses(self) -> bool:
        """Whether it loses something."""
        return False

    @property
    def takes(self) -> tuple[Path, ...]:
        """The paths it takes away."""
        return ()

    @property
    def makes(self) -> tuple[Path, ...]:
        """The paths it makes."""
        return ()

    @property
    def frees(self) -> tuple[Path, ...]:
        """The paths whose values need not come back: it overwrites whatever was there."""
        return ()


class PathStep(Step, frozen=True):
    """A step about what stands at a path, which may mean many."""

    path: Path

    def has_matter(self, fields: Editing) -> bool:
        return fields.is_there(self.path)
