"""A server's edits survive an update: found, written down, put onto the new version, and taken back.

    python examples/edits_after_an_update.py [FOLDER]

The owner of a ferry house edited its tables for months and wrote nothing down. 2.0 is out, 1.4 was skipped,
and the format of the tables is another. One price both changed; the owner decides. The ferry house opens.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Build a play area in a folder, and bring the edits of the ferry house in it to 2.0."""
    build_play_area(folder)
    os.chdir(os.path.join(folder, "edits"))
    card = kl.Card.load("ferryhouse.card.toml")
    ledger = kl.Ledger.open("ledger")
    install = card.open("ferryhouse")
    for build in ("1.3", "1.4", "2.0"):
        kl.shelve(f"downloads/ferryhouse-{build}.zip", card, ledger=ledger)

    edits = kl.take_edits(install, ledger=ledger, by="Ada Quill")
    edits.save("mine.edits.toml")
    print(f"Found: {edits}.")
    for row in edits.rows():
        print(f"  {row.file}: {row.where}: {row.before or 'nothing'} -> {row.after}")

    new = "downloads/ferryhouse-2.0.zip"
    change = kl.reapply(install, new, ledger=ledger, into=install)
    for conflict in change.conflicts:
        print(f"To decide: {conflict.field}: {conflict.sides}")
    choices = kl.ReapplyChoices(prefer="mine", agree=True)
    change = kl.reapply(install, new, ledger=ledger, into=install, choices=choices)
    done = change.apply(ledger, allow_loss=True)  # a comment that could not come along
    mine, theirs, *_ = change.statements
    print(f"Of my edits: {told(mine)}; of their changes: {told(theirs)}.")
    server = [sys.executable, os.path.join("ferryhouse", "ferryhouse.py")]
    print(subprocess.run(server, stdout=subprocess.PIPE, text=True, check=True).stdout.strip())

    kl.undo(done, ledger=ledger).apply(ledger, allow_loss=True)
    print(f"Taken back: it is {card.open('ferryhouse').version} again.")


def told(books: kl.Statement) -> str:
    """Return what became of changes, in a few words."""
    fates: dict[str, int] = {}
    for line in books.lines:
        fate = line.reason.partition(":")[0]
        fates[fate] = fates.get(fate, 0) + line.count
    return ", ".join(f"{number} {fate}" for fate, number in fates.items())


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else scratch)
