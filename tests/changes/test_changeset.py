"""Changesets: what needs consent, what is refused before a byte changes, and what is kept first."""

from __future__ import annotations

import os
import shutil
import threading
import unittest
from typing import Any
from unittest import mock

from kindred_ledger.changes import (
    Action,
    Changeset,
    recover,
    redo,
    restore,
    undo,
    unfinished_in,
)
from kindred_ledger.changes.swap import swap_forward
from kindred_ledger.errors import (
    BooksUnbalanced,
    Cancelled,
    DecisionNeeded,
    LossNotAllowed,
    PlaceBusy,
    PlaceChanged,
    PlaceError,
    UnsafeName,
    UsageError,
)
from kindred_ledger.finding import Finding
from kindred_ledger.ledger import Tag
from kindred_ledger.places import (
    WORK_FOLDER,
    FolderPlace,
    MemoryPlace,
    Node,
    Tree,
    hold_place,
    read_bytes,
    scan,
)
from kindred_ledger.progress import Progress, Task
from kindred_ledger.statement import ALL_OTHERS, Line, Outcome, Statement
from tests.support import (
    Case,
    Restless,
    change_to,
    files_in,
    small_disk,
    snapshot,
    texts,
    write,
)

OLD = {"a.txt": b"old a", "b.txt": b"old b", "gone/c.txt": b"old c"}
_BELOW: tuple[dict[str, bytes], ...] = ({"sub/x": b"new"}, {"sub/another": b"new"})
GOES = Finding.loss("overwritten", "your words go", where="a.txt")
NEW = {"a.txt": b"new a", "b.txt": b"old b", "d/e.txt": b"new e"}


class ChangeCase(Case):
    def setUp(self) -> None:
        super().setUp()
        self.where = self.place(OLD)
        self.kept = self.ledger()
        self.before = snapshot(self.where.root)

    def assert_untouched(self) -> None:
        self.assertEqual(snapshot(self.where.root), self.before)
        self.assertEqual(self.kept.records(), [])
        self.assertEqual(os.listdir(self.path("ledger", "work")), [])


class Durable(ChangeCase):
    def test_a_change_of_mode_only(self) -> None:
        """The file and the folder whose modes change are synced after that."""
        made, synced = {}, set()
        entry = self.kept.backup(self.where)
        for name in ("a.txt", "gone"):
            os.chmod(self.where.path(name), 0o750)
            made[os.stat(self.where.path(name)).st_ino] = os.stat(self.where.path(name)).st_mode
        true = os.fsync

        def fsync(fd: int) -> None:
            stat = os.fstat(fd)
            if made.get(stat.st_ino) not in (None, stat.st_mode):
                synced.add(stat.st_ino)
            true(fd)

        with mock.patch("os.fsync", fsync):
            restore(entry, ledger=self.kept).apply(self.kept)
        self.assertEqual(snapshot(self.where.root), self.before)
        self.assertEqual(synced, made.keys())


