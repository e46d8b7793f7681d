"""Signs for a first card: what tells apart files that have no version key.

Numbers in the names of files or folders come first; else the first keys of the files, where some have what
others lack. What is proposed fits every sample, and just one sign fits each.
"""

from __future__ import annotations

import re
from itertools import islice
from statistics import median

from ..errors import KindredError
from ..formats import decode
from ..places import Tree

__all__ = ["draft_signs", "first_keys"]

_IN_NAME = re.compile(r"[._-]v(\d{1,4})([._-]|$)")
_FOLDER = re.compile(r"[a-z_-]*v(\d{1,4})")
_MOST_LEAVES = 10_000  # of a file, to find its first keys by
_MOST_SIGNS = 6


def first_keys(data: bytes, codec: str) -> frozenset[str]:
    """Return the names of what lies at the top of a file."""
    try:
        leaves = islice(decode(data, codec).leaves(), _MOST_LEAVES)
        firsts = {leaf.path[0] for leaf in leaves if leaf.path}
    except KindredError:
        return frozenset()
    return frozenset(key for key in firsts if isinstance(key, str) and re.fullmatch(r"\w+", key))


def draft_signs(tree: Tree, keys: dict[str, frozenset[str]]) -> dict[str, str]:
    """Return what tells the versions of files, as a card says it; `keys` are the first keys, by path."""
    return _by_name(list(keys)) or _by_keys(tree, keys) or {"1": '{ name = "*" }'}


def _by_name(paths: list[str]) -> dict[str, str]:
    """Tell files apart by a number that all of them have in their names, or in that of a folder."""
    for number_of in (_number_in_name, _number_of_folder):
        signs: dict[str, str] = {}
        found = [number_of(path) for path in paths]
        same = all(each and signs.setdefault(*each) == each[1] for each in found)
        if signs and same:
            return {number: signs[number] for number in sorted(signs, key=int)}
    return {}


def _number_in_name(path: str) -> tuple[str, str] | None:
    found = _IN_NAME.search(path.rpartition("/")[2])
    if found is None:
        return None
    return str(int(found[1])), f'{{ name = "*{found[0]}{"*" if found[2] else ""}" }}'


def _number_of_folder(path: str) -> tuple[str, str] | None:
    for folder in reversed(path.split("/")[:-1]):
        if found := _FOLDER.fullmatch(folder):
            return str(int(found[1])), f'{{ folder = "{folder}" }}'
    return None


def _by_keys(tree: Tree, keys: dict[str, frozenset[str]]) -> dict[str, str]:
    """Tell files apart by a key that only some have, the oldest first."""
    groups: dict[frozenset[str], list[str]] = {}
    for path, names in keys.items():
        groups.setdefault(names, []).append(path)
    common = frozenset.intersection(*groups) if groups else frozenset()
    own = {
        names: sorted(names.difference(*(other for other in groups if other != names)))
        for names in groups
    }
    one = {"1": f'{{ has = "{min(common)}" }}'} if common else {}
    if not 1 < len(groups) <= _MOST_SIGNS or sum(not each for each in own.values()) > 1:
        return one
    signs: dict[str, str] = {}
    ordered = sorted(
        groups, key=lambda names: median(tree[path].mtime_ns for path in groups[names])
    )
    for number, names in enumerate(ordered, 1):
        if own[names]:
            signs[str(number)] = f'{{ has = "{own[names][0]}" }}'
            continue
        others = [each[0] for key, each in own.items() if key != names]
        if len(others) > 1 or not common:
            return one
        signs[str(number)] = f'{{ has = "{min(common)}", lacks = "{others[0]}" }}'
    return signs
