"""One ledger for several: processes that write at once, while others verify and mirror it."""

from __future__ import annotations

import os
import subprocess
import sys
import time

from kindred_ledger.ledger import Ledger, mirror, verify
from tests.support import EXAMPLES, Case

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
    restore(entry, opened, place).apply(opened)
    opened.index.close()
    made += 1
print(made)
"""


class Sharing(Case):
    def test_several_write_while_others_look(self) -> None:
        """Every backup and change that was made is there, whole; nobody ever sees one that is not."""
        root = self.path("ledger")
        writers = []
        for number in range(_WRITERS):
            os.mkdir(self.path(f"place{number}"))
            command = [sys.executable, "-c", _WRITE, root, self.path(f"place{number}")]
            writers.append(
                subprocess.Popen(
                    [*command, str(_SECONDS)],
                    stdout=subprocess.PIPE,
                    stderr=subprocess.PIPE,
                    text=True,
                )
            )
        looked = 0
        while any(writer.poll() is None for writer in writers):
            if not os.path.exists(os.path.join(root, "ledger.toml")):
                time.sleep(0.05)
                continue
            ledger, copy = Ledger.open(root), Ledger.open(self.path("mirror"))
            found = verify(ledger)
            self.assertEqual((found.faults, found.costs), ((), ()))
            self.assertEqual(mirror(ledger, copy).held, ())
            ledger.index.close()
            copy.index.close()
            looked += 1
        ends = [writer.communicate() for writer in writers]
        self.assertEqual([writer.returncode for writer in writers], [0] * _WRITERS, ends)
        made = sum(int(out) for out, _ in ends)
        ledger, copy = self.ledger(), self.ledger("mirror")
        self.assertEqual((len(ledger.entries()), len(ledger.records())), (2 * made, made))
        self.assertGreater(made, 2 * _WRITERS)
        self.assertGreater(looked, 1)
        mirror(ledger, copy)
        for one in (ledger, copy):
            found = verify(one)
            self.assertEqual((found.faults, found.costs, found.entries), ((), (), 2 * made))
        self.assertEqual(os.listdir(self.path("ledger", "work")), [])
