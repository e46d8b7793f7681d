"""Keep a save that is an SQLite database while a program has it open, and bring it back.

    python examples/keep_while_it_runs.py [FOLDER]

Plays with a made-up harbour log in FOLDER, or in a temporary one.
"""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
import tempfile

import kindred_ledger as kl

# A program that has a log open: two ferries have landed, a third is not committed yet.
_HARBOUR = """
import sqlite3, sys
log = sqlite3.connect(sys.argv[1])
log.execute("PRAGMA journal_mode = wal")
log.execute("CREATE TABLE landed (ferry)")
log.executemany("INSERT INTO landed VALUES (?)", [("Peat Maiden",), ("Wet Lantern",)])
log.commit()
log.execute("INSERT INTO landed VALUES ('Late Again')")
print("open", flush=True)
sys.stdin.read()
"""


def main(folder: str) -> None:
    """Tell the story in `folder`."""
    saves, back = os.path.join(folder, "saves"), os.path.join(folder, "back")
    for name in (saves, back):
        os.makedirs(name)
    ledger = kl.Ledger.open(os.path.join(folder, "ledger"))

    program = [sys.executable, "-c", _HARBOUR, os.path.join(saves, "harbour.log")]
    with subprocess.Popen(program, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as harbour:
        assert harbour.stdout is not None
        harbour.stdout.readline()
        print("There are:", ", ".join(sorted(os.listdir(saves))))
        entry = ledger.backup(kl.FolderPlace(saves))
        harbour.kill()
    for who in entry.running:
        print("Kept while this ran:", who.replace(str(harbour.pid), "…"))
    print("Kept as SQLite handed it out:", ", ".join(entry.captured))
    print("The entry holds:", ", ".join(ledger.tree(entry).files))

    kl.restore(entry, kl.FolderPlace(back), ledger=ledger).apply(ledger)
    log = sqlite3.connect(os.path.join(back, "harbour.log"))
    print("Landed:", ", ".join(ferry for (ferry,) in log.execute("SELECT ferry FROM landed")))
    log.close()


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
