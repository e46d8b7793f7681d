"""What contradicts itself in the tables `[transplants.NAME]` of a card."""

from __future__ import annotations

from collections.abc import Iterator

from ..errors import KindredError
from ..formats import ANY, codec_names, parse_path
from ..formats.expressions import Expression
from ..suggestions import hint
from ..versions import Scheme, VersionRange
from .helper_models import evidence_faults
from .models import CardFile
from .transplant_models import LinkTable, ThingsTable, TransplantTable

__all__ = ["BRING", "LEAVE", "MATCH", "kinds_linked", "transplants_faults", "when_linked"]

_KEY = tuple[str | int, ...]
BRING, MATCH, LEAVE = "bring", "match", "leave"
_MOST_BITS = 64


def when_linked(table: ThingsTable) -> str:
    """Return what becomes of a thing of a kind that something taken refers to."""
    if table.when_linked:
        return table.when_linked
    return MATCH if table.match or table.same else LEAVE if table.mine else BRING


def kinds_linked(link: LinkTable) -> tuple[str, ...]:
    """Return the kinds that a link may lead to."""
    return (link.to,) if isinstance(link.to, str) else tuple(link.to)


def transplants_faults(card: CardFile, builds: Scheme | None) -> Iterator[tuple[_KEY, str]]:
    """Yield what contradicts itself in the tables about transplants; a key and the fault each."""
    for name, table in card.transplants.items():
        for key, fault in _faults(table, card, builds):
            yield ("transplants", name, *key), fault


def _faults(
    table: TransplantTable, card: CardFile, builds: Scheme | None
) -> Iterator[tuple[_KEY, str]]:
    if not table.ways:
        yield ("ways",), "expected at least one row with `from` and `to`"
    for at, way in enumerate(table.ways):
        for part, text in (("from", way.source), ("to", way.to)):
            try:
                VersionRange.parse(text, builds if part == "to" or not table.of else None)
            except KindredError as error:
                yield ("ways", at, part), error.what
    if table.of and (card.variant is None or card.variant.of != table.of):
        yield ("of",), f"this card is no `[variant]` of {table.of!r}"
    if table.of and not table.things:
        return  # they are those of that title
    if table.format not in card.formats:
        told = hint(table.format, card.formats)
        yield ("format",), f"there is no format {table.format!r} in this card{told}"
    if not any(each.mine for each in table.things.values()):
        yield ("things",), "nothing says what is the player's: one kind needs `mine`"
    for name, things in table.things.items():
        for key, fault in _things_faults(name, things, table):
            yield ("things", name, *key), fault
    lists: dict[str, str] = {}
    for name, things in table.things.items():
        other = lists.setdefault(things.at, name)
        if other != name:
            yield ("things", name, "at"), f"the things of {other} are in that list"
    for at, text in enumerate(table.fresh):
        yield from _expression(("fresh", at), text)
    for at, path in enumerate(table.carry):
        yield from _path(("carry", at), path)
    for at, row in enumerate(table.conditions):
        yield from _known(("conditions", at, "kind"), row.kind, table)
        yield from _expression(("conditions", at, "where"), row.where)
    for at, total in enumerate(table.totals):
        yield from _known(("totals", at, "kind"), total.kind, table)
        yield from _path(("totals", at, "at"), total.at)
        if total.where:
            yield from _expression(("totals", at, "where"), total.where)
    for at, baked in enumerate(table.baked):
        yield from _path(("baked", at, "at"), baked.at)
        if baked.build is not None:
            yield from _path(("baked", at, "build", "at"), baked.build.at)
            if baked.build.codec not in codec_names():
                told = hint(baked.build.codec, codec_names())
                yield (
                    ("baked", at, "build", "codec"),
                    f"there is no codec {baked.build.codec!r}{told}",
                )
    if table.terrain is not None:
        yield from _path(("terrain", "at"), table.terrain.at)
        wide = table.terrain.width
        if isinstance(wide, str):
            yield from _path(("terrain", "width"), wide)
        elif type(wide) is not int or wide < 1:
            yield ("terrain", "width"), "expected a path, or a number of cells"
        if table.terrain.cell < 1:
            yield ("terrain", "cell"), "a cell is at least 1 wide"
    for at, text in enumerate(table.landmarks):
        kind, sign, name = text.partition(":")
        if not sign or not name:
            yield ("landmarks", at), "expected KIND:NAME, such as ferries:Moss Queen"
        yield from _known(("landmarks", at), kind, table)
    yield from evidence_faults(("first_start",), table.first_start)


def _things_faults(
    name: str, things: ThingsTable, table: TransplantTable
) -> Iterator[tuple[_KEY, str]]:
    yield from _path(("at",), things.at)
    if things.next:
        yield from _path(("next",), things.next)
        if not things.id:
            yield ("next",), "things without an `id` have no next one"
    for part, text in (("mine", things.mine), ("same", things.same)):
        if text:
            yield from _expression((part,), text)
    if not 0 <= things.bits <= _MOST_BITS:
        yield ("bits",), f"expected up to {_MOST_BITS}"
    for each in things.together:
        if each not in things.links:
            yield ("with",), f"{each!r} is none of its links{hint(each, things.links)}"
    if things.when_linked not in ("", BRING, MATCH, LEAVE):
        yield ("when_linked",), f"expected {BRING}, {MATCH} or {LEAVE}"
    if when_linked(things) == MATCH and not (things.match or things.same):
        yield ("when_linked",), "it says nothing about `match`: by which fields"
    if bool(things.x) != bool(things.z):
        yield (), "expected both `x` and `z`, or neither"
    for part in ("on", "near", "within", "alone"):
        if getattr(things, part) and not things.x:
            yield (part,), "it has no position: `x` and `z`"
    if (things.on or things.alone) and table.terrain is None:
        yield ("on",), "the card says nothing about `terrain`"
    if things.on and not all(type(each) is int for each in things.on):
        yield ("on",), "expected numbers of the terrain"
    if things.near and things.near not in things.links:
        yield ("near",), f"{things.near!r} is none of its links{hint(things.near, things.links)}"
    for path, link in things.links.items():
        for key, fault in _link_faults(path, link, table):
            yield ("links", path, *key), fault


def _link_faults(path: str, link: LinkTable, table: TransplantTable) -> Iterator[tuple[_KEY, str]]:
    yield from _path((), path)
    kinds = kinds_linked(link)
    if not kinds or not all(isinstance(each, str) for each in kinds):
        yield ("to",), "expected a kind of things, or a list of them"
        return
    for kind in kinds:
        yield from _known(("to",), kind, table)
        if kind in table.things and not table.things[kind].id:
            yield ("to",), f"{kind} have no `id` to lead to"
    if bool(link.by) != bool(link.kinds):
        yield ("by",), "`by` and `kinds` go together"
    for value, kind in link.kinds.items():
        if kind not in kinds:
            yield ("kinds", value), f"it does not lead to {kind}{hint(kind, kinds)}"
    if link.by and ANY in parse_path(path):
        yield ("by",), "only a single link can be told apart by a field beside it"


def _known(key: _KEY, kind: str, table: TransplantTable) -> Iterator[tuple[_KEY, str]]:
    if kind not in table.things:
        yield key, f"there are no things {kind!r}{hint(kind, table.things)}"


def _path(key: _KEY, text: str) -> Iterator[tuple[_KEY, str]]:
    try:
        parse_path(text)
    except KindredError as error:
        yield key, error.what


def _expression(key: _KEY, text: str) -> Iterator[tuple[_KEY, str]]:
    try:
        Expression.parse(text)
    except KindredError as error:
        yield key, error.what
