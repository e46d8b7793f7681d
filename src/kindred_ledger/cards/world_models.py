"""What `[worlds.NAME]` of a card says, as values; docs/cards.md explains each key."""

from __future__ import annotations

from typing import Any

import msgspec

__all__ = [
    "CensusTable",
    "IdFieldTable",
    "IdListTable",
    "IdSourceTable",
    "LandmarkTable",
    "OwnTable",
    "RegionsTable",
    "WorldTable",
]


class IdSourceTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """Where an id list is: a `file` of the world's folder, or of the install if it begins with a slash.

    Either `names` is the path of a table of names with their numbers, of numbers with their names, or of a
    list of names that counts from 0; or `records` is the path of a list, with the keys `number` and `name`;
    or `pattern` fits the lines of a text, such as a log, and has {number} and {name} in it.
    """

    file: str
    codec: str = ""
    names: str = ""
    records: str = ""
    number: str = "id"
    name: str = "name"
    pattern: str = ""


class IdListTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[worlds.NAME.lists.LIST]`: what numbers mean: where a `build` and a `world` have their lists.

    `bits` is how wide a number may be; `none` are numbers that mean no content. `aliases` say what content is
    called by now: a name, or several if it was split. `substitutes` say what stands for content that is gone;
    `inert` is content that keeps its place until a later build has it again; `empty` what tiles become from
    which something is removed.
    """

    build: IdSourceTable
    world: IdSourceTable | None = None
    bits: int = 16
    none: list[int] = []
    aliases: dict[str, Any] = {}  # a name, or a list of names
    substitutes: dict[str, str] = {}
    inert: str = ""
    empty: str = ""


class IdFieldTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `fields`: where ids stand in files of a world.

    `files` are patterns from the world's folder. In files of a `format`, `at` is the path of the ids; in
    texts a `pattern` has {number} or {name} where they stand. `list` is the one that has them. `kind` is what
    they are counted as. The other keys are fields beside an id, or further out if they are whole paths: how
    many (`amount`), whose (`owner`), where (`x`, `z`). `used_by` is the path of the numbers that count
    entries of a palette. `remove` says what becomes of an id whose content is removed: its `row` goes, it
    becomes `empty`, or that is `refused`.
    """

    files: list[str]
    format: str = ""
    at: str = ""
    pattern: str = ""
    of: str = msgspec.field(default="", name="list")
    kind: str = "content"
    amount: str = ""
    owner: str = ""
    x: str = ""
    z: str = ""
    used_by: str = ""
    remove: str = ""


class RegionsTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`regions` of a world: which files are regions, and where their tiles are.

    `x` and `z` are paths in the file, or parts {x} and {z} of the pattern `name`; a region is `width` tiles
    wide and `height` high, its tiles row by row.
    """

    files: list[str]
    width: int
    height: int
    x: str = ""
    z: str = ""
    name: str = ""


class OwnTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `own`: where the player's own things are: paths of `x` and `z` in files of a format.

    With `owner`, those count of which that field is not empty.
    """

    files: list[str]
    format: str
    x: str
    z: str
    owner: str = ""


class CensusTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `census`: what else is counted: values at a path, added up or counted `by` what they are.

    `tolerance` is how far two sums may differ, as a number or in percent ("2%").
    """

    kind: str
    files: list[str]
    format: str
    sum: str = ""
    by: str = ""
    tolerance: str = "0"


class LandmarkTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `landmarks`: something to look for: `content` within so many tiles of a place.

    `expect` is what must be true after an update: that it is "there", "gone" or "new". `look` says where to
    look in the game.

    >>> fens.worlds["fen"].table.landmarks[1].look
    'from the ferry house to the east'
    """

    name: str
    content: str
    x: int
    z: int
    within: int = 0
    expect: str = "there"
    look: str = ""


class WorldTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[worlds.NAME]`: one kind of worlds: every folder that fits `folders` is one."""

    folders: list[str]
    lists: dict[str, IdListTable]
    fields: list[IdFieldTable]
    regions: RegionsTable | None = None
    own: list[OwnTable] = []
    census: list[CensusTable] = []
    tolerance: dict[str, str] = {}  # by kind of the fields: how far two counts may differ
    worth: dict[str, Any] = {}  # a number by name of content
    landmarks: list[LandmarkTable] = []
