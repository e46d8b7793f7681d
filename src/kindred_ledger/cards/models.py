"""What a card says, as values. One class a table; docs/cards.md explains each key.

Only the shape is described here; what must hold between keys is checked by `reader`. All are
immutable and refuse keys they do not know (said of each class, as type checkers want it).
"""

from __future__ import annotations

from typing import Any

import msgspec

from .helper_models import HelperTable
from .runbook_models import RunbookTable
from .symptom_models import SymptomTable
from .transplant_models import TransplantTable
from .world_models import WorldTable

__all__ = [
    "PROGRAM",
    "AgreeTable",
    "AxisTable",
    "BuildFormat",
    "BuildsKey",
    "CardFile",
    "CategoryBuilds",
    "CategoryTable",
    "ComponentTable",
    "DecisionTable",
    "DetectTable",
    "ElementsTable",
    "FormatTable",
    "HideTable",
    "LibrariesTable",
    "LibraryTable",
    "LinkKey",
    "LocationTable",
    "ModsTable",
    "MoveTable",
    "NumberRow",
    "NumberTable",
    "OriginalTable",
    "PictureTable",
    "PortableTable",
    "ProgramTable",
    "ProjectsTable",
    "RequireTable",
    "StartTable",
    "StepTable",
    "SwitchTable",
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


class BuildsKey(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`builds` of a kind of mods: where a descriptor says which builds it is for, and how to read it.

    `key` has a range or a list; or `since` and `until` have the first and the last build. `plain` is what a
    build alone means: "exactly" that build, its "series" (1.4 also means 1.4.2), or it and all "later" ones.
    """

    key: str = ""
    since: str = ""
    until: str = ""
    plain: str = "exactly"


class LinkKey(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """Where a descriptor names other mods: a list of ids, of texts such as `reeds >=1.2`, or of records, or a
    table of id = versions. `id`, `versions` and `optional` are the keys of records.
    """

    key: str
    id: str = "id"
    versions: str = "version"
    optional: str = "optional"


class NumberRow(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `builds` of a number: the values that these builds take, the best one first."""

    builds: str
    values: list[int]


class NumberTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `numbers`: a number in a descriptor that must fit the build.

    A `label` only says what a mod is for: to set it needs no conversion of the mod.
    """

    key: str
    builds: list[NumberRow]
    label: bool = False
    required: bool = False


class PictureTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`picture` of a kind of mods: the `file`, or the `key` that names it, and what it must be like."""

    file: str = ""
    key: str = ""
    square: bool = False
    pixels: int = 0  # the most on a side; 0: any
    size_bytes: int = 0  # the most; 0: any
    required: bool = False


class OriginalTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`original` of a kind of mods: the file of the title whose `key` has the ids of its own content."""

    file: str
    key: str
    codec: str = ""


class SwitchTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`on` of a kind of mods: the file whose `key` has the ids that are switched on, as they load."""

    file: str
    key: str
    codec: str = ""


class ModsTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[mods.NAME]`: one kind of mods, packs or projects: where they lie, and what describes each."""

    folders: list[
        str
    ]  # in each every folder is one; what lies in an earlier one hides the same in a later
    descriptor: list[str]  # names of the file that describes one, the right one first
    codec: str = ""
    id: str = "id"
    name: str = "name"
    version: str = "version"
    builds: BuildsKey | None = None
    needs: LinkKey | None = None
    conflicts: LinkKey | None = None
    after: LinkKey | None = None
    folder_name: str = ""  # the key whose value the folder must be called by
    parts: list[str] = []  # keys whose values are files of the mod
    archives: list[str] = []  # which are read as they are: zip, tar
    wrapped: bool = False  # an archive holds one folder with all of it
    wants: str = ""  # built, or sources
    built: list[str] = []
    sources: list[str] = []
    outputs: list[str] = []  # folders of a mod that are laid over one another
    numbers: list[NumberTable] = []
    picture: PictureTable | None = None
    original: OriginalTable | None = None
    on: SwitchTable | None = None
    core: list[str] = []  # ids without which nothing else works
    covers: dict[
        str, str
    ] = {}  # folders of a mod, and the folders of the title they replace files of
    work: list[str] = []  # files of the making, which no pack needs


class LibrariesTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`libraries` of projects: the list that says which libraries a project uses, and the keys in it."""

    list: str
    id: str = "id"  # what elements call it
    name: str = "name"
    version: str = "version"
    file: str = "file"


class ElementsTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One row of `elements` of projects: a list of things that are made of parts of libraries.

    `links` has the ids of others; those that are `ordered` depend on them, and are swapped after them.
    """

    list: str
    library: str = "library"
    part: str = "part"
    id: str = "id"
    parameters: str = "parameters"
    links: str = ""
    ordered: bool = False


class LibraryTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`library` of projects: what the file of a library holds: parts, their parameters, their old names."""

    codec: str = ""
    name: str = "name"
    version: str = "version"
    parts: str = "parts"
    parameters: str = "parameters"
    default: str = "default"
    was: str = "was"


class ProjectsTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`[projects.NAME]`: project files that are made of parts of libraries."""

    files: list[str]
    codec: str
    libraries: LibrariesTable
    elements: list[ElementsTable]
    library: LibraryTable = LibraryTable()
    notes: str = ""  # the list that takes what a swap could not keep


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
    mods: dict[str, ModsTable] = {}
    projects: dict[str, ProjectsTable] = {}
    worlds: dict[str, WorldTable] = {}
    helpers: dict[str, HelperTable] = {}
    transplants: dict[str, TransplantTable] = {}
    runbooks: list[RunbookTable] = []  # the first that fits counts
    symptoms: list[SymptomTable] = []
