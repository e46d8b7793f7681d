"""Whether the new game was started with what was set into it, and what became of that since.

A program sees whether the game opened the save and still has everything; whether it plays well, a person
sees.
"""

from __future__ import annotations

import msgspec
from msgspec import Struct

from ...cards import Install
from ...errors import FormatError, UsageError
from ...formats.document import Document
from ...ledger import Ledger
from ...places import read_bytes
from ...planning.first_starts import is_started, transplants_in
from .saves import format_of, is_called, rules_named
from .things import Vocabulary, read_things

__all__ = ["FoundThing", "StartStatus", "first_start"]


class FoundThing(Struct, frozen=True):
    """A landmark: how many things of a kind have the name, and where the first one is.

    >>> kl.FoundThing("ferries:Moss Queen", 1, (7, 9)).count
    1
    """

    landmark: str
    count: int
    at: tuple[float, float] | None


class StartStatus(Struct, frozen=True):
    """A save that things were set into: whether the game was `started` with it, and what it has by now.

    `told` says what would show a start; `counts` are pairs of how many things of each kind there were when it
    was made, and are now; `landmarks` and `look` are where to look.

    >>> kl.StartStatus("long.fleet", True, "", {"crew": (12, 12)}, (), "").missing
    {}
    """

    save: str
    started: bool
    told: str
    counts: dict[str, tuple[int, int]]
    landmarks: tuple[FoundThing, ...]
    look: str

    @property
    def missing(self) -> dict[str, int]:
        """How many things of each kind there are fewer than were set in and there before."""
        return {kind: was - now for kind, (was, now) in self.counts.items() if now < was}


def first_start(install: Install, *, ledger: Ledger, save: str = "") -> StartStatus:
    """Say whether the game was started with a save that things were set into, and what it has by now.

    Raises:
        UsageError: nothing was set into a save of this install, or into several and none is named.
        FormatError: the save cannot be read any more.

    >>> plan = kl.transplant(fleet_install, fresh_install, ledger=ledger)
    >>> _ = plan.change.apply(ledger, allow_loss=True)
    >>> kl.first_start(fresh_install, ledger=ledger).started
    False
    """
    found = [
        (record, relation)
        for record, relation in transplants_in(install, ledger)
        if is_called(relation.save, save)
    ]
    if len(found) != 1:
        names = ", ".join(relation.save for _, relation in found)
        raise UsageError(
            "say which save is meant" if found else f"nothing was set into {save or 'a save'} here",
            where=install.place.location,
            remedy=f"There are: {names}." if found else "See kindred world transplant.",
        )
    record, relation = found[0]
    rules = rules_named(install, relation.rules, msgspec.json.decode(relation.by))
    tree = install.place.survey()
    name = relation.save.rpartition("/")[2]
    if relation.save not in tree:
        raise UsageError(
            f"the save {name} is not there any more",
            where=relation.save,
            remedy=f"Bring it back: kindred undo, or kindred restore {record.entry}.",
        )
    started, told = is_started(install, tree, ledger, (record, relation), rules)
    try:
        document: Document = format_of(install, rules).decode(
            read_bytes(install.place, relation.save)
        )
    except FormatError as error:
        raise error.inside(relation.save) from None
    things = read_things(document, rules, Vocabulary(), where=name)
    counts = {kind: (relation.counts.get(kind, 0), things.count(kind)) for kind in things.kinds}
    landmarks = []
    for text in rules.landmarks:
        kind, _, called = text.partition(":")
        there = [at for at, each in enumerate(things.told(kind, range(things.count(kind))))
                 if each == called]  # fmt: skip
        rule, at = things.rule(kind), None
        if there and rule.x:
            x, z = (things.tables[kind].measures(field)[there[0]] for field in (rule.x, rule.z))
            at = (float(x), float(z))
        landmarks.append(FoundThing(text, len(there), at))
    return StartStatus(name, started, told, counts, tuple(landmarks), rules.look)
