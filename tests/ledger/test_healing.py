"""Mirrors and healing: what one copy lost the other gives back, and nothing is thrown away."""

from __future__ import annotations

import os
import random
import shutil
from types import SimpleNamespace
from unittest import mock

from kindred_ledger.errors import UsageError
from kindred_ledger.ledger import Ledger, heal, mirror, verify
from kindred_ledger.places import FolderPlace, read_bytes
from tests.support import EXAMPLES, KeptCase, PlayCase, snapshot, write

_FLIPS = max(30, EXAMPLES // 20)
_MADE_ANEW = {"ledger.toml", "index.sqlite", "index.sqlite.sum"}
_KINDS = ("packs", "entries", "history")


class DemoLedger(PlayCase):
    """The ledger of the demo's story, and a mirror of it."""

    def setUp(self) -> None:
        super().setUp()
        update = "update mossferry downloads/mossferry-2.0.zip --old downloads/mossferry-1.4.zip"
        for command in (
            "backup mossferry",
            f"{update} --yes",
            "convert mossferry --yes --allow-loss",
            "undo --yes",
            "backup mossferry",
            "ledger confirm latest",
            "ledger mirror mirror",
        ):
            self.kindred(*command.split())

    def files(self, root: str) -> dict[str, bytes]:
        return {path: node[1] for path, node in snapshot(root).items() if node[0] == "file"}

    def test_any_flipped_byte_is_found_survived_and_mended(self) -> None:
        """Named by file; it costs what verify says and no more; afterwards all files are as they were."""
        chance = random.Random(12)
        kept = self.files(self.path("ledger"))
        size_of = {name: len(data) for name, data in kept.items() if data}
        copy = self.path("copy")
        for turn in range(_FLIPS):
            shutil.rmtree(copy, ignore_errors=True)
            shutil.copytree(self.path("ledger"), copy)
            # Any file as often as any other, or any byte: most of them are in packs.
            weights = list(size_of.values()) if turn % 2 else None
            (name,) = chance.choices(list(size_of), weights)
            at = chance.randrange(size_of[name])
            flipped = bytearray(kept[name])
            flipped[at] ^= 1 << chance.randrange(8)
            path = os.path.join(copy, *name.split("/"))
            before = os.stat(path)
            with open(path, "wb") as file:
                file.write(flipped)
            os.utime(
                path, ns=(before.st_atime_ns, before.st_mtime_ns)
            )  # a bit that rots tells nobody
            with self.subTest(file=name, byte=at):
                self.judge(copy, name)
                after = self.files(copy)
                differ = {n for n in {*after, *kept} if after.get(n) != kept.get(n)}
                self.assertLessEqual(differ, _MADE_ANEW)

    def judge(self, root: str, name: str) -> None:
        ledger, other = Ledger.open(root), Ledger.open(self.path("mirror"))
        found = verify(ledger)
        self.assertEqual([fault.where for fault in found.findings], [name])
        lost = {cost.entry: cost.paths for cost in found.costs}
        for entry in ledger.entries():
            if lost.get(entry.id, ()) is not None:
                self.assertEqual(len(ledger.check(entry)), len(lost.get(entry.id) or ()))
        healed = heal(ledger, mirrors=[other])
        self.assertEqual((healed.after.findings, healed.after.costs), ((), ()))
        ledger.index.close()
        other.index.close()


class TwoCopies(KeptCase):
    def setUp(self) -> None:
        super().setUp()
        ledger, copy = self.ledger(), self.ledger("mirror")
        mirror(ledger, copy)
        ledger.index.close()

    def opened(self, root: str) -> Ledger:
        ledger = Ledger.open(root, create=False)
        self.addCleanup(ledger.index.close)
        return ledger

    def files_of(self, root: str) -> dict[str, bytes]:
        found = {}
        for kind in _KINDS:
            for name in os.listdir(os.path.join(root, kind)):
                with open(os.path.join(root, kind, name), "rb") as file:
                    found[f"{kind}/{name}"] = file.read()
        return found

    def assert_whole(self, root: str) -> None:
        found, expected = self.files_of(root), self.files_of(self.path("ledger"))
        self.assertEqual(sorted(found), sorted(expected))
        self.assertEqual([name for name in found if found[name] != expected[name]], [])

    def test_a_mirror_is_the_same(self) -> None:
        """Every file is there, byte for byte; doing it again copies nothing."""
        self.assert_whole(self.path("mirror"))
        found = verify(self.opened(self.path("mirror")))
        self.assertEqual((found.findings, found.costs, found.entries), ((), (), 3))
        again = mirror(self.opened(self.path("ledger")), self.opened(self.path("mirror")))
        self.assertEqual(
            (again.packs, again.entries, again.changes, again.not_copied), (0, 0, 0, ())
        )
        with self.assertRaisesRegex(UsageError, "no mirror of itself"):
            mirror(self.opened(self.path("mirror")), self.opened(self.path("mirror")))

    def test_ids_that_two_ledgers_drew(self) -> None:
        """Two ledgers mirrored to a third: what has an id that is taken there is named, never passed over."""
        same = SimpleNamespace(urandom=bytes)
        ledgers = []
        with mock.patch("kindred_ledger.ledger.ids.os", same):
            for name in ("one", "two"):
                ledger = Ledger.open(self.path(name), clock=lambda: 1_790_000_000.0)
                self.addCleanup(ledger.index.close)
                ledger.backup(self.place({"a": name.encode()}, f"place of {name}"))
                ledgers.append(ledger)
        both = self.ledger("both")
        self.assertEqual(mirror(ledgers[0], both).not_copied, ())
        (told,) = mirror(ledgers[1], both).not_copied
        self.assertRegex(told, "^entries/.*: another one has this id in the target")
        self.assertEqual(mirror(ledgers[0], both).not_copied, ())
        self.assertEqual(read_bytes(both.place(both.entry("latest")), "a"), b"one")

    def test_a_mirror_takes_nothing_that_is_damaged(self) -> None:
        """It says what it did not copy; no entry is there whose contents are not."""
        root = self.copied()
        folder = os.path.join(root, "packs")
        largest = max(os.listdir(folder), key=lambda n: os.path.getsize(os.path.join(folder, n)))
        with open(os.path.join(folder, largest), "r+b") as file:
            file.seek(99)
            file.write(b"damage")
        target = self.ledger("target")
        done = mirror(self.opened(root), target)
        self.assertTrue(
            any(line.startswith(f"packs/{largest}") for line in done.not_copied), done.not_copied
        )
        self.assertEqual(done.entries + sum(x.startswith("entries") for x in done.not_copied), 3)
        found = verify(target)
        self.assertEqual((found.findings, found.costs), ((), ()))
        heal(self.opened(root), mirrors=[self.opened(self.path("mirror"))])
        self.assertEqual(mirror(self.opened(root), target).not_copied, ())
        self.assertEqual(len(target.entries()), 3)

    def test_missing_and_swapped_files_are_mended(self) -> None:
        """Names are put right without a mirror; what is gone comes from one."""
        whole = self.files_of(self.path("ledger"))
        for kind in _KINDS:
            names = sorted(name for name in whole if name.startswith(kind))
            root = self.copied()
            twin = f"twin.{names[0].partition('.')[2]}"
            shutil.copy(os.path.join(root, names[0]), os.path.join(root, kind, twin))
            first, last = (os.path.join(root, name) for name in (names[0], names[-1]))
            os.rename(last, self.path("swap"))
            if first != last:
                os.rename(first, last)
            os.rename(self.path("swap"), first)
            done = heal(self.opened(root))
            self.assertEqual((done.after.findings, done.after.costs), ((), ()), kind)
            self.assert_whole(root)
        for name in sorted(whole):
            root = self.copied()
            os.remove(os.path.join(root, name))
            ledger = self.opened(root)
            if name.startswith("packs"):
                done = heal(ledger, mirrors=[self.opened(self.path("mirror"))], places=[])
                self.assertEqual((done.after.findings, done.after.costs), ((), ()), name)
            else:
                mirror(self.opened(self.path("mirror")), ledger)
            self.assert_whole(root)

    def test_contents_come_from_files_still_on_disk(self) -> None:
        """Without a mirror: whole frames are saved, the rest is found by digest; what it was is put aside."""
        write(self.path("elsewhere"), {})
        for harm in ("frame", "index", "gone"):
            root = self.copied()
            last = self.opened(root).entries()[-1]
            os.remove(os.path.join(root, "index.sqlite"))
            packs = sorted(os.listdir(os.path.join(root, "packs")))
            for name in packs:
                path = os.path.join(root, "packs", name)
                if harm == "gone":
                    os.remove(path)
                    continue
                with open(path, "r+b") as file:
                    file.seek(
                        20 if harm == "frame" else -100,
                        os.SEEK_SET if harm == "frame" else os.SEEK_END,
                    )
                    file.write(b"damage")
            done = heal(self.opened(root), places=[FolderPlace(self.path("place"))])
            self.assertNotIn(last.id, [cost.entry for cost in done.after.costs], harm)
            self.assertLessEqual({fault.where for fault in done.after.findings}, {"packs"}, harm)
            if harm != "gone":
                self.assertEqual(sorted(os.listdir(os.path.join(root, "damaged"))), packs)
            again = self.opened(root)
            target = self.path("back", harm)
            os.makedirs(target)
            for path, blocks in again.place(again.entry(last.id)).read(again.tree(last).files):
                write(target, {path: b"".join(blocks)})
            self.assertEqual(
                {p: node[1] for p, node in snapshot(target).items()},
                {p: node[1] for p, node in snapshot(self.path("place")).items()},
            )
            self.assertEqual(
                [cost.entry for cost in verify(again).costs], [c.entry for c in done.after.costs]
            )
