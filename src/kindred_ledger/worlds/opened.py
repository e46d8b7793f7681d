"""OpenedWorld: a world with the id lists that are in force for it, read file by file.

What always holds: a file that is damaged is named, and never stops the reading of the others.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct

from ..cards import Card, Install
from ..cards.worlds import IdList, World, WorldKind
from ..errors import FormatError, UsageError
from ..ledger import Ledger, Tag
from ..places import Place, Tree
from ..planning.list_in_force import list_in_force
from ..progress import Progress
from ..suggestions import did_you_mean
from .file_ids import FileIds

__all__ = [
    "DamagedFile",
    "OpenedWorld",
    "find_worlds",
    "kinds_of",
    "open_world",
    "opened_file",
    "read_files",
]


class DamagedFile(Struct, frozen=True):
    """A file of a world that cannot be read, and why; `path` is from the world's folder.

    >>> kl.DamagedFile("regions/r.0.0.fen", "it was cut short").path
    'regions/r.0.0.fen'
    """

    path: str
    why: str


class OpenedWorld(Struct, frozen=True, dict=True, eq=False):
    """A world, what it holds, and what its numbers mean; `tree` is that of the whole place.

    >>> northbog = kl.open_world(fen_install, "northbog")
    >>> northbog.name, northbog.lists["things"]
    ('northbog', <IdList user/worlds/northbog/ids.json: 24 names>)
    """

    card: Card
    world: World
    tree: Tree
    lists: Mapping[str, IdList]

    @property
    def name(self) -> str:
        """What the world is called."""
        return self.world.name

    @property
    def kind(self) -> WorldKind:
        """The rules of its kind."""
        return self.world.kind

    def full(self, path: str) -> str:
        """Return the path of a file in the place."""
        return f"{self.world.folder}/{path}"

    def with_ids(self) -> list[str]:
        """Return the files that ids stand in, from the world's folder."""
        fields = self.kind.fields
        return [
            path
            for path in self.world.files(self.tree)
            if any(field.files(path) for field in fields)
        ]

    def contents(
        self, paths: Iterable[str], progress: Progress | None = None
    ) -> Iterator[tuple[str, bytes]]:
        """Yield files of the world, by their paths from its folder, and what is in them."""
        wanted = {self.full(path): path for path in paths}
        total = sum(self.tree[path].size for path in wanted)
        with (progress or Progress()).task("reading", total=total, unit="bytes") as task:
            for path, blocks in self.world.place.read(wanted):
                data = b"".join(blocks)
                task.advance(len(data))
                yield wanted[path], data


def read_files(
    opened: OpenedWorld, progress: Progress | None = None
) -> Iterator[tuple[str, FileIds | DamagedFile]]:
    """Yield all files of a world that ids stand in, each with its ids, or why they cannot be read."""
    for path, data in opened.contents(opened.with_ids(), progress):
        found = opened_file(path, data, opened.kind, opened.card)
        if found is not None:
            yield path, found


def opened_file(
    path: str, data: bytes, kind: WorldKind, card: Card, *, in_blocks: bool = True
) -> FileIds | DamagedFile | None:
    """Return the ids of a file, or why they cannot be read; None if the card names none in it.

    `in_blocks` is as in `FileIds.open`.
    """
    try:
        return FileIds.open(path, data, kind, card, in_blocks=in_blocks)
    except FormatError as error:
        where = f"{error.where}: " if error.where else ""
        return DamagedFile(path, f"{where}{error.what}")


def kinds_of(card: Card) -> list[WorldKind]:
    """Return the kinds of worlds that a card describes.

    Raises:
        UsageError: it describes none.
    """
    if not card.worlds:
        raise UsageError(
            f"the card of {card.name} describes no worlds",
            where=card.path,
            remedy="Add a table [worlds.NAME] to it; see docs/cards.md.",
        )
    return list(card.worlds.values())


def find_worlds(card: Card, place: Place, tree: Tree) -> list[World]:
    """Return all worlds of a title in a place.

    Raises:
        UsageError: the card describes no worlds.
    """
    return [world for kind in kinds_of(card) for world in kind.worlds(place, tree)]


def open_world(
    subject: Install,
    name: str = "",
    *,
    tree: Tree | None = None,
    lists: Mapping[str, IdList] | None = None,
    tag: Tag | None = None,
    ledger: Ledger | None = None,
) -> OpenedWorld:
    """Open a world of an install, or of an entry of one; `name` may be left out where there is only one.

    Its numbers mean what its own list says; a world without one means what it was remapped to last, by the
    `ledger`, or what the list of the build says that is installed with it, or what an entry kept of that.
    `lists` go before all of these.

    Raises:
        UsageError: there is no such world, or several and none is named.
        DecisionNeeded: the world carries no list, and the ledger knows several that it may mean.
        IdListError: no list is there, or it contradicts itself.

    >>> kl.open_world(fen_install).world.folder
    'user/worlds/northbog'
    """
    tree = tree if tree is not None else subject.place.survey()
    found = find_worlds(subject.card, subject.place, tree)
    named = [world for world in found if name in ("", world.name, world.folder)]
    if len(named) != 1:
        names = [world.name for world in found]
        what = "say which world is meant" if named else f"there is no world {name!r}"
        remedy = f"There are: {', '.join(names)}." if named else did_you_mean(name, names)
        if not found:
            what, remedy = "there is no world here", "Check `folders` of the worlds in the card."
        raise UsageError(what, where=subject.place.location, remedy=remedy)
    world = named[0]
    kept = (tag or subject.tag).id_lists if not lists else {}
    in_force = {
        each: (lists or {}).get(each) or list_in_force(world, each, tree, kept=kept, ledger=ledger)
        for each in world.kind.table.lists
    }
    for each, ids in in_force.items():
        ids.check_width(world.kind.table.lists[each].bits)
    return OpenedWorld(subject.card, world, tree, in_force)
