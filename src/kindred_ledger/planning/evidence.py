"""Evidence: what shows that a program ran since things were as they were: newer files, new lines, values.

What always holds: what was there before shows nothing; a file that this program wrote itself shows no run.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from blake3 import blake3

from ..cards import Install
from ..cards.helper_models import EvidenceTable
from ..errors import KindredError
from ..formats import look_up
from ..places import Patterns, Tree, read_bytes

__all__ = ["Evidence"]


def _by_nobody(path: str, data: bytes) -> bool:
    return False


class Evidence:
    """What shows runs of the program of an install, by rows of its card.

    `is_ours` tells whether a file is as a change of ours left it.
    """

    def __init__(
        self,
        install: Install,
        rows: Sequence[EvidenceTable],
        tree: Tree,
        *,
        is_ours: Callable[[str, bytes], bool] = _by_nobody,
    ) -> None:
        self._install, self._rows, self._tree, self._is_ours = install, rows, tree, is_ours

    def state(self) -> dict[str, str]:
        """Return how the files are that show a run: their sizes, times and how many lines tell."""
        out = {"": ""}  # never empty, even where no such file is there yet
        for row in self._rows:
            for path in self._files(row):
                out[f"{row.file}|{row.line}|{path}"] = self._as_it_is(row, path)
        return out

    def all_show(self, rows: Sequence[EvidenceTable], was: Mapping[str, str]) -> bool:
        """Tell whether all rows show a run since things were so."""
        return all(self._shows(row, was) for row in rows)

    def what_shows(self, rows: Sequence[EvidenceTable]) -> str:
        """Return in words what would show a run."""
        told = []
        for row in rows:
            if row.line:
                told.append(f'a new line "{row.line}" in {row.file}')
            elif row.key:
                told.append(f"{row.key} = {row.value} in {row.file}")
            else:
                told.append(f"a newer {row.file}")
        return f"nothing shows it yet: {', '.join(told)}"

    def _files(self, row: EvidenceTable) -> list[str]:
        fits = Patterns((row.file,))
        return [path for path in self._tree.files if fits(path)]

    def _as_it_is(self, row: EvidenceTable, path: str) -> str:
        data = read_bytes(self._install.place, path)
        first = data.count(row.line.encode()) if row.line else self._tree[path].mtime_ns
        return f"{first} {len(data)} {_short_digest(data)}"

    def _shows(self, row: EvidenceTable, was: Mapping[str, str]) -> bool:
        files = self._files(row)
        if row.key:
            return bool(files) and all(self._says(row, path) for path in files)
        return any(
            self._is_later(row, path, was.get(f"{row.file}|{row.line}|{path}")) for path in files
        )

    def _is_later(self, row: EvidenceTable, path: str, was: str | None) -> bool:
        """Tell whether a file was written by a run since it was so; None: since it was not there."""
        data = read_bytes(self._install.place, path)
        first, length, digest = was.split() if was is not None else ("0", "0", _short_digest(b""))
        if not row.line:
            return self._tree[path].mtime_ns > int(first) and not self._is_ours(path, data)
        many = data.count(row.line.encode())
        goes_on = _short_digest(data[: int(length)]) == digest  # else it is a log of its own
        return many > int(first) if goes_on else many > 0

    def _says(self, row: EvidenceTable, path: str) -> bool:
        try:
            return look_up(read_bytes(self._install.place, path), row.codec, row.key) == row.value
        except KindredError:
            return False


def _short_digest(data: bytes) -> str:
    return blake3(data).hexdigest()[:16]
