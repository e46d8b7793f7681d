"""What goes into merging a file, and what comes out, whatever its kind."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any, NamedTuple

from msgspec import Struct

from ..errors import FormatError
from ..finding import Finding
from ..formats import Document, Path
from ..statement import Statement
from .policy import Policy
from .sides import Question, Side, shown
from .values import Asked, ValueMerge

__all__ = ["Counts", "FileMerge", "How", "Three", "check_size"]


class Three(NamedTuple):
    """The bytes of a file on three sides; without a base both added it.

    >>> three = kl.Three(base=b"a = 1\\n", mine=b"a = 2\\n", theirs=b"a = 1\\nb = 3\\n")
    >>> kl.merge_files(three, kl.How("settings.toml")).data
    b'a = 2\\nb = 3\\n'
    """

    base: bytes | None
    mine: bytes
    theirs: bytes


def check_size(three: Three, most: int = 64 << 20) -> None:
    """Raise `FormatError` where a side is too large to be merged inside."""
    if max(len(side) for side in three if side is not None) > most:
        raise FormatError(f"files of more than {most >> 20} MB are not merged inside")


class How(Struct, frozen=True):
    """How a file is read and who wins: its name, its codec and reader, and the policy.

    `keys` says which field names the records of lists, by patterns of paths; `version_path` leads to the
    version theirs says it has. `known` False says that nobody knows what both came from. `asked` answers
    instead of the policy.

    >>> how = kl.How("settings.txt", codec="ini")
    >>> three = kl.Three(base=b"[A]\\na=1\\nb=1\\n", mine=b"[A]\\na=2\\nb=1\\n", theirs=b"[A]\\na=1\\nb=2\\n")
    >>> kl.merge_files(three, how).data
    b'[A]\\na=2\\nb=2\\n'
    """

    name: str
    codec: str = ""
    decode: Callable[[bytes], Document] | None = None
    version_path: Path = ()
    keys: dict[Path, str] = {}
    policy: Policy = Policy()
    known: bool = True
    asked: Asked | None = None


Sides = tuple[Any, Any, Any, Any]  # base, mine, theirs and the result, None where there is none

_NO_BOOKS = Statement("", "fields")


class Counts(Struct, frozen=True):
    """How many changes of each side there were, and what became of them."""

    applied: int = 0  # mine
    superseded: int = 0  # mine, equal to theirs
    left_out: int = 0  # mine, by the policy
    taken: int = 0  # theirs
    overridden: int = 0  # theirs, by the policy

    def __str__(self) -> str:
        told = [
            (self.applied, "of your changes applied"),
            (self.superseded, "made by both"),
            (self.left_out, "of your changes left out"),
            (self.taken, "of theirs taken"),
            (self.overridden, "of theirs left out"),
        ]
        return ", ".join(f"{count} {what}" for count, what in told if count)


class FileMerge(Struct, frozen=True, dict=True):
    """A merged file: its bytes, empty while there are conflicts; its books; and what should be known.

    `conflicts` say where both changed something and what; `lost` is what of mine did not come along and
    has no line in the books, such as comments; `overruled` are changes of mine that a rule let go;
    `answered` the texts of rules that decided something; `named_by` says which field names the records of a
    list, `unnamed` why none does. `tell` gives the `sides` as plain values, and `values` says how they were
    merged, where the file holds such; what needed no merging is in neither.

    >>> three = kl.Three(base=b"a = 1\\nb = 1\\n", mine=b"a = 2\\nb = 1\\n", theirs=b"a = 1\\nb = 3\\n")
    >>> merged = kl.merge_files(three, kl.How("settings.toml"))
    >>> merged.data, merged.conflicts
    (b'a = 2\\nb = 3\\n', ())
    """

    data: bytes
    counts: Counts = Counts()
    statement: Statement = _NO_BOOKS
    conflicts: tuple[Question, ...] = ()
    lost: tuple[str, ...] = ()
    overruled: tuple[Question, ...] = ()
    answered: frozenset[str] = frozenset()
    notes: tuple[str, ...] = ()
    named_by: dict[str, str] = {}
    tell: Callable[[], Sides] | None = None
    values: ValueMerge | None = None
    unnamed: dict[str, str] = {}

    @cached_property
    def sides(self) -> Sides | None:
        """Base, mine, theirs and the result as plain values; None where the file holds none."""
        return self.tell() if self.tell is not None else None

    def noticed(self, path: str) -> list[Finding]:
        """Return what a person should know beyond the books of the file at a path."""
        return [
            *(Finding.note("order-lost", note, where=path) for note in self.notes),
            *(
                Finding.note(
                    "known-by",
                    f"the records of {where or 'the file'} are known by {field}",
                    where=path,
                )
                for where, field in self.named_by.items()
            ),
            *(
                Finding.warning(
                    "key-unfit",
                    f"the records of {where or 'the file'}: {why}; they are lined up by what they hold",
                    where=path,
                )
                for where, why in self.unnamed.items()
            ),
            *(
                Finding.warning(
                    "like-another",
                    f"{gone} may have another name now: {came} is like it",
                    where=path,
                    remedy="If so, take the side that has it, and make your edit there.",
                )
                for gone, came in (self.values.alike.items() if self.values is not None else ())
            ),
        ]

    def losses(self, path: str) -> list[Finding]:
        """Return what of mine is not in the merged file, and has no line in the books."""
        comments = [
            Finding.loss(
                "comment-lost", f"your comment is not in the merged file: {text}", where=path
            )
            for text in self.lost
        ]
        return comments + [
            Finding.loss(
                "overwritten",
                f"your change to it gives way: {shown(each.mine)} is now {shown(each.theirs)}",
                where=path,
                field=each.where,
            )
            for each in self.overruled
        ]


def count(decided: list[tuple[Side, Side, bool]]) -> Counts:
    """Return the counts of decisions: who changed it, whose side was taken, whether both did the same."""
    mine = [d for d in decided if d[0] in (Side.MINE, Side.BOTH)]
    theirs = [d for d in decided if d[0] in (Side.THEIRS, Side.BOTH)]
    return Counts(
        applied=sum(takes is Side.MINE for _, takes, _ in mine),
        superseded=sum(agreed for _, _, agreed in decided),
        left_out=sum(takes is Side.THEIRS for _, takes, _ in mine),
        taken=sum(takes is Side.THEIRS for _, takes, _ in theirs),
        overridden=sum(takes is Side.MINE for _, takes, _ in theirs),
    )
