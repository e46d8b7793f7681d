"""Keeping: what is put into the ledger comes out the same, and is stored and read once."""

from __future__ import annotations

import os
import shutil
import tempfile
import time
import unittest
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from blake3 import blake3
from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.changes import restore
from kindred_ledger.errors import LedgerError, PlaceChanged, PlaceError, UsageError
from kindred_ledger.ledger import Ledger, Tag
from kindred_ledger.ledger.packs import PackWriter, Piece, read_index
from kindred_ledger.places import (
    FolderPlace,
    MemoryPlace,
    Patterns,
    Seen,
    Tree,
    read_bytes,
    same_content,
    scan,
)
from tests.support import (
    Case,
    Restless,
    contents,
    law,
    opened_files,
    side_law,
    small_disk,
    snapshot,
    unprivileged,
    write,
)


class Laws(unittest.TestCase):
    @law
    @given(contents, contents)
    def test_restoring_gives_the_same_tree(
        self, kept: dict[str, Any], later: dict[str, Any]
    ) -> None:
        """Whatever stands there by then: an exact restore gives back what was kept."""
        with tempfile.TemporaryDirectory() as folder:
            write(f"{folder}/place", kept)
            ledger = Ledger.open(f"{folder}/ledger")
            entry = ledger.backup(FolderPlace(f"{folder}/place"))
            before = snapshot(f"{folder}/place")
            tree = ledger.tree(entry)
            shutil.rmtree(f"{folder}/place")
            write(f"{folder}/place", later)
            restore(entry, ledger=ledger, exact=True).apply(ledger, allow_loss=True)
            self.assertEqual(snapshot(f"{folder}/place"), before)
            self.assertEqual(scan(FolderPlace(f"{folder}/place")), tree)
            self.assertEqual(ledger.check(entry), [])
            ledger.index.close()

    @side_law
    @given(st.lists(st.tuples(st.binary(max_size=40), st.integers(0, 3)), max_size=12), st.data())
    def test_a_cache_of_digests_is_never_the_truth(
        self, drawn: list[tuple[bytes, int]], data: st.DataObject
    ) -> None:
        """A tree scanned with any remembered state equals one scanned without."""
        with tempfile.TemporaryDirectory() as folder:
            place = FolderPlace(folder)
            seen = Seen()
            for content, name in drawn:
                write(folder, {f"{name}.txt": content})
                if data.draw(st.booleans()):
                    os.utime(place.path(f"{name}.txt"), ns=(10**18, 10**18))
                self.assertEqual(scan(place, seen=seen), scan(place))
                seen = Seen(seen.worth_saving().columns())


