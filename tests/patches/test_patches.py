"""Patch sets: made for several bases, applied to the right one only, and what a file is to them."""

from __future__ import annotations

import io
import json
import os
import random
import zipfile
from typing import Any

from blake3 import blake3

from kindred_ledger.changes import undo
from kindred_ledger.errors import FormatError, KindredError, UsageError
from kindred_ledger.formats.vcdiff import encode
from kindred_ledger.patches import (
    Base,
    Output,
    PatchSet,
    apply_patch,
    identify_base,
    make_patch_set,
    write_patch_set,
)
from kindred_ledger.places import FilePlace, FolderPlace, scan
from tests.formats import rfc3284
from tests.support import Case, PlayCase, snapshot, texts, write

OLD = random.Random(1).randbytes(30_000)
GERMAN = OLD[:9_000] + b"Moorf\xc3\xa4hre" + OLD[9_100:]
NEW = OLD[:5_000] + b"wet lantern" + OLD[5_000:20_000] + OLD[25_000:]


class Single(Case):
    def setUp(self) -> None:
        super().setUp()
        files = {
            "old.bin": OLD,
            "german.bin": GERMAN,
            "short.bin": NEW,
            "full.bin": NEW + OLD[:900],
        }
        write(self.folder, files)
        self.set = self.made(("old.bin", "german.bin"), ("short.bin", "full.bin"))

    def made(self, bases: tuple[str, ...], outputs: tuple[str, ...]) -> PatchSet:
        made = make_patch_set(
            {Base(name): FilePlace(self.path(name)) for name in bases},
            {
                Output(name, notes=f"notes of {name}"): FilePlace(self.path(name))
                for name in outputs
            },
            title="mossferry",
        )
        with open(self.path("x.patches.zip"), "wb") as file:
            write_patch_set(file, *made)
        return PatchSet.open(self.path("x.patches.zip"))

    def verdict(self, name: str) -> Any:
        place = FolderPlace(self.folder)
        return identify_base(self.set, place, scan(place), name)

    def change(self, name: str, **options: Any) -> Any:
        write(self.folder, {"game/" + name: self.bytes_of(name)})
        place = FolderPlace(self.path("game"))
        return apply_patch(self.set, place, ledger=self.ledger(), name=name, **options)

    def bytes_of(self, name: str) -> bytes:
        with open(self.path(*name.split("/")), "rb") as file:
            return file.read()

    def test_any_base_becomes_any_output(self) -> None:
        """By deltas that a standard decoder reads; the same set again; undone, the base is there."""
        with zipfile.ZipFile(self.path("x.patches.zip")) as archive:
            for change in self.set.manifest.changes:
                base, wanted = self.bytes_of(change.base), self.bytes_of(change.output)
                self.assertEqual(rfc3284.read(archive.read(change.delta), base), wanted)
                self.assertLess(len(archive.read(change.delta)), 2_000)
        before = self.bytes_of("x.patches.zip")
        self.made(("old.bin", "german.bin"), ("short.bin", "full.bin"))
        self.assertEqual(self.bytes_of("x.patches.zip"), before)
        for base in ("old.bin", "german.bin"):
            for output in ("short.bin", "full.bin"):
                change = self.change(base, output=output)
                digest = blake3(self.bytes_of(output)).hexdigest()
                notes = texts(change.notes)
                self.assertEqual(notes[0], f"notes of {output}")
                self.assertTrue(notes[1].endswith(f"bytes, BLAKE3 {digest}"))
                done = change.apply(self.ledger())
                self.assertEqual(self.bytes_of(f"game/{base}"), self.bytes_of(output))
                undo(done, ledger=self.ledger()).apply(self.ledger())
                self.assertEqual(self.bytes_of(f"game/{base}"), self.bytes_of(base))

    def test_beside_the_base(self) -> None:
        """Under another name, which nothing may have."""
        self.change("old.bin", output="short.bin", to="new.bin").apply(self.ledger())
        self.assertEqual(self.bytes_of("game/new.bin"), NEW)
        self.assertEqual(self.bytes_of("game/old.bin"), OLD)
        with self.assertRaisesRegex(UsageError, "something is there already"):
            self.change("old.bin", output="short.bin", to="new.bin")

    def test_what_a_file_is(self) -> None:
        """A base, a result, a near relative with its share, a stranger; nothing is written to the latter."""
        edited = bytearray(GERMAN)
        edited[100:140] = bytes(40)
        write(
            self.folder,
            {"edited.bin": bytes(edited), "other.bin": random.Random(9).randbytes(30_000)},
        )
        self.assertEqual(self.verdict("german.bin").bases, ("german.bin",))
        self.assertEqual(self.verdict("full.bin").outputs, ("full.bin",))
        near = self.verdict("edited.bin")
        self.assertIn(near.near, ("german.bin", "old.bin"))
        self.assertGreater(near.share, 0.9)
        self.assertEqual(self.verdict("other.bin").near, "")
        for name, words in (
            ("edited.bin", "not (german|old).bin, though .*% of it is the same"),
            ("other.bin", "nothing in common"),
            ("full.bin", "this is full.bin already"),
            ("short.bin", "this is short.bin, of which nothing is made"),
        ):
            with self.subTest(name), self.assertRaisesRegex(UsageError, words):
                self.change(name, output="full.bin")
        with self.assertRaisesRegex(UsageError, "(?s)several things.*short.bin | full.bin"):
            self.change("old.bin")

    def test_a_damaged_set(self) -> None:
        """Every byte of the archive flipped: refused, or it does what it should; never anything else."""
        whole = self.bytes_of("x.patches.zip")
        write(self.folder, {"game/old.bin": OLD})
        ledger = self.ledger()
        place = FolderPlace(self.path("game"))
        for at in range(0, len(whole), 7):
            damaged = bytearray(whole)
            damaged[at] ^= 0x15
            write(self.folder, {"damaged.zip": bytes(damaged)})
            with self.subTest(at=at):
                try:
                    found = PatchSet.open(self.path("damaged.zip"))
                    change = apply_patch(
                        found, place, ledger=ledger, name="old.bin", output="short.bin"
                    )
                    self.assertEqual(change.actions[0].after.digest, blake3(NEW).digest())
                except KindredError as error:
                    self.assertTrue(error.where or error.remedy)

    def test_what_contradicts_itself(self) -> None:
        """A manifest that names what is not there, climbs out, or lies about what comes out."""
        for old, new, words in (
            ('base = "old.bin"', 'base = "none"', "no base 'none'"),
            ('output = "full.bin"', 'output = "none"', "no output 'none'"),
            ("deltas/", "deltas/../../", "is missing|parent"),
            ("format = 1", "format = 2", "format 2; this program reads 1"),
            ("becomes = ", "becames = ", "cannot be read"),
            ('was = "', 'was = "z', "no BLAKE3 digest"),
            ('base = "old.bin"\n', 'base = "old.bin"\npath = "../up"\n', r"\.\./up"),
        ):
            with self.subTest(words), self.assertRaisesRegex(KindredError, words):
                self.rewritten(lambda text, old=old, new=new: text.replace(old, new, 1))

        lying = self.rewritten(lambda text: text.replace(blake3(NEW).hexdigest(), "0" * 64))
        with self.assertRaisesRegex(FormatError, "not what the set says it should be"):
            self.applied(lying)
        broken = self.rewritten(lambda text: text, lambda data: data[:-9] + b"\xff" + data[-8:])
        with self.assertRaisesRegex(FormatError, "deltas/.*window 1"):
            self.applied(broken)

    def applied(self, patches: PatchSet) -> Any:
        place = FolderPlace(self.folder)
        return apply_patch(patches, place, ledger=self.ledger(), name="old.bin", output="short.bin")

    def rewritten(self, edit: Any, member: Any = lambda data: data) -> PatchSet:
        """Return the set with another manifest, or other members."""
        out = io.BytesIO()
        with zipfile.ZipFile(self.path("x.patches.zip")) as old, zipfile.ZipFile(out, "w") as new:
            for name in old.namelist():
                data = old.read(name)
                whole = edit(data.decode()) if name == "patches.toml" else member(data)
                new.writestr(name, whole)
        write(self.folder, {"rewritten.zip": out.getvalue()})
        return PatchSet.open(self.path("rewritten.zip"))


