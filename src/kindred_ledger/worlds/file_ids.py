"""FileIds: all ids of one file of a world, whatever it holds them in."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from ..cards import Card, Format
from ..cards.worlds import Field, IdList, WorldKind
from ..errors import FormatError
from ..formats import ANY, LayoutDocument, Path, parse_path
from ..places import Patterns
from .blocks import BlockCells, plain_blocks, read_blocks
from .cells import Cells, Numbers, TextIds, cells_in
from .tallies import tally_of
from .translation import Translation

__all__ = [
    "FileIds",
    "Item",
    "Positions",
    "Tally",
    "Translated",
    "positions_of",
    "positions_used",
    "weights_of",
]

Item = tuple[str, str, int]  # the list, the kind, the number
Tally = Counter[Item]


class Positions(Struct, frozen=True, eq=False):
    """Where cells are in the world, in tiles: `(n_cells,) int64` each."""

    x: Numbers
    z: Numbers


class FileIds(Struct, eq=False):
    """The ids of one file, read; `data` is what it holds.

    Raises when made:
        FormatError: the file is damaged, or holds something else where ids should stand.
    """

    path: str
    data: bytes
    kind: WorldKind
    document: Any
    cells: list[Cells]
    texts: list[TextIds]
    fields: dict[int, bool]  # those of this file by number in the card: whether it has such a place

    @classmethod
    def open(
        cls, path: str, data: bytes, kind: WorldKind, card: Card, *, in_blocks: bool = True
    ) -> FileIds | None:
        """Read the ids of a file, by its path in the world; None if the card names none in it.

        `in_blocks`: those of compressed blocks may come as one array; else each block has its own.
        """
        numbered = {n: field for n, field in enumerate(kind.fields) if field.files(path)}
        if not numbered:
            return None
        fields = list(numbered.values())
        formats = {field.table.format for field in fields if field.table.format}
        if len(formats) > 1:
            raise FormatError(f"the card says that it is {' and '.join(sorted(formats))}")
        document: Any = None
        blocks: BlockCells | None = None
        if formats:
            format = card.formats[formats.pop()]
            found = _read_blocks(format, fields, data) if in_blocks else None
            if found is not None:
                document, blocks = found
            else:
                document = format.decode(data)
        if document is not None:
            check_parts(document)
        cells: list[Cells] = []
        for field in fields if document is not None else ():
            inside = any(_is_inside(other.at, field.at) for other in fields)
            if blocks is not None and field is blocks.field:
                cells.append(blocks)
            elif field.at and document is not None:
                cells += cells_in(document, field, inside=inside)
        texts = [TextIds.of(data, field) for field in fields if not field.at]
        there = {id(each.field) for each in cells}
        has = {
            n: id(field) in there or not field.at or _has_place(document, field.at)
            for n, field in numbered.items()
        }
        return cls(path, data, kind, document, cells, texts, has)

    @property
    def is_packed(self) -> bool:
        """Whether the file holds its ids in fewer bytes than they take: compressed."""
        return sum(cells.numbers.nbytes for cells in self.cells) > len(self.data)

    def tally(self) -> Tally:
        """Return how often each number stands in the file, by list and kind."""
        return self._tallied(weighted=False)

    def amounts(self) -> Tally:
        """Return how much of each there is: an entry of a palette as often as it is used, goods by amount."""
        return self._tallied(weighted=True)

    def _tallied(self, *, weighted: bool) -> Tally:
        out: Tally = Counter()
        for cells in self.cells:
            table = cells.field.table
            weights = weights_of(cells) if weighted else None
            tally = cells.tally if weights is None else tally_of(cells.numbers, weights)
            for number, many in tally.items():
                out[cells.field.list, table.kind, number] += many
        return out

    def names_in_texts(self, lists: Mapping[str, IdList]) -> Tally:
        """Return how often content of the lists stands in the texts of the file, by number or by name."""
        out: Tally = Counter()
        for text in self.texts:
            ids = lists[text.field.list]
            for value in text.values:
                number = ids.numbers.get(value) if text.by_name else int(value)
                if number is not None:
                    out[text.field.list, text.field.table.kind, number] += 1
        return out

    def translated(self, translations: Mapping[str, Translation]) -> Translated:
        """Return the file with the numbers of other lists; its own bytes if nothing in it changes.

        Raises:
            FormatError: a number is in no list, does not fit there, or cannot be removed.
        """
        going: dict[Path, tuple[Cells, npt.NDArray[np.bool_]]] = {}
        changed = False
        for cells in self.cells:
            translation, tally = translations[cells.field.list], cells.tally
            if translation.keeps(tally):
                continue
            self._check(cells, translation, tally)
            if cells.field.table.remove == "row" and translation.removed & tally.keys():
                keep = translation.rows_kept(cells.numbers)
                if cells.path in going:
                    keep &= going[cells.path][1]
                going[cells.path] = cells, keep
            cells.put(translation.apply(cells.numbers, tally))
            changed = True
        gone_with = self._inside(going.values(), translations)
        for path in sorted(going, key=len, reverse=True):  # inner rows before those they stand in
            cells, keep = going[path]
            cells.drop_rows(keep)
        data = encoded(self.document) if changed else self.data
        for text in self.texts:
            data = _text_translated(text, data, translations[text.field.list])
        return Translated(data, gone_with)

    def _check(self, cells: Cells, translation: Translation, tally: Mapping[int, int]) -> None:
        name = f"{cells.name_of(0)}…"
        translation.check(tally, cells.widest, name)
        if cells.field.table.remove == "row":
            return
        lost = [n for n in tally if translation.numbers[n] < 0 or n in translation.removed]
        if lost and (
            cells.field.table.remove == "refused" or any(translation.numbers[n] < 0 for n in lost)
        ):
            raise FormatError(
                f"{names_of(lost, translation)} cannot be removed there",
                where=name,
                remedy="Choose a substitute or inert content, or say in the card what is `empty`.",
            )

    def _inside(
        self,
        going: Iterable[tuple[Cells, npt.NDArray[np.bool_]]],
        translations: Mapping[str, Translation],
    ) -> Tally:
        """Return what stands inside rows that go, and goes with them."""
        out: Tally = Counter()
        rows = {
            cells.row_path(at)
            for cells, keep in going
            if cells.columns is None
            for at in np.flatnonzero(~keep).tolist()
        }
        for cells in self.cells if rows else ():
            if any(cells.path[:n] in rows for n in range(1, len(cells.path) + 1)):
                own = translations[cells.field.list].removed
                own = own if cells.field.table.remove == "row" else frozenset()
                for number, many in cells.tally.items():
                    if number not in own:  # what is removed itself is counted as that
                        out[cells.field.list, cells.field.table.kind, number] += many
        return out


def _read_blocks(
    format: Format, fields: list[Field], data: bytes
) -> tuple[LayoutDocument, BlockCells] | None:
    """Return a file whose ids stand in compressed blocks, these as one array; None if it is not so."""
    layout = format.layout
    for field in fields if layout is not None else ():
        plain = plain_blocks(layout, field.at) if layout is not None else None
        if plain is not None and field.table.remove != "row" and not _beside(field):
            return read_blocks(data, plain, field)
    return None


def _has_place(document: Any, at: Path) -> bool:
    """Tell whether a file has a place for ids, if only an empty one: no key on the way to it is missing."""
    for length in range(1, len(at) + 1):
        if not document.find(at[:length]):
            return at[length - 1] == ANY  # an empty list, or a key that is not there
    return True


def _beside(field: Field) -> bool:
    table = field.table
    return any((table.amount, table.owner, table.x, table.z, table.used_by))


class Translated(Struct, frozen=True):
    """A file with other numbers, and what went with rows that went, by the numbers it had."""

    data: bytes
    gone_with: Tally


def _is_inside(other: Path, at: Path) -> bool:
    """Tell whether a path leads further into the rows of the table that another stands in."""
    rows = at if at[-1:] == (ANY,) else at[:-1]
    return len(other) > len(rows) + 1 and other[: len(rows)] == rows


def check_parts(document: Any) -> None:
    """Raise `FormatError` if parts of a binary file lie partly over one another."""
    root = getattr(document, "root", None)
    for member in getattr(root, "members", None) or ():
        region = member.region
        spans = region[2] if region else None
        if not spans:
            continue
        last = (0, 0)
        for span in sorted({each for each in spans if each[1] > each[0]}):
            if span[0] < last[1] and span[1] != last[1]:
                raise FormatError(
                    f"two parts lie over each other at {span[0]:,} to {min(last[1], span[1]):,}",
                    where=str(member.key),
                )
            last = max(last, span, key=lambda each: each[1])


def encoded(document: Any) -> bytes:
    """Return the bytes of a document; it is read again by whoever counts what is in it."""
    if isinstance(document, LayoutDocument):
        return document.encode_unread(as_kept=True)
    made: bytes = document.encode()
    return made


def weights_of(cells: Cells) -> npt.NDArray[Any] | None:
    """Return how much each cell stands for; None: one each."""
    if cells.used is not None:
        return cells.used
    return cells.whole_numbers(cells.field.table.amount) if cells.field.table.amount else None


def names_of(numbers: list[int], translation: Translation) -> str:
    """Return the names of some numbers, for a message."""
    names = translation.found.old.names
    return ", ".join(names.get(number, f"number {number}") for number in numbers[:5])


def _text_translated(text: TextIds, data: bytes, translation: Translation) -> bytes:
    """Return a text with the numbers, or names, of the other list."""
    again = TextIds.of(data, text.field)
    found = translation.found
    put: list[str] = []
    for at, value in enumerate(again.values):
        if again.by_name:
            row = found.by_name.get(value)
            fate = translation.fates.get(value)
            if row is None:
                put.append(value)
            elif row.new is not None:
                put.append(row.became or value)
            elif fate is not None and fate.how != "remove" and fate.to:
                put.append(fate.to)
            else:
                raise _no_line(value, again, at)
            continue
        number = translation.numbers.get(int(value))
        if number is None or number < 0 or int(value) in translation.removed:
            raise _no_line(f"number {value}", again, at)
        put.append(str(number))
    return again.put(put) if put != again.values else data


def _no_line(what: str, text: TextIds, at: int) -> FormatError:
    return FormatError(
        f"{what} cannot be removed from a text",
        where=text.line_of(at),
        remedy="Choose a substitute or inert content for it, or take the line out in an editor first.",
    )


# ---- positions -------------------------------------------------------------------------------


def positions_of(ids: FileIds, cells: Cells) -> Positions | None:
    """Return where the ids of a table are in the world; None if nothing tells it."""
    table = cells.field.table
    if table.x and table.z:
        x, z = cells.beside(table.x), cells.beside(table.z)
        if x is None or z is None or any(v is None for v in (*x[:1], *z[:1])):
            return None
        return Positions(_whole(x), _whole(z))
    regions = ids.kind.table.regions
    if regions is None or not _fits(ids.path, regions.files) or table.amount:
        return None
    corner = _corner(ids, regions)
    if corner is None:
        return None
    if cells.used_at is not None:
        return None  # an entry of a palette is wherever it is used: see `positions_used`
    if isinstance(cells, BlockCells):
        at = cells.tile_numbers()
    else:
        at = np.arange(len(cells), dtype=np.int64) + _offset(cells)
    return Positions(corner[0] + at % regions.width, corner[1] + at // regions.width)


def positions_used(ids: FileIds, cells: Cells) -> Positions | None:
    """Return where the tiles are that count entries of a palette: `(n_tiles,)`."""
    regions = ids.kind.table.regions
    if regions is None or cells.used_at is None or not _fits(ids.path, regions.files):
        return None
    corner = _corner(ids, regions)
    if corner is None:
        return None
    at = np.arange(len(cells.used_at), dtype=np.int64)
    return Positions(corner[0] + at % regions.width, corner[1] + at // regions.width)


def _offset(cells: Cells) -> int:
    """Return how many tiles lie before a block, taking all blocks to be as large as this one."""
    indexes = [part for part in cells.path if isinstance(part, int)]
    return indexes[0] * len(cells) if len(indexes) == 1 else 0


def _whole(values: Any) -> Numbers:
    return np.array([int(value) if value is not None else 0 for value in values], np.int64)


def _fits(path: str, patterns: list[str]) -> bool:
    return Patterns(tuple(patterns))(path)


def _corner(ids: FileIds, regions: Any) -> tuple[int, int] | None:
    """Return where the first tile of a region is."""
    if regions.name:
        literal = re.escape(regions.name)
        for part in ("x", "z"):
            literal = literal.replace(re.escape("{" + part + "}"), rf"(?P<{part}>-?\d{{1,9}})")
        match = re.fullmatch(literal, ids.path.rpartition("/")[2])
        if match is None:
            return None
        x, z = int(match["x"]), int(match["z"])
    else:
        found = [ids.document.find(parse_path(path)) for path in (regions.x, regions.z)]
        if not all(found):
            return None
        x, z = (int(ids.document.get(each[0])) for each in found)
    return x * regions.width, z * regions.height