class Backup(Case):
    def test_an_unchanged_install_is_not_read(self) -> None:
        """The second backup of 3,000 files opens none of them and stores no content."""
        place = self.place({f"{n % 40}/{n}.dat": b"content %d" % n for n in range(3000)})
        for top, _, names in os.walk(place.root):
            for name in names:
                os.utime(os.path.join(top, name), ns=(10**18, 10**18))
        time.sleep(0.1)
        ledger = self.ledger()
        first = ledger.backup(place)
        stored = self._stored()
        with opened_files(place.root) as opened:
            second = ledger.backup(place)
        self.assertEqual(opened, [])
        self.assertEqual(self._stored(), stored)
        self.assertEqual(ledger.tree(first), ledger.tree(second))
        with opened_files(place.root) as opened:  # the count can count: without memory all are read
            ledger.backup(FolderPlace(place.root, without=("none",)))
            scan(place)
        self.assertEqual(len(opened), 3000)

    def _stored(self) -> int:
        packs = self.path("ledger", "packs")
        return sum(os.path.getsize(os.path.join(packs, name)) for name in os.listdir(packs))

    def test_the_same_content_is_stored_once(self) -> None:
        """In one place, in another, under another name."""
        noise = os.urandom(300_000)
        ledger = self.ledger()
        ledger.backup(self.place({"a": noise, "b": noise}))
        stored = self._stored()
        self.assertLess(stored, 310_000)
        ledger.backup(self.place({"deep/c": noise}, "other"))
        self.assertEqual(self._stored(), stored)

    def test_large_files_are_chunks_and_come_back(self) -> None:
        """Sizes around the chunk's, and one that spans several packs."""
        chunk = 4 << 20
        files = {f"{n}": os.urandom(n) for n in (chunk - 1, chunk, chunk + 1, 3 * chunk)}
        files["packs"] = os.urandom(70 << 20)
        place = self.place(files)
        ledger = self.ledger()
        entry = ledger.backup(place)
        self.assertGreater(len(os.listdir(self.path("ledger", "packs"))), 1)
        for name, data in files.items():
            self.assertEqual(read_bytes(ledger.place(entry), name), data, name)

    def test_a_backup_can_be_a_selection(self) -> None:
        """Only what is wanted is kept, and the entry says that it is a part."""
        ledger = self.ledger()
        place = self.place({"saves/a": b"1", "other/b": b"2"})
        entry = ledger.backup(place, only=Patterns(("saves/",)), note="mine", pinned=True)
        self.assertEqual(ledger.tree(entry).leaves, ("saves/a",))
        self.assertEqual((entry.complete, entry.note, entry.pinned), (False, "mine", True))

    def test_a_file_that_will_not_hold_still_is_named(self) -> None:
        """It is kept as it was read last, and flagged; before a change it is refused."""
        ledger = self.ledger()
        for size in (3, 6 << 20):
            data = os.urandom(size)
            place = self.place({"log": data, "calm": b"1"})
            entry = ledger.backup(Restless(place.root))
            self.assertEqual(ledger.entry(entry.id).unsettled, ("log",))
            kept = read_bytes(ledger.place(entry), "log")
            self.assertEqual((kept[:size], len(kept)), (data, ledger.tree(entry)["log"].size))
            self.assertEqual(ledger.check(entry), [])
            with self.assertRaisesRegex(PlaceChanged, "log"):
                ledger.keep(Restless(place.root), Tag(), place.survey(), reason="before a test")
            calm = ledger.backup(place)
            self.assertEqual((calm.unsettled, ledger.check(calm)), ((), []))

    def test_what_was_read_of_a_torn_file_is_kept_whole(self) -> None:
        """One that changes under the reading itself: every byte that was read, last ones included."""

        class Torn(FolderPlace):
            def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
                for path, blocks in super().read(paths):
                    yield path, self._torn(blocks)

            def _torn(self, blocks: Iterable[bytes]) -> Iterator[bytes]:
                yield from blocks
                raise PlaceChanged("the file changed while it was read")

        ledger = self.ledger()
        files = {"small": b"reeds", "large": os.urandom((9 << 20) + 5)}
        entry = ledger.backup(Torn(self.place(files).root))
        self.assertEqual(set(entry.unsettled), set(files))
        for name, data in files.items():
            self.assertEqual(read_bytes(ledger.place(entry), name), data)

    def test_a_place_that_changes_between_looking_and_reading(self) -> None:
        """Files that went away, grew, shrank or became something else: the entry is what is there now."""
        files = {name: name.encode() * 9 for name in (*"abcdefg", "large", "h/i", "h/j")}
        files["large"] = os.urandom(6 << 20)
        place = self.place(files)

        def shift() -> None:
            for name in "abcdf":
                os.remove(place.path(name))
            write(place.root, {"b": b"b", "c": b"c" * 100_000, "d/within/it": b"new"})
            os.symlink("g", place.path("e-link"))
            os.replace(place.path("e-link"), place.path("e"))
            os.mkfifo(place.path("f"))
            shutil.rmtree(place.path("h"))
            with open(place.path("large"), "ab") as file:
                file.write(b"grown")

        ledger = self.ledger()
        entry = ledger.backup(Shifting(place.root, shift))
        tree = ledger.tree(entry)
        expected = scan(place)
        self.assertEqual(entry.unsettled, ())
        self.assertEqual(tree.leaves, ("b", "c", "d/within/it", "e", "f", "g", "large"))
        for path in tree.leaves:
            self.assertTrue(same_content(tree[path], expected[path]), path)
        self.assertEqual(ledger.check(entry), [])

    def test_what_goes_away_at_the_last_reading(self) -> None:
        """It is not in the entry: neither as it was listed nor as nothing."""

        class Going(FolderPlace):
            def read(self, paths: Iterable[str]) -> Iterator[tuple[str, Iterable[bytes]]]:
                for path in paths:
                    if path.startswith("going"):
                        os.remove(self.path(path))
                    yield from super().read([path])
                    if path.startswith("going"):
                        write(self.root, {path: b"back"})

        place = self.place({"going": b"1", "going too": bytes(5 << 20), "stays": b"2"})
        ledger = self.ledger()
        entry = ledger.backup(Going(place.root))
        self.assertEqual((ledger.tree(entry).files, entry.unsettled), (("stays",), ()))
        self.assertEqual(ledger.check(entry), [])

    def test_what_is_kept_is_looked_up_where_packs_went_away(self) -> None:
        """An install that did not change is stored again when the pack with its contents is gone."""
        place = self.place({"a": b"1" * 1000, "b": b"2"})
        old = time.time() - 60
        for name in ("a", "b"):
            os.utime(place.path(name), (old, old))
        time.sleep(0.06)  # past the grain of the clock: what is read now is believed later
        self.ledger().backup(place)
        (name,) = os.listdir(self.path("ledger", "packs"))
        with opened_files(place.root) as opened:
            self.ledger().backup(place)
        self.assertEqual(opened, [])
        os.remove(self.path("ledger", "packs", name))
        ledger = self.ledger()
        self.assertEqual(ledger.check(ledger.backup(place)), [])

    def test_where_threads_share_a_place_in_a_file(self) -> None:
        """As on Windows, which cannot read at an offset: several frames at once, each its own bytes."""
        data = {f"f{n}": os.urandom(2 << 20) for n in range(24)}
        ledger = self.ledger()
        entry = ledger.backup(self.place(data))
        real = getattr(os, "pread", None)
        if real is not None:
            del os.pread
        try:
            for _ in range(3):
                place = ledger.place(entry)
                read = {path: b"".join(blocks) for path, blocks in place.read(place.tree.files)}
                self.assertEqual(read, data)
        finally:
            if real is not None:
                os.pread = real

    def test_a_ledger_on_a_full_disk(self) -> None:
        """No entry, no pack that is not whole, and what was kept before is still all there."""
        os.mkdir(self.path("disk"))
        small_disk(self, self.path("disk"), "3m")
        ledger = self.ledger("disk/ledger")
        first = ledger.backup(self.place({"a": b"1" * 1000}, "first"))
        place = self.place({f"{n}": os.urandom(900_000) for n in range(9)})
        with self.assertRaisesRegex(PlaceError, "No space left"):
            ledger.backup(place)
        self.assertEqual([entry.id for entry in ledger.entries()], [first.id])
        self.assertEqual(ledger.check(first), [])
        for name in os.listdir(self.path("disk", "ledger", "packs")):
            read_index(self.path("disk", "ledger", "packs", name))
        self.assertEqual(os.listdir(self.path("disk", "ledger", "work")), [])

    @unittest.skipIf(os.name == "nt", "needs limits on the size of files")
    def test_a_pack_of_which_a_write_failed(self) -> None:
        """It takes nothing more and gets no name, though there is room again."""
        import resource

        os.mkdir(self.path("packs"))
        for again in (True, False):
            writer = PackWriter(self.path("part"))
            frames = [os.urandom(100_000), os.urandom(100_000)]
            for frame in frames:
                writer.add_frame(len(frame), [Piece(blake3(frame).digest(), len(frame))])
            limits = resource.getrlimit(resource.RLIMIT_FSIZE)
            resource.setrlimit(resource.RLIMIT_FSIZE, (50_000, limits[1]))
            try:
                with self.assertRaises(OSError):
                    writer.write(frames[0])
            finally:
                resource.setrlimit(resource.RLIMIT_FSIZE, limits)
            if again:
                with self.assertRaisesRegex(OSError, "an earlier frame"):
                    writer.write(frames[1])
            with self.assertRaises(OSError):
                writer.finalize(self.path("packs"))
            self.assertEqual(os.listdir(self.path("packs")), [])
            self.assertFalse(os.path.exists(self.path("part")))

    def test_permission_refused_makes_no_entry(self) -> None:
        """One unreadable file ends the backup with its name; nothing half kept is listed."""
        place = self.place({"a": b"1", "locked": b"2"})
        ledger = self.ledger()
        os.chmod(place.path("locked"), 0)
        with unprivileged(self.folder), self.assertRaisesRegex(PlaceError, "permissions"):
            ledger.backup(place)
        self.assertEqual(ledger.entries(), [])