class Folders(Case):
    def test_a_folder_changes_as_one(self) -> None:
        """Files change, come and go; an edited one is named; undone, the folder is as it was."""
        old = {"a.bin": OLD, "data/b.txt": b"reeds\n", "gone.txt": b"x", "same.txt": b"same"}
        new = {
            "a.bin": NEW,
            "data/b.txt": b"reeds and peat\n",
            "data/c.bin": b"new",
            "same.txt": b"same",
        }
        write(self.folder, {f"old/{k}": v for k, v in old.items()})
        write(self.folder, {f"new/{k}": v for k, v in new.items()})
        write(self.folder, {f"mine/{k}": v for k, v in {**old, "own.txt": b"mine"}.items()})
        made = make_patch_set(
            {Base("1.4"): FolderPlace(self.path("old"))},
            {Output("2.0"): FolderPlace(self.path("new"))},
        )
        with open(self.path("set.zip"), "wb") as file:
            write_patch_set(file, *made)
        patches, place = PatchSet.open(self.path("set.zip")), FolderPlace(self.path("mine"))
        self.assertEqual([c.path for c in patches.manifest.changes if c.delta], ["a.bin"])
        before = snapshot(self.path("mine"))
        change = apply_patch(patches, place, ledger=self.ledger())
        done = change.apply(self.ledger())
        after = {
            name: data for name, data in snapshot(self.path("mine")).items() if data is not None
        }
        self.assertEqual(set(after) - {"data"}, {*new, "own.txt"})
        self.assertEqual(identify_base(patches, place, scan(place)).outputs, ("2.0",))
        undo(done, ledger=self.ledger()).apply(self.ledger())
        self.assertEqual(snapshot(self.path("mine")), before)
        write(self.folder, {"mine/a.bin": OLD + b"!"})
        verdict = identify_base(patches, place, scan(place))
        self.assertEqual((verdict.near, verdict.differing), ("1.4", ("a.bin",)))
        with self.assertRaisesRegex(UsageError, "(?s)75.0% of it is the same.*a.bin"):
            apply_patch(patches, place, ledger=self.ledger())

    def test_an_output_needs_its_own_files(self) -> None:
        """A file that only one output changes, edited: the other is made; links and folders are no files."""
        files = {"a.txt": b"reed " * 40, "b.txt": b"peat " * 40}
        write(self.folder, {f"old/{k}": v for k, v in files.items()})
        write(self.folder, {f"a/{k}": v for k, v in {**files, "a.txt": b"moss " * 40}.items()})
        write(
            self.folder, {f"b/{k}": v for k, v in {**files, "b.txt": b"x", "c.txt": b"y"}.items()}
        )
        write(self.folder, {f"mine/{k}": v for k, v in {**files, "b.txt": b"my own"}.items()})
        made = make_patch_set(
            {Base("old"): FolderPlace(self.path("old"))},
            {Output(name, notes="\x7f"): FolderPlace(self.path(name)) for name in ("a", "b")},
        )
        with open(self.path("set.zip"), "wb") as file:
            write_patch_set(file, *made)
        patches, place = PatchSet.open(self.path("set.zip")), FolderPlace(self.path("mine"))
        with self.assertRaisesRegex(UsageError, "(?s)not old.*b.txt"):
            apply_patch(patches, place, ledger=self.ledger(), output="b")
        apply_patch(patches, place, ledger=self.ledger(), output="a").apply(self.ledger())
        write(self.folder, {"old/c.txt/folder.txt": b"in the way"})
        with self.assertRaisesRegex(UsageError, "(?s)not old.*c.txt"):
            old = FolderPlace(self.path("old"))
            apply_patch(patches, old, ledger=self.ledger(), output="b")


