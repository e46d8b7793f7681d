"""One ledger for several: processes that write at once, while others verify, mirror and retire."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from unittest import mock

from kindred_ledger.errors import KindredError
from kindred_ledger.ledger import Ledger, Tag, mirror, mirroring, verify, verifying
from kindred_ledger.ledger.entries import ReleaseTag
from tests.support import EXAMPLES, LONG, Case, write

_WRITERS = 4
_SECONDS = max(5.0, EXAMPLES / 160)  # a minute in the longer run

_WRITE = """
import os, sys, time
from kindred_ledger.changes import restore
from kindred_ledger.ledger import Ledger
from kindred_ledger.places import FolderPlace

ledger, place, seconds = sys.argv[1], FolderPlace(sys.argv[2]), float(sys.argv[3])
end, made = time.monotonic() + seconds, 0
while time.monotonic() < end:
    for name in ("a", "b"):
        with open(place.path(name), "wb") as file:
            file.write(os.urandom(3000) + b"shared" * 500)
    with open(place.path("same"), "wb") as file:  # as the others write it, at about that time
        file.write(b"%d" % made * 3000)
    with open(place.path("world"), "wb") as file:
        file.write(bytes(made % 256 for _ in range(9)) + b"peat" * 40_000)
    opened = Ledger.open(ledger)
    entry = opened.backup(place)
    with open(place.path("a"), "wb") as file:
        file.write(b"spoilt")
    restore(entry, place, ledger=opened).apply(opened)
    opened.index.close()
    made += 1
print(made)
"""


_RETIRE = """
import sys, time
from kindred_ledger.changes import confirm
from kindred_ledger.errors import LedgerError
from kindred_ledger.ledger import Ledger, RetentionPolicy, confirmable, plan_retirement

end, gone, deleted = time.monotonic() + float(sys.argv[2]), 0, 0
while time.monotonic() < end:
    try:
        opened = Ledger.open(sys.argv[1], create=False)
    except LedgerError:
        time.sleep(0.05)  # nobody has made it yet
        continue
    for record in confirmable(opened)[:-1]:
        confirm(record.id, ledger=opened)
    done = plan_retirement(opened, RetentionPolicy(last=2)).carry_out(opened)
    gone += done.books.totals()["removed"]
    deleted += done.space.deleted
    opened.index.close()
