"""Keep an install, spoil something, see what differs, and bring just that back.

    python examples/first_backup.py [FOLDER]

Plays in a made-up install in FOLDER, or in a temporary one.
"""

from __future__ import annotations

import os
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Tell the story in `folder`."""
    build_play_area(folder)
    card = kl.Card.load(os.path.join(folder, "mossferry.card.toml"))
    install = card.open(os.path.join(folder, "mossferry"))
    ledger = kl.Ledger.open(os.path.join(folder, "ledger"))

    entry = ledger.backup(install, note="my first")
    print(f"Kept {entry.files} files of {entry.name} as entry {entry.id}.")

    save = os.path.join(folder, "mossferry", "userdata", "saves", "midwinter.voyage")
    with open(save, "w") as file:
        file.write("the cat walked over the keyboard")

    changed = ledger.tree(entry).diff(ledger.scan(install.place))
    for difference in changed:
        print(f"{difference.status}: {difference.path}")

    change = kl.restore(entry, ledger=ledger, only=install.select(["saves"]))
    print(change.preview())
    done = change.apply(ledger)
    print(f"Brought back; to undo even that: kindred undo {done.record.id}")
    same = ledger.tree(entry).same_content(ledger.scan(install.place))
    print("Everything is as it was kept." if same else "Something still differs.")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