class Consent(ChangeCase):
    def test_losses_and_conflicts_are_decided_first(self) -> None:
        """Nothing is written before somebody consents; what would be lost is listed."""
        loss = change_to(self.where, NEW, findings=(GOES,))
        with self.assertRaisesRegex(LossNotAllowed, "a.txt: your words go"):
            loss.apply(self.kept)
        conflict = Finding.conflict(
            "both-changed", "both changed it", where="a.txt", remedy="Choose with --mine."
        )
        torn = change_to(self.where, NEW, findings=(conflict,))
        with self.assertRaisesRegex(DecisionNeeded, "Choose with --mine"):
            torn.apply(self.kept, allow_loss=True)
        self.assert_untouched()
        loss.apply(self.kept, allow_loss=True)
        self.assertEqual(read_bytes(self.where, "a.txt"), b"new a")

    def test_consent_by_kind_and_place(self) -> None:
        """It covers what it names and no more; one that names nothing is refused, with what may be meant."""
        more = Finding.loss("removed", "it goes", where="gone/c.txt")
        change = change_to(self.where, NEW, findings=(GOES, more))
        for allowed in ((), ("overwritten",), ("removed:gone/", "overwritten:a.txt/b")):
            with self.assertRaises((LossNotAllowed, UsageError)) as caught:
                change.apply(self.kept, allow_loss=allowed)
            if allowed[:1] == ("overwritten",):
                self.assertEqual(caught.exception.findings, (more,))  # type: ignore[union-attr]
        with self.assertRaisesRegex(UsageError, "(?s)'overwriten'.*Did you mean overwritten"):
            change.apply(self.kept, allow_loss=("overwriten", "removed"))
        self.assert_untouched()
        change.apply(self.kept, allow_loss=("overwritten:*.txt", "removed:gone/"))
        self.assertEqual(read_bytes(self.where, "a.txt"), b"new a")

    def test_the_preview_accounts_for_every_file(self) -> None:
        """A line for each, and it balances against both trees."""
        change = change_to(self.where, NEW)
        books = change.preview().balanced(change.before.leaves, change.after.leaves)
        self.assertEqual(
            {line.item: line.outcome.value for line in books.lines},
            {"a.txt": "changed", "b.txt": "unchanged", "gone/c.txt": "removed", "d/e.txt": "added"},
        )

    def test_paths_that_cannot_be(self) -> None:
        """Out of the place, below a file, or one with another on some system."""
        now, source = scan(self.where), MemoryPlace({"x": b"1"})
        for path in ("../up", "/abs", "a//b", "a.txt/below", "A.TXT", "GONE/x"):
            action = Action(path, None, Node("file", 1, source.survey()["x"].digest), source, "x")
            with self.assertRaises(UnsafeName, msg=path):
                Changeset(self.where, "test", "", now, (action,)).apply(self.kept)
        self.assert_untouched()

    def test_a_changeset_is_a_value(self) -> None:
        """Making one asks its place for nothing: the account, too, is of what it was given."""
        place: Any = mock.NonCallableMock(spec=())
        actions = (Action("d/e", None, Node("file", 1)),)
        change = Changeset(place, "test", "", Tree({"a": Node("file", 1)}), actions)
        self.assertEqual([action.path for action in change.actions], ["d", "d/e"])
        self.assertEqual(sorted(change.after), ["a", "d", "d/e"])
        self.assertEqual(place.mock_calls, [])


class LittleOfMuch(ChangeCase):
    """A change of a few files of many: its account and its cost are those of what it touches."""

    def setUp(self) -> None:
        super().setUp()
        write(self.where.root, {f"many/{n:04}.txt": b"%d" % n for n in range(1200)})
        self.before = snapshot(self.where.root)
        self.new = files_in(self.where.root)
        self.new |= {"many/0007.txt": b"new", "d/e.txt": b"e"}
        del self.new["many/0009.txt"]

    def test_the_account(self) -> None:
        """Lines for what changes, a count of the rest, both sides counted; all lines if asked for."""
        change = change_to(self.where, self.new)
        lines = {line.item: (line.outcome.value, line.count) for line in change.preview().lines}
        self.assertEqual(
            lines,
            {"many/0007.txt": ("changed", 1), "many/0009.txt": ("removed", 1),
             "d/e.txt": ("added", 1), ALL_OTHERS: ("unchanged", 1201)},
        )  # fmt: skip
        self.assertEqual(len(change.preview(every=True).lines), 1204)
        done = change.apply(self.kept)
        books = done.statements[0]
        self.assertEqual((books.counted_before, books.counted_after), (1203, 1203))
        self.assertEqual(files_in(self.where.root), self.new)
        undo(ledger=self.kept).apply(self.kept)
        self.assertEqual(snapshot(self.where.root), self.before)

    def test_what_else_stirs(self) -> None:
        """What comes or goes beside it is told; what it wrote itself must be there, by content."""
        change = change_to(self.where, self.new)
        write(self.where.root, {"beside.txt": b"1"})
        os.remove(os.path.join(self.where.root, "many", "0100.txt"))
        done = change.apply(self.kept)
        told = [each for each in done.findings if each.code == "changed-meanwhile"]
        self.assertEqual([each.where for each in told], ["beside.txt", "many/0100.txt"])
        undo(ledger=self.kept).apply(self.kept)
        swapped = swap_forward

        def spoil(*args: Any, **more: Any) -> None:
            swapped(*args, **more)
            write(self.where.root, {"many/0007.txt": b"bad"})

        again = change_to(self.where, self.new)
        before = snapshot(self.where.root)
        with (
            mock.patch("kindred_ledger.changes.engine.swap_forward", spoil),
            self.assertRaisesRegex(PlaceChanged, "0007.txt is not what was written"),
        ):
            again.apply(self.kept)
        self.assertEqual(snapshot(self.where.root), before)


