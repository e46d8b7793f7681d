"""Covering: which files of the title the files of a pack stand in for.

The card says which folder of a pack stands for which folder of the title; without it, the names of the files
tell, if they tell clearly.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping

from ..errors import UsageError

__all__ = ["Covering"]

_MOST_CANDIDATES = 64  # files of one name that are looked at: more tell nothing
_MOST_ROUNDS = 8
_MOST_ASKED = 50  # files of one folder that are asked what it stands for
_CLEAR = 0.6  # the share of files that must tell the same


class Covering:
    """Folders of a pack with the folders they stand for; "" is the top.

    >>> covering = Covering.guess(["tiles/1.tile", "mod.json"], ["data/tiles/1.tile", "data/x"])
    >>> covering.original("tiles/2.tile"), covering.folders
    ('data/tiles/2.tile', {'': 'data'})
    """

    def __init__(self, folders: Mapping[str, str]) -> None:
        self.folders = {key.strip("/"): value.strip("/") for key, value in folders.items()}
        self._longest = sorted(self.folders, key=len, reverse=True)

    def original(self, path: str) -> str:
        """Return the file of the title that one of the pack stands for; "" if no folder says."""
        for folder in self._longest:
            if not folder or path.startswith(f"{folder}/"):
                inner = path[len(folder) + 1 :] if folder else path
                above = self.folders[folder]
                return f"{above}/{inner}" if above else inner
        return ""

    def covers(self, original: str) -> bool:
        """Tell whether a file of the title lies where the pack could stand for it."""
        return any(not above or original.startswith(f"{above}/") for above in self.folders.values())

    def in_pack(self, original: str) -> str:
        """Return what a file of the title would be called in the pack."""
        for folder, above in self.folders.items():
            if not above or original.startswith(f"{above}/"):
                inner = original[len(above) + 1 :] if above else original
                return f"{folder}/{inner}" if folder else inner
        return ""

    @staticmethod
    def guess(pack: Iterable[str], original: Iterable[str]) -> Covering:
        """Tell by the names of files which folder of a pack stands for which of the title, if any does.

        Raises:
            UsageError: several folders could be meant.
        """
        by_name: dict[str, list[str]] = {}
        for path in original:
            by_name.setdefault(path.rpartition("/")[2], []).append(path)
        asked: Counter[str] = Counter()
        some = []
        for path in pack:
            folder = path.rpartition("/")[0]
            asked[folder] += 1
            if asked[folder] <= _MOST_ASKED:
                some.append(path)
        votes = {
            path: _pairs(path, by_name[name])
            for path in some
            if len(by_name.get(name := path.rpartition("/")[2], ())) in range(1, _MOST_CANDIDATES)
        }
        folders: dict[str, str] = {}
        for _ in range(_MOST_ROUNDS):
            counts = Counter(pair for pairs in votes.values() for pair in pairs)
            if not counts:
                break
            (folder, above), most = counts.most_common(1)[0]
            rivals = [
                pair
                for pair, number in counts.items()
                if pair[0] == folder and pair[1] != above and number > most * _CLEAR
            ]
            if rivals:
                shown = ", ".join(sorted({above, *(pair[1] for pair in rivals)}))
                raise UsageError(
                    f"which folder of the title {folder or 'the pack'} stands for is not clear: {shown}",
                    remedy='Say which: `covers={"": "FOLDER"}`.',
                )
            if folder not in folders:
                folders[folder] = above
            votes = {p: pairs for p, pairs in votes.items() if (folder, above) not in pairs}
        return Covering(folders)


def _pairs(path: str, candidates: Iterable[str]) -> set[tuple[str, str]]:
    """Return the folders that remain if what a path and a candidate end with in common is cut off."""
    pairs = {}
    own = path.split("/")
    for candidate in candidates:
        other = candidate.split("/")
        common = 0
        while common < min(len(own), len(other)) and own[-1 - common] == other[-1 - common]:
            common += 1
        cut = len(own) - common, len(other) - common
        pairs["/".join(own[: cut[0]]), "/".join(other[: cut[1]])] = common
    longest = max(pairs.values(), default=0)
    return {pair for pair, common in pairs.items() if common == longest}