print(gone, deleted)
"""


class Sharing(Case):
    def setUp(self) -> None:
        super().setUp()
        self.root = self.path("ledger")
        self.looked = 0

    def start(self, script: str, *args: str) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [sys.executable, "-c", script, self.root, *args, str(_SECONDS)],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )

    def writers(self) -> list[subprocess.Popen[str]]:
        for number in range(_WRITERS):
            os.mkdir(self.path(f"place{number}"))
        return [self.start(_WRITE, self.path(f"place{number}")) for number in range(_WRITERS)]

    def test_a_new_ledger_is_made_once(self) -> None:
        """Whoever opens a ledger that is not there yet while others do: it is one, and the same for all."""
        for round in range(40):
            root = self.path(f"new {round}")
            start = threading.Barrier(6)

            def opened(number: int, root: str = root, start: threading.Barrier = start) -> str:
                start.wait()
                ledger = Ledger.open(root)
                with open(os.path.join(root, "ledger.toml"), encoding="utf-8") as file:
                    told = file.read()
                return told if ledger.entries() == [] else ""

            with ThreadPoolExecutor(6) as pool:
                told = list(pool.map(opened, range(6)))
            self.assertEqual(len({*told}), 1)
            self.assertIn('id = "', told[0])
            self.assertFalse([name for name in os.listdir(root) if name.endswith(".part")])

    def look_while(self, processes: list[subprocess.Popen[str]]) -> list[list[int]]:
        """Verify and mirror until all processes have ended; return the numbers they printed."""
        while any(process.poll() is None for process in processes):
            if not os.path.exists(os.path.join(self.root, "ledger.toml")):
                time.sleep(0.05)
                continue
            self.look()
        ends = [process.communicate() for process in processes]
        self.assertEqual([process.returncode for process in processes], [0] * len(ends), ends)
        return [list(map(int, out.split())) for out, _ in ends]

    def look(self) -> None:
        ledger, copy = Ledger.open(self.root), Ledger.open(self.path("mirror"))
        found = verify(ledger)
        self.assertEqual((found.findings, found.costs), ((), ()))
        self.assertEqual(mirror(ledger, copy).not_copied, ())
        ledger.index.close()
        copy.index.close()
        self.looked += 1

    def test_several_write_while_others_look(self) -> None:
        """Every backup and change that was made is there, whole; nobody ever sees one that is not."""
        made = sum(sum(numbers) for numbers in self.look_while(self.writers()))
        ledger, copy = self.ledger(), self.ledger("mirror")
        self.assertEqual((len(ledger.entries()), len(ledger.records())), (2 * made, made))
        self.assertGreater(made, 2 * _WRITERS)
        self.assertGreater(self.looked, 1)
        mirror(ledger, copy)
        for one in (ledger, copy):
            found = verify(one)
            self.assertEqual((found.findings, found.costs, found.entries), ((), (), 2 * made))
        self.assertEqual(os.listdir(self.path("ledger", "work")), [])

    def test_several_write_while_one_retires(self) -> None:
        """Packs go while others rely on what was in them: every entry that is left is whole, always."""
        writers = self.writers()
        *made, (gone, deleted) = self.look_while([*writers, self.start(_RETIRE)])
        ledger = self.ledger()
        found = verify(ledger)
        self.assertEqual((found.findings, found.costs), ((), ()))
        self.assertEqual(found.entries, 2 * sum(sum(numbers) for numbers in made) - gone)
        self.assertEqual([f for entry in ledger.entries() for f in ledger.check(entry)], [])
        self.assertGreater(gone, _WRITERS)
        self.assertGreater(deleted, 2)
        self.assertGreater(self.looked, 1)


class AMirror(Case):
    def test_what_moved_to_another_pack_is_tried_again(self) -> None:
        """A pack goes while it is copied: the entry that needs it waits, and comes with the next look."""
        ledger, other = self.ledger(), self.ledger("other")
        entry = ledger.backup(self.place({"a": os.urandom(9000)}))
        (pack,) = (ledger.storage.path("packs", name) for name in ledger.storage.names("packs"))
        true, looked = mirroring._copied, []

        def copied(path: str, part: str) -> int:
            looked.append(os.path.basename(path))
            if len(looked) == 1:
                os.rename(pack, f"{pack}.away")
            elif len(looked) == 2:  # the entry's turn
                os.rename(f"{pack}.away", pack)
            return true(path, part)

        with mock.patch.object(mirroring, "_copied", copied):
            self.assertEqual(mirror(ledger, other).not_copied, ())
        self.assertEqual(len(looked), 4, looked)
        self.assertEqual(other.check(other.entry(entry.id)), [])
        self.assertEqual(verify(other).findings, ())


class AtTheShelf(Case):
    def test_who_deletes_is_waited_for(self) -> None:
        """Adding to the shelf and taking from it wait for a retire, and are done then."""
        ledger, place = self.ledger(), self.place({"a": b"a" * 9000})
        label, tag = ReleaseTag(), Tag("x", "1.0")
        held, free = threading.Event(), threading.Event()

        def retire() -> None:
            with Ledger.open(self.path("ledger")).storage.deleting():
                held.set()
                free.wait(30)

        for act in (
            lambda: ledger.shelf.add(place, tag, label),
            lambda: ledger.shelf.remove(ledger.shelf.find("x@1.0")),
        ):
            held.clear()
            free.clear()
            thread = threading.Thread(target=retire)
            thread.start()
            held.wait(30)
            threading.Timer(0.3, free.set).start()
            act()
            thread.join()
        self.assertEqual(ledger.shelf.releases(), [])
        self.assertEqual(verify(ledger).findings, ())

    def test_a_pack_that_nobody_noted_yet(self) -> None:
        """Between the pack and the note of it in the index: no damage, and the note is made."""
        ledger, place = self.ledger(), self.place({"a": os.urandom(9000)})
        ledger.shelf.add(place, Tag("x", "1.0"), ReleaseTag())
        looked = Ledger.open(self.path("ledger"))
        checked = verifying._checked

        def unnoted(*args: Any) -> Any:
            """Check the packs, and have them be in no index, as when they were written just now."""
            for found in checked(*args):
                with sqlite3.connect(self.path("ledger", "index.sqlite")) as cache:
                    cache.execute("DELETE FROM packs")
                    cache.execute("DELETE FROM chunks")
                cache.close()
                yield found

        with mock.patch.object(verifying, "_checked", unnoted):
            self.assertEqual(verify(looked).findings, ())
        self.assertFalse(looked.index.is_empty())
        looked.index.close()

    def test_no_damage_is_seen_that_is_none(self) -> None:
        """While somebody adds to the shelf and takes from it, every look at the ledger finds it whole."""
        ledger, place = self.ledger(), self.place({"a": os.urandom(9000)})
        stop, failed = threading.Event(), []

        def restless() -> None:
            other = Ledger.open(self.path("ledger"))
            try:
                while not stop.is_set():
                    write(place.root, {"a": os.urandom(9000)})
                    other.shelf.add(place, Tag("x", "1.0"), ReleaseTag())
                    other.shelf.remove(other.shelf.find("x@1.0"))
            except KindredError as error:
                failed.append(error)

        thread = threading.Thread(target=restless)
        thread.start()
        try:
            for _ in range(60 if LONG else 12):
                looked = Ledger.open(self.path("ledger"))
                found = verify(looked)
                self.assertEqual((found.findings, found.costs), ((), ()))
                looked.index.close()
        finally:
            stop.set()
            thread.join()
        self.assertEqual(failed, [])
        ledger.index.close()
