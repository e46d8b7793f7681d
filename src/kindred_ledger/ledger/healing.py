"""Healing: what is damaged in a ledger put right from a mirror, or from files still on disk.

A damaged file is replaced by a mirror's, if there is a whole one. A pack that nobody has whole is taken
apart: its whole frames go to a new pack, and it is put aside in `damaged/`, for a person to delete.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Sequence
from functools import cached_property

from msgspec import Struct

from ..errors import KindredError, LedgerDamaged
from ..places import Place, place_at, refusals, scan, sync_dir
from ..progress import Progress
from . import settings
from .binder import SUFFIX
from .ledger import Ledger
from .manifest import decode, digests_of
from .mirroring import adopt
from .packs import PACK_SUFFIX, PackIndex, PackWriter, Piece, check_pack, name_of
from .reading import EMPTY
from .verifying import MOVED, Verified, verify

__all__ = ["Healed", "heal"]

_ASIDE = "damaged"


class Healed(Struct, frozen=True):
    """What was found, what was done about it, a line each, and what is still wrong afterwards."""

    before: Verified
    mended: tuple[str, ...]
    after: Verified


def heal(
    ledger: Ledger,
    *,
    mirrors: Sequence[Ledger] = (),
    places: Iterable[Place] | None = None,
    progress: Progress | None = None,
) -> Healed:
    """Verify, mend what can be mended, and verify again.

    Files are taken from `mirrors` under their names; contents that no pack holds any more are looked
    for in `places`, by digest (None: in the places that the entries came from, where they still are).
    """
    watch = progress or Progress()
    before = verify(ledger, progress=watch)
    if not before.faults and not before.costs:
        return Healed(before, (), before)
    healing = _Healing(ledger, mirrors)
    with refusals(ledger.root):
        healing.mend_names(before)
        healing.mend_files(before)
    ledger.index.renew()
    if before.costs:
        healing.adopt_missing_packs()
        healing.find_contents(_places(ledger) if places is None else places, watch)
    return Healed(before, tuple(healing.mended), verify(ledger, progress=watch))


def _places(ledger: Ledger) -> list[Place]:
    """Return the places that entries came from, as far as they are still there."""
    found = {tuple(sorted(entry.roots.items())): entry.roots for entry in ledger.entries()}
    return [place_at(r) for r in found.values() if r and all(map(os.path.isdir, r.values()))]


class _Healing:
    def __init__(self, ledger: Ledger, mirrors: Sequence[Ledger]) -> None:
        self._ledger = ledger
        self._mirrors = mirrors
        self.mended: list[str] = []

    def mend_names(self, found: Verified) -> None:
        """Give files that are whole but under another name their own; put twins aside."""
        moved: list[tuple[str, str, str]] = []
        for fault in found.faults:
            folder, _, name = fault.file.partition("/")
            path = os.path.join(self._ledger.folder(folder), name)
            suffix = PACK_SUFFIX if folder == "packs" else SUFFIX
            # What has `MOVED` behind its name was left so by healing that was cut off.
            if not os.path.isfile(path) or not name.removesuffix(MOVED).endswith(suffix):
                continue
            own = name_of(path) if folder == "packs" else _id_of(path)
            if not own or own + suffix == name:
                continue
            if not name.endswith(MOVED):  # two may have changed names with each other
                os.replace(path, path + MOVED)
            moved.append((folder, name.removesuffix(MOVED), own + suffix))
        for folder, name, own in moved:
            path = os.path.join(self._ledger.folder(folder), name) + MOVED
            final = os.path.join(self._ledger.folder(folder), own)
            if os.path.exists(final):
                self._put_aside(path, name)
                self.mended.append(f"{folder}/{name}: put aside, {own} is there under its own name")
            else:
                os.replace(path, final)
                self.mended.append(f"{folder}/{name}: is {own} again")
            sync_dir(os.path.dirname(final))

    def mend_files(self, found: Verified) -> None:
        """Mend each damaged file: from a mirror, or as far as it goes from itself."""
        for file in dict.fromkeys(fault.file for fault in found.faults):
            folder, _, name = file.partition("/")
            path = os.path.join(self._ledger.root, *file.split("/"))
            if file == settings.SETTINGS:
                self._mend_settings()
            elif folder not in ("packs", *self._ledger.binders) or not os.path.isfile(path):
                continue
            elif not name.endswith((PACK_SUFFIX, SUFFIX)):
                self._put_aside(path, name)
                self.mended.append(f"{file}: put aside, it is no file of the ledger")
            elif (mirror := self._adopted(folder, name)) is not None:
                self.mended.append(f"{file}: copied from {mirror.root}")
            elif folder == "packs":
                self._salvage(path)

    def adopt_missing_packs(self) -> None:
        """Copy the packs that a mirror has and that hold contents nobody here has."""
        wanted = self._lost()
        for mirror in self._mirrors:
            if not wanted:
                return
            names = {*os.listdir(mirror.folder("packs"))} - {
                *os.listdir(self._ledger.folder("packs"))
            }
            for name in sorted(names):
                path = os.path.join(mirror.folder("packs"), name)
                if name.endswith(PACK_SUFFIX) and adopt(self._ledger, "packs", path):
                    self.mended.append(f"packs/{name}: copied from {mirror.root}")
            self._ledger.index.sync()
            wanted = self._lost()

    def find_contents(self, places: Iterable[Place], progress: Progress) -> None:
        """Keep again what entries need and no pack holds, from where it still stands."""
        wanted = self._lost()
        for place in places:
            if not wanted:
                return
            try:
                tree = scan(place, progress=progress)
                there = {path for path in tree.files if tree[path].digest in wanted}
                chosen = tree.select(there.__contains__)
                self._ledger.storing.store(place, chosen, None, progress)
            except KindredError as error:
                self.mended.append(f"{place.location}: could not be looked at: {error.what}")
                continue
            still = self._lost()
            if len(still) < len(wanted):
                number = len(wanted) - len(still)
                self.mended.append(f"{number} contents: kept again from {place.location}")
            wanted = still

    def _adopted(self, folder: str, name: str) -> Ledger | None:
        for mirror in self._mirrors:
            path = os.path.join(mirror.folder(folder), name)
            if os.path.exists(path) and adopt(self._ledger, folder, path):
                return mirror
        return None

    def _mend_settings(self) -> None:
        try:
            id = settings.read(self._ledger.root).id
        except FileNotFoundError:
            id = ""
        settings.create(self._ledger.root, id=id)
        self.mended.append(f"{settings.SETTINGS}: written anew")

    def _salvage(self, path: str) -> None:
        """Move the whole frames of a damaged pack to a new one; put the rest aside."""
        name = os.path.basename(path)
        known = self._ledger.index.known(name.removesuffix(PACK_SUFFIX))
        check = check_pack(path, known)
        pack = check.found or known
        whole: list[int] = []
        made = ""
        if pack is not None:
            bad = {start for start, _ in check.damaged}
            whole = [n for n in range(len(pack.starts)) if pack.offsets[n] not in bad]
            made = self._with_frames(path, pack, whole) + PACK_SUFFIX
        if made != name:
            self._put_aside(path, name)
        number = len(pack.starts) if pack is not None else "all"
        self.mended.append(f"packs/{name}: taken apart, {len(whole)} of {number} frames saved")

    def _with_frames(self, path: str, pack: PackIndex, numbers: Sequence[int]) -> str:
        """Write a pack of some frames of another, with all its recipes; return its name."""
        pieces: dict[int, list[Piece]] = {}
        for chunk in pack.chunks:
            held = pieces.setdefault(pack.frame_at(chunk.at), [])
            held.append(Piece(chunk.digest, chunk.size, chunk.base))
        with self._ledger.storing.session() as session, open(path, "rb") as file:
            writer = PackWriter(f"{session}-1")
            try:
                for number in numbers:
                    file.seek(pack.starts[number])
                    writer.add_frame(pack.lengths[number], pieces.get(number, ()))
                    writer.write(file.read(pack.lengths[number]))
                for recipe in pack.recipes:
                    writer.add_recipe(recipe)
            except BaseException:
                writer.abandon()
                raise
            return writer.seal(self._ledger.folder("packs"))[0]

    def _put_aside(self, path: str, name: str) -> None:
        folder = self._ledger.folder(_ASIDE)
        os.makedirs(folder, exist_ok=True)
        aside, number = os.path.join(folder, name), 1
        while os.path.exists(aside):
            number += 1
            aside = os.path.join(folder, f"{name}-{number}")
        os.replace(path, aside)
        sync_dir(folder)
        sync_dir(os.path.dirname(path))

    def _lost(self) -> set[bytes]:
        """Return the digests of contents that entries have and no pack gives."""
        return self._needed - {EMPTY, *self._ledger.index.readable()}

    @cached_property
    def _needed(self) -> set[bytes]:
        """The digests of all that entries hold, of those that can be read."""
        needed: set[bytes] = set()
        for entry in self._ledger.entries():
            with contextlib.suppress(LedgerDamaged):
                needed.update(digests_of(self._ledger.columns(entry)))
        return needed


def _id_of(path: str) -> str:
    """Return the id a manifest says it has; empty if it is damaged."""
    try:
        with open(path, "rb") as file:
            return str(decode(file.read(), where=path)[0].get("id", ""))
    except (LedgerDamaged, OSError):
        return ""
