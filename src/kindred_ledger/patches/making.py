"""Making a patch set: every base against every output, file by file."""

from __future__ import annotations

import io
from collections.abc import Mapping

from ..errors import UsageError
from ..formats.vcdiff import encode
from ..places import FILE, Place, Tree, check_portable, scan
from ..progress import Progress
from .contents import content, sketch
from .patch_set import Base, Change, Manifest, Output, sketch_name

__all__ = ["make_patch_set"]

_WORTH = 0.9  # of the new content's size; a larger delta is not kept


def make_patch_set(
    bases: Mapping[Base, Place],
    outputs: Mapping[Output, Place],
    *,
    title: str = "",
    notes: str = "",
    progress: Progress | None = None,
) -> tuple[Manifest, dict[str, bytes]]:
    """Return the manifest of a patch set and its members, to be written by `write_patch_set`.

    A place of one file (`FilePlace`) stands for that file, whatever its name; of others every file is
    held against the one of its path. Only deltas that are worth it are kept: else the content is.

    Raises:
        UsageError: single files and folders are mixed, or a name stands twice.
        UnsafeName: a file has a name that not every system can hold.

    >>> before = kl.MemoryPlace({"a.chart": b"old" * 1000})
    >>> after = kl.MemoryPlace({"a.chart": b"old" * 1000 + b"new"})
    >>> manifest, members = kl.make_patch_set({kl.Base("1"): before}, {kl.Output("2"): after})
    >>> len(members)
    1
    """
    watch = progress or Progress()
    for what, names in (("base", bases), ("output", outputs)):
        if not names:
            raise UsageError(f"a patch set needs at least one {what}")
        if len({each.name for each in names}) < len(names):
            raise UsageError(f"two {what}s have one name")
    trees = {id(place): _tree(place, watch) for place in (*bases.values(), *outputs.values())}
    if len({"" in tree for tree in trees.values()}) > 1:
        raise UsageError("a patch set is for single files, or for folders; these are both")
    made = _Making()
    with watch.task("comparing", total=len(bases) * len(outputs)) as task:
        for base, old in bases.items():
            for output, new in outputs.items():
                made.compare(base, _Side(old, trees[id(old)]), output, _Side(new, trees[id(new)]))
                task.advance()
    for number, place in enumerate(bases.values()):
        if "" in trees[id(place)]:
            with content(place, _Side(place, trees[id(place)]).real("")) as data:
                numbers = sketch(data)
            made.members[sketch_name(number)] = b"".join(n.to_bytes(8, "little") for n in numbers)
    manifest = Manifest(
        title=title,
        notes=notes,
        bases=tuple(bases),
        outputs=tuple(outputs),
        changes=tuple(made.changes),
    )
    return manifest, made.members


class _Side:
    """A place and the tree of its files; a single file has the path ""."""

    def __init__(self, place: Place, tree: Tree) -> None:
        self.place = place
        self.tree = tree

    def real(self, path: str) -> str:
        """Return what a path is in the place."""
        return path or str(getattr(self.place, "name", ""))


class _Making:
    def __init__(self) -> None:
        self.changes: list[Change] = []
        self.members: dict[str, bytes] = {}

    def compare(self, base: Base, old: _Side, output: Output, new: _Side) -> None:
        """Note what becomes of every file."""
        for path in sorted({*old.tree.files, *new.tree.files}):
            before, after = old.tree.get(path), new.tree.get(path)
            was = before.digest.hex() if before is not None and before.digest else ""
            becomes = after.digest.hex() if after is not None and after.digest else ""
            if was == becomes and path:
                continue
            change = Change(base.name, output.name, path, was, becomes)
            if after is not None:
                change = self._made(change, old, new, after.size)
            self.changes.append(change)

    def _made(self, change: Change, old: _Side, new: _Side, size: int) -> Change:
        """Return a change with how it is made; the delta or the content becomes a member."""
        delta, whole = (
            f"deltas/{change.was[:16]}-{change.becomes[:16]}",
            f"contents/{change.becomes[:32]}",
        )
        path = change.path
        with content(new.place, new.real(path)) as target:
            if change.was and delta not in self.members and whole not in self.members:
                out = io.BytesIO()
                with content(old.place, old.real(path)) as data:
                    encode(data, target, out)
                if len(out.getvalue()) < _WORTH * size:
                    self.members[delta] = out.getvalue()
            if change.was and delta in self.members:
                return Change(*_head(change), size, delta, "")
            self.members[whole] = bytes(target)
        return Change(*_head(change), size, "", whole)


def _head(change: Change) -> tuple[str, str, str, str, str]:
    return change.base, change.output, change.path, change.was, change.becomes


def _tree(place: Place, progress: Progress) -> Tree:
    """Return the files of a place with their digests; of a single file the path is ""."""
    tree = scan(place, progress=progress)
    name = getattr(place, "name", None)
    if name is not None:
        return Tree({"": tree[name]})
    files = [path for path in tree.files if tree[path].kind == FILE]
    return Tree({check_portable(path, where=place.location): tree[path] for path in files})
