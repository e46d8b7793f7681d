"""Nothing outside the place: what looks like our own folders, and journals that somebody changed."""

from __future__ import annotations

import io
import json
import os
import tarfile
import zipfile
from typing import Any

from kindred_ledger.changes import recover, restore, undo
from kindred_ledger.changes.journal import Journal
from kindred_ledger.errors import KindredError, LedgerDamaged, PlaceError, UnsafeName
from kindred_ledger.ledger import Ledger
from kindred_ledger.places import WORK_FOLDER, FolderPlace, MemoryPlace, TarPlace, ZipPlace, scan
from kindred_ledger.statement import Outcome
from tests.support import Case, change_to, files_in, texts, write

OLD = {"a.txt": b"old a", "saves/one": b"1"}
NEW = {"a.txt": b"new a", "saves/two": b"2"}
OUTSIDE = {"x1/owner.json": b'{"ledger": ""}', "x1/old/0": b"theirs", "deep/er/file": b"f"}


class OurOwnNames(Case):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()
        self.at = self.place(OLD)
        write(self.path("outside"), OUTSIDE)

    def test_a_link_is_never_followed(self) -> None:
        """Update, undo, restore and recover refuse, and what it leads to is as it was."""
        done = change_to(self.at, NEW).apply(self.kept)
        entry = self.kept.backup(self.at)
        os.symlink(self.path("outside"), self.at.path(WORK_FOLDER))
        write(self.at.root, {"a.txt": b"edited"})
        for compute in (
            lambda: change_to(self.at, OLD),
            lambda: undo(done.record.id, ledger=self.kept),
            lambda: restore(entry, ledger=self.kept),
        ):
            with self.assertRaisesRegex(
                PlaceError, f"{WORK_FOLDER} is no folder of this program's"
            ):
                compute().apply(self.kept, allow_loss=True)
        self.assertEqual(recover(self.kept), [])
        self.assertEqual(files_in(self.path("outside")), OUTSIDE)
        self.assertTrue(os.path.islink(self.at.path(WORK_FOLDER)))

    def test_what_carries_no_mark_of_ours_stays(self) -> None:
        """A folder of that name with files in it, at the top or deeper: listed, never kept, never removed."""
        write(self.at.path(WORK_FOLDER), {"x1/diary": b"theirs"})
        with self.assertRaises(PlaceError):
            change_to(self.at, NEW).apply(self.kept)
        os.rename(self.at.path(WORK_FOLDER), self.at.path(f"saves/{WORK_FOLDER}"))
        self.assertEqual(scan(self.at)[f"saves/{WORK_FOLDER}"].kind, "other")
        write(
            self.at.path("b"),
            {f"{WORK_FOLDER}/x2/owner.json": b"{}", f"{WORK_FOLDER}/x2/old/0": b"0"},
        )
        self.assertNotIn(f"b/{WORK_FOLDER}", scan(self.at))
        entry = self.kept.backup(self.at)
        write(self.at.root, NEW)
        restore(entry, ledger=self.kept).apply(self.kept)
        self.assertTrue(os.path.exists(self.at.path(f"saves/{WORK_FOLDER}/x1/diary")))
        books = restore(entry, self.place({}, "elsewhere"), ledger=self.kept).statements[0]
        held = {line.item for line in books.of(Outcome.LEFT_ALONE)}
        self.assertEqual(held, {f"saves/{WORK_FOLDER}"})

    def test_such_names_do_not_arrive(self) -> None:
        """From a tar, a zip, an entry or another folder, in any case, at any depth."""
        for name in (f"{WORK_FOLDER}/x/new/0", f"mods/{WORK_FOLDER}/x", f"{WORK_FOLDER.upper()}/x"):
            with zipfile.ZipFile(self.path("a.zip"), "w") as archive:
                archive.writestr(name, b"x")
            with tarfile.open(self.path("a.tar"), "w") as tar:
                info = tarfile.TarInfo(name)
                info.size = 1
                tar.addfile(info, io.BytesIO(b"x"))
            for place in (ZipPlace(self.path("a.zip")), TarPlace(self.path("a.tar"))):
                with self.assertRaisesRegex(UnsafeName, "stages what it changes"):
                    place.survey()
            with self.assertRaisesRegex(UnsafeName, "stages what it changes"):
                change_to(self.at, {**OLD, name: b"x"})
            entry = self.kept.backup(MemoryPlace({name: b"x", "a.txt": b"kept"}))
            change = restore(entry, self.at, ledger=self.kept)
            self.assertEqual(
                [line.item for line in change.statements[0].of(Outcome.LEFT_ALONE)], [name]
            )
            change.apply(self.kept)
            self.assertEqual(files_in(self.at.root), {**OLD, "a.txt": b"kept"})