class Shifting(FolderPlace):
    """A folder that changes once, after it was looked at for the first time."""

    def __init__(self, root: str, shift: Callable[[], None]) -> None:
        super().__init__(root)
        self._shifts = [shift]

    def survey(self, *, seen: Seen | None = None) -> Tree:
        tree = super().survey(seen=seen)
        while self._shifts:
            self._shifts.pop()()
        return tree


class Entries(Case):
    def test_entries_are_found_as_people_name_them(self) -> None:
        """By id, its beginning, title@version and latest; anything else is told with what there is."""
        ledger = self.ledger(clock=iter(range(10**9 * 2, 10**9 * 3, 1000)).__next__)
        place = MemoryPlace({"a": b"1"})
        ids = []
        for version in ("1.4", "1.4", "2.0"):
            tag = Tag("mossferry", version, "version.txt", {"saves": Patterns(("saves/",))})
            ids.append(ledger.backup(_Tagged(place, tag)).id)
        self.assertEqual([e.id for e in ledger.entries()], ids)
        self.assertEqual(sorted(ids), ids)
        self.assertEqual(ledger.entry("mossferry@1.4").id, ids[1])
        self.assertEqual(ledger.entry("latest").id, ids[2])
        self.assertEqual(ledger.entry(f"entry:{ids[0]}").id, ids[0])
        self.assertEqual(ledger.entry(ids[0][:8]).id, ids[0])
        self.assertEqual(ledger.entry(ids[0]).tag.categories["saves"], Patterns(("saves/",)))
        for text, words in (("mossferry@3", "2.0"), ("zzz", "latest"), (ids[0][:2], "Type more")):
            with self.assertRaisesRegex(UsageError, words):
                ledger.entry(text)

    def test_ids_keep_their_order_when_the_clock_goes_back(self) -> None:
        """A clock that jumps back makes no id that sorts before an older one."""
        times = iter((2e9, 1.9e9, 1.9e9, 1.8e9))
        ledger = self.ledger(clock=lambda: next(times))
        ids = [ledger.backup(MemoryPlace({"a": b"1"})).id for _ in range(4)]
        self.assertEqual(sorted(set(ids)), ids)

    def test_a_folder_that_is_no_ledger(self) -> None:
        """Neither a stranger's folder nor a newer format is touched."""
        write(self.path("photos"), {"a.png": b"1"})
        with self.assertRaisesRegex(LedgerError, "neither empty nor a ledger"):
            Ledger.open(self.path("photos"))
        with self.assertRaisesRegex(LedgerError, "no ledger here"):
            Ledger.open(self.path("new"), create=False)
        self.assertFalse(os.path.exists(self.path("new")))
        write(self.path("newer"), {"ledger.toml": b"format = 9\n"})
        with self.assertRaisesRegex(LedgerError, "(?s)format 9.*Update this program"):
            Ledger.open(self.path("newer"))

    def test_an_empty_place_is_an_entry(self) -> None:
        """Nothing is kept, and comes back as nothing."""
        ledger = self.ledger()
        entry = ledger.backup(self.place({}))
        self.assertEqual(ledger.tree(entry), Tree())


class _Tagged:
    def __init__(self, place: MemoryPlace, tag: Tag) -> None:
        self.place = place
        self.tag = tag
