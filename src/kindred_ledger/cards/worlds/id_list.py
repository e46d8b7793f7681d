"""IdList: what the numbers in a world mean: a name for each.

What always holds: every name has one number and every number one name. A list in which that is not so is
refused with all that contradicts itself; which of two names a number means is never guessed.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable, Mapping
from functools import cached_property

import msgspec
from msgspec import Struct

from ...errors import IdListError, KindredError
from ...finding import Finding
from ...ledger.zstd import compress, decompress
from ...wording import count

__all__ = ["IdList", "folded_name"]

_SHOWN = 10


def folded_name(name: str) -> str:
    """Return a name as people take it for the same: without case, in one Unicode form, trimmed.

    >>> folded_name("Bog:Bell ") == folded_name("bog:bell")
    True
    """
    return unicodedata.normalize("NFKC", name).strip().casefold()


class IdList(Struct, frozen=True, dict=True):
    """Names and their numbers, in the order of the list; `origin` says where it was read.

    >>> ids = IdList.of([("bog:peat", 1), ("bog:bell", 7)], origin="ids.json")
    >>> ids.numbers["bog:bell"], ids.names[7]
    (7, 'bog:bell')
    """

    numbers: Mapping[str, int]
    origin: str = ""

    @classmethod
    def of(cls, pairs: Iterable[tuple[str, int]], *, origin: str) -> IdList:
        """Make a list of names with their numbers.

        Raises:
            IdListError: a name has two numbers, a number two names, or one is negative, or a name empty.
        """
        numbers: dict[str, int] = {}
        names: dict[int, str] = {}
        faults: list[Finding] = []

        def fault(code: str, what: str) -> None:
            faults.append(Finding.error(code, what, where=origin))

        for name, number in pairs:
            if not name:
                fault("id-without-name", f"number {number} has an empty name")
            elif number < 0:
                fault("id-negative", f"{name} has the number {number}, which is below 0")
            elif name in numbers and numbers[name] != number:
                fault("id-two-numbers", f"{name} has the numbers {numbers[name]} and {number}")
            elif number in names and names[number] != name:
                fault("id-two-names", f"number {number} is {names[number]} and {name}")
            else:
                numbers[name], names[number] = number, name
        if faults:
            told = "\n".join(f"  {each.what}" for each in faults[:_SHOWN])
            more = f"\n  and {len(faults) - _SHOWN} more" if len(faults) > _SHOWN else ""
            raise IdListError(
                f"the id list contradicts itself in {count(len(faults), 'place')}",
                where=origin,
                remedy=f"Nothing is guessed from such a list:\n{told}{more}",
                findings=tuple(faults),
            )
        if not numbers:
            raise IdListError(
                "the id list is empty",
                where=origin,
                remedy="Check where the card says the list is.",
            )
        return cls(numbers, origin)

    def __len__(self) -> int:
        return len(self.numbers)

    def __repr__(self) -> str:
        return f"<IdList {self.origin}: {len(self)} names>"

    @cached_property
    def names(self) -> dict[int, str]:
        """The names by their numbers."""
        return {number: name for name, number in self.numbers.items()}

    @property
    def highest(self) -> int:
        """The highest number."""
        return max(self.numbers.values())

    def same_as(self, other: IdList) -> bool:
        """Tell whether both say the same of every number."""
        return dict(self.numbers) == dict(other.numbers)

    def check_width(self, bits: int) -> None:
        """Raise `IdListError` if a number does not fit into so many bits."""
        most = (1 << bits) - 1
        if self.highest > most:
            names = [name for name, number in self.numbers.items() if number > most]
            raise IdListError(
                f"{count(len(names), 'name')} of the list need more than {bits} bits, such as"
                f" {names[0]} ({self.numbers[names[0]]:,})",
                where=self.origin,
                remedy=f"A world of this kind holds numbers up to {most:,}. Leave out mods until they fit.",
            )

    @cached_property
    def alike(self) -> list[tuple[str, ...]]:
        """Names that differ only by case, Unicode form or spaces around them."""
        found: dict[str, list[str]] = {}
        for name in self.numbers:
            found.setdefault(folded_name(name), []).append(name)
        return [tuple(names) for names in found.values() if len(names) > 1]

    def packed(self) -> bytes:
        """Return the list as a Zstandard frame of JSON, as entries keep it: `{"origin": …, "numbers": …}`."""
        return compress(msgspec.json.encode({"origin": self.origin, "numbers": dict(self.numbers)}))

    @classmethod
    def unpacked(cls, data: bytes) -> IdList:
        """Read what `packed` gave.

        Raises:
            IdListError: it cannot be read.
        """
        try:
            told = msgspec.json.decode(decompress(data, size=_LARGEST)[0], type=_Packed)
        except (KindredError, msgspec.MsgspecError) as error:
            raise IdListError("the stored id list cannot be read", remedy=str(error)) from error
        return cls.of(told.numbers.items(), origin=told.origin)


_LARGEST = 64 << 20  # bytes of a list


class _Packed(Struct):
    origin: str
    numbers: dict[str, int]
