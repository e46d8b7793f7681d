"""What `[transplants.NAME]` of a card says, as values; docs/cards.md explains each key."""

from __future__ import annotations

from typing import Any

import msgspec

from .helper_models import EvidenceTable

__all__ = [
    "BakedTable",
    "BuildValueTable",
    "ConditionTable",
    "LinkTable",
    "TerrainTable",
    "ThingTotalTable",
    "ThingsTable",
    "TransplantTable",
    "WayTable",
]


class LinkTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One of `links` of a kind: a field whose number or text is the id of another thing.

    `to` is the kind it leads to, or several, if an id is of one of them; with `by`, a field beside it says
    which, by `kinds`. `none` are values that lead nowhere. A `required` link must lead somewhere, or its
    thing cannot be set in.
    """

    to: Any  # a kind, or a list of kinds
    none: list[Any] = []
    required: bool = False
    by: str = ""
    kinds: dict[str, str] = {}


class ThingsTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[transplants.NAME.things.KIND]`: one kind of things: the records of a list at `at`.

    `id` is the field of their ids, or "@key" where the things are the values of a mapping; they are of the
    `space`; `next` the path of the number the game gives next. `name` is what people know one by. `mine` is
    an expression that says whether one is the player's. Those whose link `with` leads to what is taken are
    taken, too. `when_linked` says what becomes of one that something taken refers to: "bring" it, "match"
    it in the new surroundings by the fields `match`, or "leave" it. `same` is an expression that holds of
    one thing in either save, such as the player's company: those two are the same one.

    `x` and `z` are fields of its position, which must be `on` one of these values of the terrain, no
    further than `within` away; `near` is a link whose move it follows; of things that stand `alone` there
    is one in a cell.
    """

    at: str
    id: str = ""
    space: str = ""
    next: str = ""
    bits: int = 0
    name: str = ""
    mine: str = ""
    together: list[str] = msgspec.field(default_factory=list, name="with")
    when_linked: str = ""
    match: list[str] = []
    same: str = ""
    links: dict[str, LinkTable] = {}
    x: str = ""
    z: str = ""
    on: list[Any] = []
    near: str = ""
    within: int = 0
    alone: bool = False


class ConditionTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `conditions`: things of a kind `where` an expression holds cannot be taken yet.

    `what` says why, `do` what a person does about it in the game.
    """

    kind: str
    where: str
    what: str
    do: str = ""


class BuildValueTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """Where a build itself has values: a `file` of the install, its `codec`, and the path in it."""

    file: str
    codec: str
    at: str


class BakedTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `baked`: a group of fields that a build reads only when a game is begun.

    They stand at `at` in a save; records of a list are known by `key`. `build` says where the build has them.
    """

    name: str
    at: str
    key: str = ""
    build: BuildValueTable | None = None
    why: str = ""


class ThingTotalTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `totals`: a number at `at` that tells how many things of a kind there are, or a sum.

    With `sum`, that field of them is added up; with `where`, only those count of which the expression holds.
    """

    at: str
    kind: str
    sum: str = ""
    where: str = ""


class TerrainTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`terrain`: what is where: a list of numbers at `at`, row by row, each row `width` cells.

    `width` is a path in the save, or a number; a cell is `cell` wide, and the first one begins at `x`, `z`.
    """

    at: str
    width: Any
    cell: int = 1
    x: int = 0
    z: int = 0


class WayTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `ways`: from saves of builds in `from` into fresh ones of builds in `to`."""

    source: str = msgspec.field(name="from")
    to: str


class TransplantTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[transplants.NAME]`: how what is the player's is taken out of one save and set into another.

    `ways` say for which builds the rules were written. The old save is of the title `of`, if that is
    another one; without `things` of its own, a variant's rules are those of that name in the card of that
    title. Both saves are of the `format`. `fresh` are expressions that hold in a game that was just begun;
    `carry` are paths of single values that are the player's. `first_start` shows that the game was started
    with the result, {save} in it is its name. `landmarks` are things, as KIND:NAME, that must be there
    then; `look` says where to look in the game.
    """

    ways: list[WayTable]
    format: str = ""
    things: dict[str, ThingsTable] = {}
    of: str = ""
    fresh: list[str] = []
    carry: list[str] = []
    conditions: list[ConditionTable] = []
    baked: list[BakedTable] = []
    totals: list[ThingTotalTable] = []
    terrain: TerrainTable | None = None
    first_start: list[EvidenceTable] = []
    landmarks: list[str] = []
    look: str = ""
