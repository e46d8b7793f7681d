"""What a card says, as values. One class a table; docs/cards.md explains each key.

Only the shape is described here; what must hold between keys is checked by `reader`. All are
immutable and refuse keys they do not know (said of each class, as type checkers want it).
"""

from __future__ import annotations

from typing import Any

import msgspec

__all__ = [
    "PROGRAM",
    "AgreeTable",
    "AxisTable",
    "BuildFormat",
    "CardFile",
    "CategoryBuilds",
    "CategoryTable",
    "ComponentTable",
    "DecisionTable",
    "DetectTable",
    "FormatTable",
    "HideTable",
    "LocationTable",
    "MoveTable",
    "PortableTable",
    "ProgramTable",
    "RequireTable",
    "StartTable",
    "StepTable",
    "TogetherTable",
    "UpdateTable",
    "VersionKey",
    "VersionsTable",
]

PROGRAM = "program"  # the part of an install every title has


class VersionsTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[versions]`: how builds are ordered."""

    scheme: str = "number"
    order: list[str] = []
    names: dict[str, str] = {}  # by what players call a build


class ProgramTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[program]`: files that tell that a folder is an install of this title."""

    markers: list[str]


class DetectTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[[detect]]`: one way to tell the build of an install."""

    file: str = ""
    pattern: str = ""
    key: str = ""
    codec: str = ""
    offset: int = -1
    length: int = 0
    digests: dict[str, str] = {}
    folder: str = ""


class PortableTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`portable` of a location: the folder used when a marker file stands in the program's."""

    marker: str
    folder: str


class LocationTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[locations.NAME]`: where a part of the title's data lives, per platform; `builds` that use it."""

    windows: list[str] = []
    macos: list[str] = []
    linux: list[str] = []
    portable: PortableTable | None = None
    builds: str = "*"


class CategoryBuilds(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `by_build` of a category: which files it is in these builds."""

    builds: str
    include: list[str]
    exclude: list[str] = []


class CategoryTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[categories.NAME]`: which files belong together, and whether an update leaves them alone."""

    include: list[str]
    exclude: list[str] = []
    protect: bool = False
    required: bool = False  # to carry it, something of it must be there
    disposable: bool = False  # made again by the title: logs, caches
    by_build: list[CategoryBuilds] = []  # the first row that holds the build counts


class VariantTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[variant]`: the title this one is a variant of, and what of its data it reads.

    `reads` has format versions by the names of that title's formats.
    """

    of: str
    reads: dict[str, list[str]]


# What `kind` of a sign may be.
KINDS_OF_VALUES = ("text", "number", "truth", "list", "mapping")


class VersionSign(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """What files of a format version have, or lack, or are called, or an expression that holds in them: by
    that they are told where no key does.

    `kind` is what the value at `has` must be: one of `KINDS_OF_VALUES`; `name` a pattern of file
    names, `folder` one of a folder that the file lies in.
    """

    has: str = ""
    kind: str = ""
    lacks: str = ""
    holds: str = ""
    name: str = ""
    folder: str = ""


class VersionKey(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`version` of a format: where a file says which format version it is in.

    `values` say which version a value of the key means, where it is not the version itself; `default` is the
    version of which files have no key, if nothing speaks against it; `signs` tell versions by what is in a
    file, or by its name.
    """

    key: str = ""
    values: dict[str, str] = {}
    default: str = ""
    signs: dict[str, VersionSign] = {}


class BuildFormat(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `builds`: which format version these builds write and which they read."""

    builds: str
    writes: str
    reads: list[str]


class StepTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `steps`: how to get from one format version to another, in order."""

    source: str = msgspec.field(name="from")
    to: str
    do: list[dict[str, Any]]
    note: str = ""


class AgreeTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[[formats.NAME.agree]]`: what must agree in a file, or with another one, after a merge.

    What stands at `value` must be what the expression `equals` gives; or every value at `each` must be one
    of those at `among` in the file `in`.
    """

    why: str
    value: str = ""
    equals: str = ""
    each: str = ""
    among: str = ""
    file: str = msgspec.field(default="", name="in")


class FormatTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[formats.NAME]`: a kind of file, its versions, and how it converts."""

    files: list[str]
    codec: str
    version: VersionKey = VersionKey()  # of a layout that names its own field, nothing is needed
    layout: str = ""
    scheme: str = "integer"
    builds: list[BuildFormat]
    steps: list[StepTable] = []
    covers: dict[str, str] = {}  # of packs: folders in them, and folders of the program
    required: dict[str, list[str]] = {}  # by format version: groups that must hold something
    keys: dict[str, str] = {}  # of lists, by pattern: the field that names their records
    agree: list[AgreeTable] = []


class AxisTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[axes.NAME]`: a version of its own beside the program's, such as that of its data."""

    detect: list[DetectTable]
    scheme: str = "number"
    order: list[str] = []


class TogetherTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[[together]]`: which versions of the axes belong together.

    `same` are axes of which the first `parts` numbers must agree; or, `when` versions are in these
    ranges, those in `need` must be, too.
    """

    same: list[str] = []
    parts: int = 2
    when: dict[str, str] = {}
    need: dict[str, str] = {}
    otherwise: str = ""


class ComponentTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[components.NAME]`: a part of a release that can be updated alone."""

    include: list[str]
    names: list[str] = []  # what players call it
    optional: bool = False  # updated only where it is used
    builds: str = "*"  # which builds come with it


class DecisionTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[[decisions]]`: whose side counts in files, or fields in them, that two sides changed."""

    files: list[str]
    fields: list[str] = []  # without any, the files as wholes
    take: str


class MoveTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `moves`: what lives elsewhere from a build on; `from` may end in `/*`."""

    since: str
    source: str = msgspec.field(name="from")
    to: str


class HideTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `hides`: a folder in which copies hide the files of another."""

    folder: str
    over: str


class StartTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `starts`: the builds from which these can be reached in one go."""

    to: str
    source: str = msgspec.field(name="from")
    otherwise: str = ""


class UpdateTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[update]`: what is kept, what may be overwritten, what moved, what must be there before."""

    keep: list[str] = []  # through a clean reinstall
    overwrite: list[str] = []  # by a release, whoever changed it
    markers: dict[str, str] = {}  # files an install beside another needs, and their text
    moves: list[MoveTable] = []
    hides: list[HideTable] = []
    starts: list[StartTable] = []


class RequireTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[[requires]]`: a program or runtime that builds need, and the folders it may be in."""

    name: str
    builds: str = "*"
    versions: str = "*"
    detect: list[DetectTable]
    windows: list[str] = []
    macos: list[str] = []
    linux: list[str] = []
    otherwise: str = ""


class CardFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """A whole card."""

    card: int
    title: str
    name: str = ""
    versions: VersionsTable = VersionsTable()
    program: ProgramTable
    variant: VariantTable | None = None
    detect: list[DetectTable] = []
    locations: dict[str, LocationTable] = {}
    categories: dict[str, CategoryTable] = {}
    tables: dict[str, Any] = {}  # each of old = new, or a list, which counts from 0
    formats: dict[str, FormatTable] = {}
    axes: dict[str, AxisTable] = {}
    together: list[TogetherTable] = []
    components: dict[str, ComponentTable] = {}
    update: UpdateTable = UpdateTable()
    decisions: list[DecisionTable] = []  # later ones win
    requires: list[RequireTable] = []
