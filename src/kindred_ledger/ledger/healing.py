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
from ..places import Place, make_folders, refusals, scan, sync_dir
from ..progress import Progress
from ..small_files import open_regular
from . import settings
from .encryption import Encryption
from .entries import LOST
from .known import LEDGER, NEWEST, ledger_ids, write_newest
from .ledger import Ledger
from .manifest import SUFFIX, decode, digests_of
from .mirroring import adopt
from .mirroring import mirror as copy_missing
from .packs import PACK_SUFFIX, PackIndex, PackWriter, Piece, check_pack, name_of
from .reading import EMPTY
from .storage import NEEDED
from .verifying import MOVED, Verified, verify

__all__ = ["Healed", "heal"]

_ASIDE = "damaged"


class Healed(Struct, frozen=True):
    """What was found, what was done about it, a line each, and what is still wrong afterwards.

    >>> healed = kl.heal(ledger)
    >>> healed.mended, healed.after.findings
    ((), ())
    """

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

    >>> kl.heal(ledger).mended
    ()
    """
    watch = progress or Progress()
    before = verify(ledger, progress=watch)
    if not before.findings and not before.costs:
        return Healed(before, (), before)
    healing = _Healing(ledger, mirrors)
    healing.mend_folders(before)
    with refusals(ledger.location):
        if ledger.is_remote:
            healing.mend_remote_files(before)
        else:
            healing.mend_names(before)
            healing.mend_files(before)
    ledger.index.renew()
    if before.costs or ledger.is_remote:
        healing.adopt_missing_packs()
        looked_in = _places(ledger) if places is None else places
        healing.find_contents([*healing.translated(), *looked_in], watch)
    return Healed(before, tuple(healing.mended), verify(ledger, progress=watch))


def _places(ledger: Ledger) -> list[Place]:
    """Return the places that entries came from, as far as they are still there."""
    found = {tuple(sorted(entry.roots.items())): entry.roots for entry in ledger.all_entries()}
    return [ledger.place_at(r) for r in found.values() if r and all(map(os.path.isdir, r.values()))]


class _Healing:
    def __init__(self, ledger: Ledger, mirrors: Sequence[Ledger]) -> None:
        self._ledger = ledger
        self._mirrors = mirrors
        self.mended: list[str] = []

    def mend_folders(self, found: Verified) -> None:
        """Make folders again that are missing, and bring back what mirrors have of them."""
        gone = [fault.where for fault in found.findings if fault.where in NEEDED]
        for name in gone:
            make_folders(self._ledger.folder(name), private=True)
            self.mended.append(f"{name}: the folder was made again")
        self._ledger.storage.forgives = False
        for source in self._mirrors if gone else ():
            done = copy_missing(source, self._ledger)
            if done.packs + done.entries + done.changes + done.marks:
                self.mended.append(
                    f"{done.packs} packs, {done.entries} entries and {done.changes} changes:"
                    f" copied from {source.location}"
                )

    def mend_names(self, found: Verified) -> None:
        """Give files that are whole but under another name their own; put twins aside."""
        moved: list[tuple[str, str, str]] = []
        for fault in found.findings:
            folder, _, name = fault.where.partition("/")
            path = os.path.join(self._ledger.folder(folder), name)
            suffix = PACK_SUFFIX if folder == "packs" else SUFFIX
            # What has `MOVED` behind its name was left so by healing that was cut off.
            if not os.path.isfile(path) or not name.removesuffix(MOVED).endswith(suffix):
                continue
            own = (
                name_of(path)
                if folder == "packs"
                else _id_of(path, self._ledger.storage.encryption)
            )
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
        for file in dict.fromkeys(fault.where for fault in found.findings):
            folder, _, name = file.partition("/")
            path = os.path.join(self._ledger.root, *file.split("/"))
            if file == settings.SETTINGS:
                self._mend_settings()
            elif folder == NEWEST and name.endswith(SUFFIX):
                self._note_anew(name)
            elif folder in self._ledger.manifest_stores and not os.path.lexists(path):
                self._bring_back(folder, name)
            elif folder not in ("packs", *self._ledger.manifest_stores) or not os.path.isfile(path):
                continue
            elif not name.endswith((PACK_SUFFIX, SUFFIX)):
                self._put_aside(path, name)
                self.mended.append(f"{file}: put aside, it is no file of the ledger")
            elif (mirror := self._adopted(folder, name)) is not None:
                self.mended.append(f"{file}: copied from {mirror.location}")
            elif folder == "packs":
                self._salvage(path)

    def mend_remote_files(self, found: Verified) -> None:
        """Mend each damaged file of a ledger on a remote: from a mirror, or by removing it."""
        for file in dict.fromkeys(fault.where for fault in found.findings):
            folder, _, name = file.partition("/")
            if file == settings.SETTINGS:
                self._mend_settings()
            if folder == "keys":
                self._ledger.storage.mend_keys()
                self.mended.append(f"{file}: copied from one that is whole")
            if folder == NEWEST and name.endswith(SUFFIX):
                self._note_anew(name)
            if not name or folder not in ("packs", *self._ledger.manifest_stores):
                continue
            if folder != "packs" and not self._ledger.storage.exists(folder, name):
                self._bring_back(folder, name)
                continue
            cached = os.path.join(self._ledger.folder(folder), name)
            if os.path.exists(cached) and adopt(self._ledger, folder, cached):
                self.mended.append(f"{file}: sent again from the local copy")
            elif (mirror := self._adopted(folder, name)) is not None:
                self.mended.append(f"{file}: copied from {mirror.location}")
            elif folder == "packs":
                with self._ledger.storage.as_kept(folder, name) as path:
                    made, told = self._taken_apart(path)
                if made != name:
                    self._ledger.storage.remove(folder, [name])
                self.mended.append(f"{file}: {told}")

    def _bring_back(self, folder: str, name: str) -> None:
        """Copy a manifest that was deleted from a mirror; note that it is lost if none has it."""
        mirror = self._adopted(folder, name)
        if mirror is not None:
            self.mended.append(f"{folder}/{name}: copied from {mirror.location}")
            return
        self._ledger.mark(LOST, f"{folder}/{name.removesuffix(SUFFIX)}", note="no copy was found")
        self.mended.append(f"{folder}/{name}: lost; no copy was found, and that is noted")

    def _note_anew(self, name: str) -> None:
        """Write what is newest again, for the writer whose file is damaged or was deleted."""
        write_newest(self._ledger.storage, name.removesuffix(SUFFIX))
        self.mended.append(f"{NEWEST}/{name}: written anew")

    def adopt_missing_packs(self) -> None:
        """Copy the packs that a mirror has and that hold contents nobody here has."""
        wanted = self._lost()
        for mirror in self._mirrors:
            if not wanted:
                return
            if mirror.storage.encryption.key != self._ledger.storage.encryption.key:
                continue
            names = {*mirror.storage.names("packs")} - {*self._ledger.storage.names("packs")}
            for name in sorted(names):
                with mirror.storage.as_kept("packs", name) as path:
                    if name.endswith(PACK_SUFFIX) and adopt(self._ledger, "packs", path):
                        self.mended.append(f"packs/{name}: copied from {mirror.location}")
            self._ledger.index.sync()
            wanted = self._lost()

    def translated(self) -> list[Place]:
        """Return the entries of mirrors whose packs cannot be copied: they are under another key."""
        key = self._ledger.storage.encryption.key
        others = [mirror for mirror in self._mirrors if mirror.storage.encryption.key != key]
        return [mirror.place(entry) for mirror in others for entry in mirror.all_entries()]

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
                with self._ledger.storing.session() as again:
                    while again():
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
            if not mirror.storage.exists(folder, name):
                continue
            if mirror.storage.encryption.key != self._ledger.storage.encryption.key:
                if self._translated(mirror, folder, name):
                    return mirror
            else:
                with mirror.storage.as_kept(folder, name) as path:
                    if adopt(self._ledger, folder, path):
                        return mirror
        return None

    def _translated(self, mirror: Ledger, folder: str, name: str) -> bool:
        """Write a manifest anew that a mirror has under another key; tell whether it could be read."""
        manifest_store, id = self._ledger.manifest_stores.get(folder), name.removesuffix(SUFFIX)
        if manifest_store is None:
            return False
        try:
            header, body = mirror.manifest_stores[folder].read(id)
        except LedgerDamaged:
            return False
        with self._ledger.sessions.hold() as session:
            manifest_store.write(f"{session}-manifest", header, body)
            manifest_store.take_in(id, f"{session}-manifest")
        return True

    def _mend_settings(self) -> None:
        known = self._ledger.index.ids(LEDGER) or ledger_ids(self._ledger.storage)
        self._ledger.storage.mend_settings(id=known.pop() if len(known) == 1 else "")
        self.mended.append(f"{settings.SETTINGS}: written anew")

    def _salvage(self, path: str) -> None:
        """Move the whole frames of a damaged pack to a new one; put the rest aside."""
        name = os.path.basename(path)
        made, told = self._taken_apart(path)
        if made != name:
            self._put_aside(path, name)
        self.mended.append(f"packs/{name}: {told}")

    def _taken_apart(self, path: str) -> tuple[str, str]:
        """Write the whole frames of a damaged pack to a new one; return its name, and what to tell."""
        name = os.path.basename(path)
        known = self._ledger.index.known(name.removesuffix(PACK_SUFFIX))
        check = check_pack(path, known, self._ledger.storage.encryption)
        pack = check.found or known
        whole: list[int] = []
        made = ""
        if pack is not None:
            bad = {start for start, _ in check.damaged}
            whole = [n for n in range(len(pack.starts)) if pack.offsets[n] not in bad]
            made = self._with_frames(path, pack, whole) + PACK_SUFFIX
        number = len(pack.starts) if pack is not None else "all"
        return made, f"taken apart, {len(whole)} of {number} frames saved"

    def _with_frames(self, path: str, pack: PackIndex, numbers: Sequence[int]) -> str:
        """Write a pack of some frames of another, with all its recipes; return its name."""
        pieces: dict[int, list[Piece]] = {}
        for chunk in pack.chunks:
            held = pieces.setdefault(pack.frame_at(chunk.at), [])
            held.append(Piece(chunk.digest, chunk.size, chunk.base))
        with self._ledger.sessions.hold() as session, open_regular(path, follow=False) as file:
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
            return writer.finalize(self._ledger.storage, over=True)[0]

    def _put_aside(self, path: str, name: str) -> None:
        folder = self._ledger.folder(_ASIDE)
        os.makedirs(folder, mode=0o700, exist_ok=True)
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
        for entry in self._ledger.all_entries():
            with contextlib.suppress(LedgerDamaged):
                needed.update(digests_of(self._ledger.columns(entry)))
        return needed


def _id_of(path: str, encryption: Encryption) -> str:
    """Return the id a manifest says it has; empty if it is damaged."""
    try:
        with open_regular(path, follow=False) as file:
            return str(decode(file.read(), where=path, encryption=encryption)[0].get("id", ""))
    except (LedgerDamaged, OSError):
        return ""