class Refusals(ChangeCase):
    def test_a_place_that_changed_since(self) -> None:
        """What was computed from another state is not applied to this one."""
        change = change_to(self.where, NEW)
        write(self.where.root, {"a.txt": b"newer"})
        self.before = snapshot(self.where.root)
        with self.assertRaisesRegex(PlaceChanged, "a.txt changed since"):
            change.apply(self.kept)
        self.assert_untouched()

    def test_what_it_does_not_touch_may_change(self) -> None:
        """A file beside it that came meanwhile is told, and is no business of the books."""
        change = change_to(self.where, NEW)
        write(self.where.root, {"beside.txt": b"1"})
        done = change.apply(self.kept)
        books = done.statements[0]
        self.assertEqual((books.counted_before, books.counted_after), (3, 3))
        self.assertIn("beside.txt: something else changed it meanwhile", texts(done.findings))

    def test_a_folder_that_became_a_link(self) -> None:
        """What lies behind a link is not the place's, though it looks the same."""
        write(self.where.root, {"sub/x": b"old"})
        changes = [change_to(self.where, {"sub/x": b"old", **new}) for new in _BELOW]
        elsewhere = os.path.join(self.folder, "elsewhere")
        inside = os.path.join(self.where.root, "sub")
        os.rename(inside, elsewhere)
        os.symlink(elsewhere, inside)
        self.before = snapshot(self.where.root)
        for change in changes:
            with self.assertRaisesRegex(PlaceChanged, "sub(/x)? changed since"):
                change.apply(self.kept)
            self.assert_untouched()
            self.assertEqual(list(scan(FolderPlace(elsewhere)).files), ["x"])

    def test_a_source_that_is_not_what_it_was(self) -> None:
        """The content that arrives is verified before anything moves."""
        source = MemoryPlace({"a.txt": b"promised"})
        now = scan(self.where)
        action = Action("a.txt", now["a.txt"], source.survey()["a.txt"], source, "a.txt")
        change = Changeset(self.where, "test", "", now, (action,))
        source.contents["a.txt"] = b"delivered"
        with self.assertRaisesRegex(PlaceChanged, "not what it was"):
            change.apply(self.kept)
        self.assert_untouched()

    def test_a_full_disk_is_noticed_before_the_first_byte(self) -> None:
        """Room is needed for what is kept and for what is written."""
        usage = shutil.disk_usage(self.folder)._replace(free=17 << 20)
        change = change_to(self.where, {**NEW, "big": bytes(3 << 20)})
        with (
            mock.patch("shutil.disk_usage", return_value=usage),
            self.assertRaisesRegex(PlaceError, "(?s)MB are needed.*Free some space"),
        ):
            change.apply(self.kept)
        self.assert_untouched()

    def test_a_disk_that_fills_up_meanwhile(self) -> None:
        """A real disk of 2 MB: the change is refused or fails, and nothing is half done."""
        disk = self.path("disk")
        os.mkdir(disk)
        small_disk(self, disk, "2m")
        place = self.place(OLD, "disk/place")
        before = snapshot(place.root)
        change = change_to(place, {**OLD, "big": os.urandom(3 << 20)})
        usage = shutil.disk_usage("/")
        with (
            mock.patch("shutil.disk_usage", return_value=usage._replace(free=1 << 40)),
            self.assertRaisesRegex(PlaceError, "(?i)no space left|full"),
        ):
            change.apply(self.kept)
        self.assertEqual(snapshot(place.root), before)
        self.assertEqual(self.kept.records(), [])

    def test_a_place_in_other_hands(self) -> None:
        """While another command changes it, or a change was cut off in it."""
        change = change_to(self.where, NEW)
        with hold_place(self.where.root), self.assertRaisesRegex(PlaceBusy, "another command"):
            change.apply(self.kept)
        write(self.where.path(WORK_FOLDER), {"x1/owner.json": b'{"ledger": "/far/ledger"}'})
        self.assertIn("--ledger /far/ledger", unfinished_in(self.where)[0].remedy)
        with self.assertRaisesRegex(PlaceBusy, "kindred recover --ledger /far/ledger"):
            change.apply(self.kept)

    def test_what_is_left_of_a_change_that_was_dropped(self) -> None:
        """It is cleared only if no journal speaks of it, and it says that it is ours, or holds nothing."""
        change = change_to(self.where, NEW)
        mine = b'{"ledger": "%s", "id": "x1"}' % self.kept.root.encode()
        for owner, moved in ((mine, b"moved aside"), (b'{"led', None), (b"", None)):
            left = {"x1/owner.json": owner, "x1/old/0" if moved else "x1/old": moved}
            write(self.where.path(WORK_FOLDER), left)
            journal = os.path.join(self.kept.folder("work"), "change-x1")
            os.mkdir(journal)
            with self.assertRaises(PlaceBusy):
                change.apply(self.kept)
            self.assertTrue(os.path.exists(self.where.path(f"{WORK_FOLDER}/x1/old")))
            os.rmdir(journal)
            done = change.apply(self.kept)
            self.assertFalse(os.path.exists(self.where.path(WORK_FOLDER)))
            undo(done.record.id, ledger=self.kept).apply(self.kept)

    def test_places_that_can_only_be_read(self) -> None:
        """An entry is no place to change."""
        entry = self.kept.place(self.kept.backup(self.where))
        with self.assertRaisesRegex(UsageError, "not changed"):
            Changeset(entry, "test", "", entry.survey(), ()).apply(self.kept)

    def test_books_that_do_not_balance_roll_back(self) -> None:
        """A statement that leaves out a file that was offered undoes the whole change."""
        offered = MemoryPlace({"a.txt": b"new a", "d/e.txt": b"new e"}).survey()
        line = Line(Outcome.UNCHANGED, "a.txt")
        change = change_to(
            self.where, NEW, offered=offered, statements=(Statement("x", "files", (line,)),)
        )
        with self.assertRaisesRegex(BooksUnbalanced, "(?s)d/e.txt.*taken back|taken back.*d/e.txt"):
            change.apply(self.kept)
        self.assert_untouched()

    def test_work_that_is_cancelled(self) -> None:
        """At each step of the progress in turn: before or after, and nothing left over."""

        class Stopping(Progress):
            def __init__(self, left: int) -> None:
                super().__init__()
                self.left = left

            def moved(self, task: Task) -> None:
                self.left -= 1
                if self.left <= 0:
                    self.cancel()

        for left in range(1, 40):
            try:
                change_to(self.where, NEW).apply(self.kept, progress=Stopping(left))
            except Cancelled:
                self.assert_untouched()
                continue
            self.assertGreater(left, 4)
            return
        self.fail("never finished")


