"""Power cuts on a disk that loses whatever was not synced, and keeps of the rest what it likes."""

from __future__ import annotations

import os
import random
import shutil
from collections.abc import Callable

from kindred_ledger.changes import confirm, recover, undo
from kindred_ledger.errors import LedgerError
from kindred_ledger.ledger import Ledger, RetentionPolicy, mirror, plan_retirement, verify
from kindred_ledger.places import FolderPlace
from tests.lost_writes import Recorder, rebuild
from tests.support import EXAMPLES, Case, change_to, snapshot, write

_BY_CHANCE = 4 if EXAMPLES < 10_000 else 25  # cuts at each moment that keep what they like
_OLD = {"a": b"old", "deep/b": b"stays", "c": b"goes"}
_NEW = {"a": b"new", "deep/b": b"stays", "d/e": b"comes" * 900}


class PowerCuts(Case):
    def setUp(self) -> None:
        super().setUp()
        self.world = self.path("world")
        write(os.path.join(self.world, "place"), _OLD)
        self.begun = Ledger.open(os.path.join(self.world, "ledger"))
        self.begun.backup(self.here())
        self.recorder = Recorder(self.world)

    def here(self) -> FolderPlace:
        return FolderPlace(os.path.join(self.world, "place"))

    def cut(self, work: Callable[[], None], judge: Callable[[str, bool], None]) -> None:
        """Do the work, then judge what is left of the world after a cut at its moments.

        `judge` is given the folder, and whether the work had ended before the cut.
        """
        with self.recorder.watching():
            work()
        self.begun.index.close()
        moments = self.recorder.moments
        self.assertGreater(len(moments), 5)
        chance = random.Random(5)

        def by_chance() -> bool:
            return chance.random() < 0.5

        kept = [("what was synced", _no, _no), ("all names", _yes, _no)]
        kept += [(f"some, {n}", by_chance, by_chance) for n in range(_BY_CHANCE)]
        last = len(moments) - 1
        for number in range(last + 1):
            for name, newer_name, newer_data in kept:
                shutil.rmtree(self.world)  # journals name their places: the same paths again
                rebuild(moments[number], newer_name, newer_data, self.world)
                with self.subTest(moment=number, of=last, kept=name):
                    judge(self.world, number == last)

    def whole(self, root: str) -> Ledger:
        """Open a ledger after a cut, recovered; all that is visible in it is whole."""
        ledger = Ledger.open(root, create=False)
        self.addCleanup(ledger.index.close)
        recover(ledger)
        found = verify(ledger)
        self.assertEqual((found.findings, found.costs), ((), ()))
        for entry in ledger.entries():
            self.assertEqual(ledger.check(entry), [])
        return ledger

    def contents(self, folder: str) -> dict[str, bytes]:
        found = snapshot(folder)
        self.assertEqual([path for path in found if "kindred" in path], [])
        return {path: node[1] for path, node in found.items() if node[0] == "file"}

    def test_a_backup(self) -> None:
        write(self.here().root, {"a": os.urandom(5000)})

        def judge(left: str, ended: bool) -> None:
            ledger = self.whole(f"{left}/ledger")
            self.assertGreaterEqual(len(ledger.entries()), 2 if ended else 1)
            ledger.index.close()

        self.cut(lambda: self.begun.backup(self.here()) and None, judge)

    def test_a_first_backup(self) -> None:
        """Into a ledger that is made for it."""

        def work() -> None:
            ledger = Ledger.open(os.path.join(self.world, "deep", "fresh"))
            ledger.backup(self.here())
            ledger.index.close()

        def judge(left: str, ended: bool) -> None:
            try:
                ledger = self.whole(f"{left}/deep/fresh")
            except LedgerError:
                self.assertFalse(ended)  # it was not there yet
                return
            self.assertGreaterEqual(len(ledger.entries()), ended)
            ledger.index.close()

        self.cut(work, judge)

    def test_a_change(self) -> None:
        """The place is as before or as intended, and the history says which."""
        change = change_to(self.here(), _NEW)

        def judge(left: str, ended: bool) -> None:
            ledger = self.whole(f"{left}/ledger")
            made = len(ledger.records())
            self.assertEqual(self.contents(f"{left}/place"), _NEW if made else _OLD)
            self.assertTrue(made or not ended)
            ledger.index.close()

        self.cut(lambda: change.apply(self.begun) and None, judge)

    def test_an_undo(self) -> None:
        change_to(self.here(), _NEW).apply(self.begun)

        def judge(left: str, ended: bool) -> None:
            ledger = self.whole(f"{left}/ledger")
            made = len(ledger.records()) - 1
            self.assertEqual(self.contents(f"{left}/place"), _OLD if made else _NEW)
            self.assertTrue(made or not ended)
            ledger.index.close()

        self.cut(lambda: undo(ledger=self.begun).apply(self.begun) and None, judge)

    def test_retiring(self) -> None:
        """What is left is whole, whether it is thinned already or not."""
        for number in range(3):
            write(self.here().root, {"a": os.urandom(4000), f"{number}": os.urandom(3000)})
            self.begun.backup(self.here())
        plan = plan_retirement(self.begun, RetentionPolicy(last=1))

        def judge(left: str, ended: bool) -> None:
            ledger = self.whole(f"{left}/ledger")
            self.assertIn(len(ledger.entries()), (1,) if ended else (1, 2, 3, 4))
            ledger.index.close()

        self.cut(lambda: plan.carry_out(self.begun) and None, judge)

    def test_a_mirror(self) -> None:
        change_to(self.here(), _NEW).apply(self.begun)
        confirm("latest", ledger=self.begun)

        def work() -> None:
            other = Ledger.open(os.path.join(self.world, "other"))
            mirror(self.begun, other)
            other.index.close()

        def judge(left: str, ended: bool) -> None:
            self.whole(f"{left}/ledger").index.close()
            try:
                other = self.whole(f"{left}/other")
            except LedgerError:
                self.assertFalse(ended)
                return
            if ended:
                self.assertEqual((len(other.entries()), len(other.records())), (2, 1))
            other.index.close()

        self.cut(work, judge)


def _no() -> bool:
    return False


def _yes() -> bool:
    return True