class Command(PlayCase):
    SET = "downloads/wet-lantern.patches.zip"

    def test_the_expansion(self) -> None:
        """Two bases, two flavours: identified, applied, loaded by the game, undone; wrong slots refused."""
        harbours = "mossferry/data/harbours.json"
        for file, name in ((harbours, "1.4"), ("second/" + harbours, "2.0")):
            told = self.kindred("file", "patch", "identify", self.SET, file)["verdict"]
            self.assertEqual(told["bases"], [f"harbours of {name}"])
        refused = self.kindred("file", "patch", "apply", self.SET, harbours, "--yes", status=2)
        self.assertIn("--result short | full", refused["error"]["remedy"])
        self.kindred("file", "patch", "apply", self.SET, harbours, "--result", "full", "--yes")
        with open(self.path(*harbours.split("/")), "rb") as file:
            self.assertEqual(len(json.loads(file.read())), 11)
        self.assertEqual(self.judge()[0], 0)
        save = "mossferry/userdata/saves/midwinter.voyage"
        told = self.kindred("file", "patch", "identify", self.SET, save, status=1)
        self.assertIn("kindred card route voyage --from-format 4", told["looks_like"])
        turned = self.kindred("file", "patch", "apply", save, self.SET, "--yes", status=2)
        self.assertIn("wrong way round", turned["error"]["what"])

    def test_make_and_plain_deltas(self) -> None:
        """A set of two releases makes the one of the other; a delta without a manifest tells its digests."""
        zips = ("downloads/mossferry-1.4.zip", "downloads/mossferry-2.0.zip")
        made = self.kindred("file", "patch", "make", *zips, "--out", "to.zip")
        self.assertLess(made["size_bytes"], os.path.getsize(self.path(*zips[1].split("/"))) / 2)
        with zipfile.ZipFile(self.path("to.zip")) as archive:
            self.assertIn("patches.toml", archive.namelist())
        write(self.folder, {"mossferry/version.txt": b"Mossferry build 1.4, mine"})
        edited = self.kindred("file", "patch", "apply", "to.zip", "mossferry", "--yes", status=2)
        self.assertIn("version.txt", edited["error"]["remedy"])
        with zipfile.ZipFile(self.path(*zips[0].split("/"))) as archive:
            archive.extractall(self.folder)
        self.kindred("file", "patch", "apply", "to.zip", "mossferry-1.4", "--yes", "--allow-loss")
        with zipfile.ZipFile(self.path(*zips[1].split("/"))) as archive:
            for name in archive.namelist():
                with open(self.path("mossferry-1.4", *name.split("/")[1:]), "rb") as file:
                    self.assertEqual(file.read(), archive.read(name), name)
        old, new = b"reeds and peat, " * 40, b"reeds and moss, " * 40
        delta = io.BytesIO()
        encode(old, new, delta)
        write(self.folder, {"plain.vcdiff": delta.getvalue(), "x.bin": old})
        done = self.kindred("file", "patch", "apply", "plain.vcdiff", "x.bin", "--yes")
        self.assertIn(blake3(new).hexdigest(), str(done["change"]["findings"]))
        with open(self.path("x.bin"), "rb") as file:
            self.assertEqual(file.read(), new)
        self.kindred("file", "patch", "make", *zips, "--out", "to.zip", status=2)
