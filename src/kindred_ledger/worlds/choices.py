"""ContentChoices: what shall stand in the place of content that a new list does not have."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec import Struct

from ..cards.world_models import IdListTable
from ..cards.worlds import IdList
from ..errors import UsageError
from ..suggestions import did_you_mean
from .reconcile import ContentChange, Reconciled

__all__ = ["ContentChoices", "Fate", "fates_of"]

INERT, REMOVE, SUBSTITUTE, UNDECIDED = "inert", "remove", "substitute", ""


class ContentChoices(Struct, frozen=True):
    """What a person says, by name of content: what it is called now, what stands for it, what becomes inert
    until a later build has it again, what is removed.

    >>> kl.ContentChoices(inert=("reedlight:bell",), remove=("reedlight:*",)).fits("reedlight:lamp", "remove")
    True
    """

    renames: Mapping[str, str] = {}
    substitutes: Mapping[str, str] = {}
    inert: tuple[str, ...] = ()
    remove: tuple[str, ...] = ()

    def fits(self, name: str, how: str) -> bool:
        """Tell whether a name is chosen for something, itself or by a pattern that ends in `*`."""
        return any(
            _fits(name, pattern) for pattern in (self.inert if how == INERT else self.remove)
        )

    def check(self, known: Iterable[str], vanishing: Iterable[str]) -> None:
        """Raise `UsageError` for a name that is chosen for and does not vanish, or two choices for one."""
        names, gone = list(known), list(vanishing)
        for name in (*self.substitutes, *self.inert, *self.remove):
            if any(_fits(each, name) for each in gone):
                continue
            if name in names:
                raise UsageError(
                    f"{name} stays: the new list has it",
                    remedy=f"ContentChoices are for what vanishes: {', '.join(gone) or 'nothing'}.",
                )
            raise UsageError(
                f"nothing that vanishes is called {name}", remedy=did_you_mean(name, gone)
            )
        for name in gone:
            exact = [
                name in self.substitutes, name in self.inert, name in self.remove,
            ]  # fmt: skip
            if sum(exact) > 1:
                raise UsageError(
                    f"two choices are made for {name}",
                    remedy="Choose one: a substitute, inert, or remove.",
                )


def _fits(name: str, pattern: str) -> bool:
    return name == pattern or (pattern.endswith("*") and name.startswith(pattern[:-1]))


class Fate(Struct, frozen=True):
    """What becomes of content that vanishes: `how`, and the name and number of what stands in its place.

    `number` is None where nothing does. `who` says who decided: the card, or a person.
    """

    name: str
    how: str
    to: str = ""
    number: int | None = None
    who: str = ""

    @property
    def told(self) -> str:
        """In words."""
        return {
            SUBSTITUTE: f"replaced by {self.to}",
            INERT: f"replaced by {self.to} until a build has it again",
            REMOVE: "removed",
            UNDECIDED: "not decided",
        }[self.how]


def fates_of(
    found: Reconciled, table: IdListTable, choices: ContentChoices, *, unknown: Iterable[str] = ()
) -> dict[str, Fate]:
    """Return what becomes of all that vanishes, by name; `unknown` are numbers without a name, as names.

    Raises:
        UsageError: something is to stand for content that the new list does not have, or there is no inert
            content.
    """
    out: dict[str, Fate] = {}
    for name in (*(row.name for row in found.vanishing), *unknown):
        row = found.by_name.get(name)
        exact = name in choices.inert or name in choices.remove
        to = choices.substitutes.get(name, "")
        if to:
            out[name] = _fate(name, SUBSTITUTE, to, found.new, "you")
        elif name in choices.inert or (not exact and choices.fits(name, INERT)):
            if not table.inert:
                raise UsageError(
                    f"the card names no inert content, so {name} cannot become it",
                    remedy="Add `inert = NAME` to the list in the card, or choose a substitute.",
                )
            out[name] = _fate(name, INERT, table.inert, found.new, "you")
        elif exact or choices.fits(name, REMOVE):
            out[name] = _removed(name, table, found.new)
        elif name in table.substitutes and (row is None or row.what is not ContentChange.SPLIT):
            out[name] = _fate(name, SUBSTITUTE, table.substitutes[name], found.new, "the card")
        else:
            out[name] = Fate(name, UNDECIDED)
    return out


def _fate(name: str, how: str, to: str, new: IdList, who: str) -> Fate:
    if to not in new.numbers:
        raise UsageError(
            f"{to} cannot stand for {name}: the new list does not have it",
            remedy=did_you_mean(to, new.numbers),
        )
    return Fate(name, how, to, new.numbers[to], who)


def _removed(name: str, table: IdListTable, new: IdList) -> Fate:
    if table.empty and table.empty not in new.numbers:
        raise UsageError(
            f"{name} cannot be removed: the new list does not have {table.empty}, which tiles become",
            remedy="Put `empty` of the list in the card right.",
        )
    return Fate(name, REMOVE, table.empty, new.numbers.get(table.empty), "you")