class ChangedJournals(Case):
    """A change that was cut off, whose journal somebody then changed."""

    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()
        self.at = self.place(OLD)
        write(self.path("outside"), {"a.txt": b"theirs", "saves/one": b"1"})

    def cut_off(self) -> str:
        """Cut a change off in the middle of the swap, and return where its journal is."""
        from kindred_ledger.changes import engine

        def power_cut(*_: Any) -> None:
            raise KeyboardInterrupt

        forward, unwind = engine.swap_forward, engine.unwind
        engine.swap_forward = engine.unwind = power_cut  # type: ignore[assignment]
        try:
            with self.assertRaises(KeyboardInterrupt):
                change_to(self.at, NEW).apply(self.kept)
        finally:
            engine.swap_forward, engine.unwind = forward, unwind
        (name,) = (n for n in os.listdir(self.kept.folder("work")) if n.startswith("change-"))
        self.assertIsInstance(Journal.read(self.kept, name), Journal)
        return os.path.join(self.kept.folder("work"), name, "journal.json")

    def test_nothing_is_written_elsewhere(self) -> None:
        outside, before = files_in(self.path("outside")), None
        path = self.cut_off()
        with open(path, encoding="utf-8") as file:
            journal = json.load(file)
        before = files_in(self.at.root)

        def with_path(text: str) -> dict[str, Any]:
            ops = [[*op[:3], text, *op[4:]] for op in journal["ops"]]
            return {**journal, "ops": ops}

        tampered = [
            *map(with_path, ("../outside/a.txt", "/etc/x", "saves/../../outside/a.txt", "", "a\0b",
                             f"{WORK_FOLDER}/x/new/0")),
            {**journal, "roots": {"": self.path("outside")}},
            {**journal, "roots": {"part": self.at.root}},
            {**journal, "id": "../../outside"},
            {**journal, "id": "other"},
        ]  # fmt: skip
        for state in ("staging", "swapping"):
            for back in (False, True):
                for one in tampered:
                    with open(path, "w", encoding="utf-8") as file:
                        json.dump({**one, "state": state}, file)
                    ledger = Ledger.open(self.kept.root)
                    try:
                        recover(ledger, back=back)
                    except KindredError as error:
                        self.assertIsInstance(error, (LedgerDamaged, PlaceError), error)
                        self.assertTrue(error.remedy, error)
                    finally:
                        ledger.index.close()
                    self.assertEqual(files_in(self.path("outside")), outside, one)
                    self.assertEqual(files_in(self.at.root), before, one)
                    os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "w", encoding="utf-8") as file:
            json.dump(journal, file)
        self.assertEqual([one.outcome for one in recover(self.kept, back=True)], ["taken back"])
        self.assertEqual(files_in(self.at.root), OLD)

    def test_a_ledger_that_was_moved_and_a_machine_with_another_name(self) -> None:
        """What was cut off is still its own."""
        self.cut_off()
        self.kept.index.close()
        os.rename(self.kept.root, self.path("moved ledger"))
        ledger = Ledger.open(self.path("moved ledger"), machine="another name")
        self.assertEqual([one.outcome for one in recover(ledger)], ["finished"])
        self.assertEqual(files_in(self.at.root), NEW)
        ledger.index.close()

    def test_a_link_on_the_way_stops_it(self) -> None:
        """A folder of the place that became a link since: nothing is moved through it, either way."""
        self.cut_off()
        os.rename(self.at.path("saves"), self.path("moved"))
        os.symlink(self.path("outside", "saves"), self.at.path("saves"))
        outside = files_in(self.path("outside"))
        for back in (False, True):
            with self.assertRaises(KindredError):
                recover(self.kept, back=back)
            self.assertEqual(files_in(self.path("outside")), outside)
        os.remove(self.at.path("saves"))
        os.rename(self.path("moved"), self.at.path("saves"))
        self.assertEqual([one.outcome for one in recover(self.kept)], ["taken back"])
        self.assertEqual(files_in(self.at.root), OLD)


class PlainFolders(Case):
    def test_an_empty_folder_of_ours_is_no_hindrance(self) -> None:
        at, kept = self.place(OLD), self.ledger()
        os.mkdir(at.path(WORK_FOLDER))
        change_to(FolderPlace(at.root), NEW).apply(kept)
        self.assertEqual(files_in(at.root), NEW)


class RunAsOthers(Case):
    def test_special_bits_are_never_set(self) -> None:
        """From an entry and from a tar: permissions arrive, set-user-id and its like do not."""
        at, kept = self.place({"run": b"program", "box/x": b"x"}), self.ledger()
        os.chmod(at.path("run"), 0o6755)
        os.chmod(at.path("box"), 0o1777)
        with tarfile.open(self.path("a.tar"), "w") as tar:
            tar.add(at.path("run"), "run")
        entry = kept.backup(at)
        new = self.place({}, "new")
        change = restore(entry, new, ledger=kept)
        self.assertIn(
            "run: it ran as another user when it was kept, and will not", texts(change.warnings)
        )
        change.apply(kept)
        self.assertEqual(os.stat(new.path("run")).st_mode & 0o7777, 0o755)
        self.assertEqual(os.stat(new.path("box")).st_mode & 0o7777, 0o777)
        self.assertEqual(restore(entry, new, ledger=kept).actions, ())
        self.assertEqual(TarPlace(self.path("a.tar")).survey()["run"].mode, 0o755)
        # in its own place nothing changed, so nothing is done; edited, it comes back without them
        self.assertEqual(restore(entry, ledger=kept).actions, ())
        write(at.root, {"run": b"edited"})
        restore(entry, ledger=kept).apply(kept)
        self.assertEqual(os.stat(at.path("run")).st_mode & 0o7777, 0o755)