class Interference(ChangeCase):
    def test_what_somebody_else_writes_meanwhile_is_not_lost(self) -> None:
        """A foreign file in the way ends the change, and is kept in the ledger."""
        change = change_to(self.where, NEW)
        stop = threading.Event()

        def scribble() -> None:
            while not stop.is_set():
                work = self.where.path(WORK_FOLDER)
                try:
                    staged = os.listdir(work)
                except FileNotFoundError:
                    staged = []  # not there yet, or gone again
                if any(os.path.exists(os.path.join(work, n, "old", "0")) for n in staged):
                    write(self.where.root, {"a.txt": b"from the game"})
                    return

        thread = threading.Thread(target=scribble)
        thread.start()
        try:
            change.apply(self.kept)
            outcome = "done"
        except PlaceChanged:
            outcome = "taken back"
        stop.set()
        thread.join()
        found = read_bytes(self.where, "a.txt")
        kept = [
            read_bytes(self.kept.place(e), p)
            for e in self.kept.entries()
            for p in self.kept.tree(e).files
        ]
        if outcome == "taken back":
            self.assertIn(found, (b"old a", b"from the game"))
            self.assertIn(b"from the game", [found, *kept])
        self.assertIn(b"old a", [found, *kept])


class GoingBack(ChangeCase):
    def test_nothing_is_changed_that_is_not_kept(self) -> None:
        """The entry of a change holds the old content of every path it touched."""
        done = change_to(self.where, NEW).apply(self.kept)
        entry = self.kept.entry(done.record.entry)
        self.assertEqual(self.kept.tree(entry).leaves, ("a.txt", "gone/c.txt"))
        self.assertEqual(read_bytes(self.kept.place(entry), "gone/c.txt"), b"old c")
        self.assertEqual((entry.reason, entry.complete), ("before test", False))

    def test_undo_says_what_it_would_take_with_it(self) -> None:
        """A file edited since is a loss that needs consent; one made since in a new folder stays."""
        done = change_to(self.where, NEW).apply(self.kept)
        write(self.where.root, {"a.txt": b"edited since", "d/mine.txt": b"mine"})
        back = undo(done.record.id, ledger=self.kept)
        self.assertEqual([loss.where for loss in back.losses], ["a.txt"])
        self.assertIn("d: it stays", str(back.notes[0]))
        with self.assertRaises(LossNotAllowed):
            back.apply(self.kept)
        taken = back.apply(self.kept, allow_loss=True)
        self.assertEqual(read_bytes(self.where, "d/mine.txt"), b"mine")
        self.assertEqual(read_bytes(self.where, "a.txt"), b"old a")
        kept = self.kept.place(self.kept.entry(taken.record.entry))
        self.assertEqual(read_bytes(kept, "a.txt"), b"edited since")

    def test_undoing_and_redoing_go_through_the_changes(self) -> None:
        """Any number of times, in both directions, each step to the byte; at the ends it says so."""
        states = [snapshot(self.where.root)]
        for contents in (NEW, {**NEW, "b.txt": b"third"}, {"only": b"this"}):
            change_to(self.where, contents).apply(self.kept)
            states.append(snapshot(self.where.root))
        at = 3
        for step in "uuururrruuuurrr":
            wanted = at + (1 if step == "r" else -1)
            go = redo if step == "r" else undo
            if not 0 <= wanted <= 3:
                with self.assertRaisesRegex(UsageError, f"nothing to {go.__name__}"):
                    go(ledger=self.kept)
                continue
            done = go(ledger=self.kept).apply(self.kept)
            self.assertEqual(done.record.operation, go.__name__)
            at = wanted
            self.assertEqual(snapshot(self.where.root), states[at], (step, at))

    def test_a_later_change_that_builds_on_it_is_named(self) -> None:
        """Undoing by name what another change stands on is a loss that names that one."""
        first = change_to(self.where, NEW).apply(self.kept)
        path = next(path for path, data in NEW.items() if isinstance(data, bytes))
        second = change_to(self.where, {**NEW, path: b"built on it"}).apply(self.kept)
        told = undo(first, ledger=self.kept)
        self.assertIn(f"change {second.record.id} (test)", str(told.losses[0]))

    def test_a_change_is_taken_back_once(self) -> None:
        """A second undo says how to make it again; that works, and can be undone again."""
        done = change_to(self.where, NEW).apply(self.kept)
        undo(ledger=self.kept).apply(self.kept)
        with self.assertRaisesRegex(UsageError, f"kindred redo {done.record.id}"):
            undo(done.record.id, ledger=self.kept)
        redo(done.record.id, ledger=self.kept).apply(self.kept)
        self.assertNotEqual(snapshot(self.where.root), self.before)
        undo(done.record.id, ledger=self.kept).apply(self.kept)
        self.assertEqual(snapshot(self.where.root), self.before)

    def test_restore_by_path_and_elsewhere(self) -> None:
        """Only what is asked for comes back; what the entry does not hold stays, and is told."""
        entry = self.kept.backup(self.where)
        change_to(self.where, {**NEW, "mine.txt": b"mine"}).apply(self.kept)
        change = restore(entry, ledger=self.kept, only=lambda path: path == "a.txt")
        self.assertEqual([action.path for action in change.actions], ["a.txt"])
        change = restore(entry, ledger=self.kept)
        self.assertIn("2 files that the entry does not hold stay", str(change.notes[0]))
        change.apply(self.kept)
        self.assertEqual(read_bytes(self.where, "mine.txt"), b"mine")
        other = self.place({}, "other")
        restore(entry, other, ledger=self.kept).apply(self.kept)
        self.assertEqual(snapshot(other.root), self.before)
        self.assertEqual(
            [loss.where for loss in restore(entry, ledger=self.kept, exact=True).losses],
            ["d/e.txt", "mine.txt"],
        )

    def test_a_restore_warns_of_what_is_unusual(self) -> None:
        """Another version than the place is of now, and a file that may be torn; not of others."""
        write(self.where.root, {"log": b"1"})
        entry = self.kept.backup(Restless(self.where.root), tag=Tag("mossferry", "1.4"))
        warned = restore(entry, self.where, ledger=self.kept, tag=Tag("mossferry", "2.0")).warnings
        torn = "log: it changed during every reading and may be torn"
        self.assertEqual(texts(warned), ["the entry is of 1.4, the install is now 2.0", torn])
        some = restore(entry, self.where, ledger=self.kept, only=lambda path: path == "a.txt")
        self.assertEqual(some.warnings, ())

    def test_a_selection_says_what_it_leaves_out(self) -> None:
        """Every file of the entry is in the books: brought, there already, or held and why."""
        entry = self.kept.backup(self.where)
        write(self.where.root, {"a.txt": b"spoilt", "gone/c.txt": b"spoilt"})
        chosen = restore(
            entry, self.where, ledger=self.kept, only=lambda path: path == "a.txt", why="not now"
        )
        done = chosen.apply(self.kept)
        lines = {line.item: (line.outcome, line.reason) for line in done.statements[1].lines}
        self.assertEqual(set(lines), set(OLD))
        self.assertEqual(lines["gone/c.txt"], (Outcome.LEFT_ALONE, "not now"))
        self.assertEqual([o for o, _ in lines.values()].count(Outcome.UNCHANGED), 2)

    def test_a_file_that_is_mostly_holes(self) -> None:
        """It takes next to no room in the ledger, and none to speak of when it comes back."""
        place = self.place({}, "holey")
        with open(place.path("world"), "wb") as file:
            file.write(b"start")
            file.seek(100 << 20)
            file.write(b"middle")
            file.truncate(200 << 20)
        ledger = self.ledger()
        entry = ledger.backup(place)
        packs = self.path("ledger", "packs")
        stored = sum(os.path.getsize(os.path.join(packs, name)) for name in os.listdir(packs))
        self.assertLess(stored, 200_000)
        os.mkdir(self.path("back"))
        restore(entry, FolderPlace(self.path("back")), ledger=ledger).apply(ledger)
        back = os.stat(self.path("back", "world"))
        self.assertEqual(back.st_size, 200 << 20)
        self.assertLess(back.st_blocks * 512, 16 << 20)
        self.assertTrue(scan(FolderPlace(self.path("back"))).same_content(scan(place)))

    def test_recover_has_nothing_to_do(self) -> None:
        """After changes that were finished."""
        change_to(self.where, NEW).apply(self.kept)
        self.assertEqual(recover(self.kept), [])


@unittest.skipIf(os.name == "nt", "links need rights there")
class Links(Case):
    def test_a_linked_folder_is_not_written_through(self) -> None:
        """A file below what is a link to elsewhere is refused; elsewhere stays as it was."""
        write(self.path("elsewhere"), {"a.txt": b"theirs"})
        place = self.place({"x": b"1"})
        os.symlink(self.path("elsewhere"), place.path("door"))
        now = scan(place)
        source = MemoryPlace({"n": b"new"})
        action = Action("door/a.txt", None, source.survey()["n"], source, "n")
        with self.assertRaisesRegex(UnsafeName, "door, which is a link"):
            Changeset(place, "test", "", now, (action,))
