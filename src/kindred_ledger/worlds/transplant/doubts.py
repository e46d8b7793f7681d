"""Doubts: what a card seems to have forgotten about a save, told so that nothing goes wrong in silence."""

from __future__ import annotations

import re
from collections.abc import Iterator

from ...finding import Finding
from ...formats import ANY, LayoutDocument, parse_path
from .setting_in import SettingIn
from .things import Things, leaves_beside

__all__ = ["doubtful_fields", "doubtful_totals", "nothing_to_carry"]

_ENDS = re.compile(
    r"(?:_id|_ref|[a-z](?:Id|ID|Ref))$"
)  # what fields are called that refer to others
_COUNTS = re.compile(r"count|num|total|size|amount|in_all|^n_", re.I)  # what counters are called


def nothing_to_carry(old: Things) -> Iterator[Finding]:
    """Yield the single values of the player that an old save does not have."""
    for path in old.rules.carry:
        if not old.document.find(parse_path(path)):
            what = f"there is no {path} in the old game: the one of the new game stays"
            yield Finding.warning("nothing-to-carry", what, where=old.where)


def doubtful_fields(old: Things) -> Iterator[Finding]:
    """Yield fields that are called like a link and for which the card names none: they stay as they are."""
    rules = old.rules.things
    called = {parse_path(field)[-1] for rule in rules.values() for field in rule.links}
    called |= {name.removesuffix("s") for name in rules} - {ANY}
    for kind, rule in rules.items():
        known = {str(parse_path(field)[0]) for field in rule.links}
        known |= {rule.id, rule.name, rule.x, rule.z, *rule.match}
        for field in old.tables[kind].names():
            if field in known or not (_ENDS.search(field) or field in called):
                continue
            yield Finding.warning(
                "perhaps-a-link",
                f"{field} of {kind} is called like a link, and the card names none: it stays as it is",
                where=old.where,
                remedy="If it is one, add it to `links` in the card: else it leads elsewhere there.",
            )


def doubtful_totals(setting: SettingIn) -> Iterator[Finding]:
    """Yield numbers of the new game that seem to count its things, and that the card does not speak of."""
    new = setting.new
    rules = new.rules
    known = {parse_path(row.at) for row in rules.totals} | {parse_path(p) for p in setting.next}
    for leaf in leaves_beside(new):
        name = str(leaf.path[-1])
        if leaf.path in known or type(leaf.value) is not int or not _COUNTS.search(name):
            continue
        if isinstance(new.document, LayoutDocument) and new.document.follows(leaf.path):
            continue
        for kind in new.kinds:
            if leaf.value == new.count(kind) > 0 and len(setting.order[kind]):
                yield Finding.warning(
                    "perhaps-a-total",
                    f"{leaf.name} is {leaf.value:,}, as many as there are {kind}, and the card does not say"
                    " that it counts them: it stays as it is",
                    where=new.where,
                    remedy="If it does, add it to `totals` in the card.",
                )
                break
