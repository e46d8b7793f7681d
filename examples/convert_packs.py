"""Convert a folder of mods to the packs of a newer build, and see what they do not cover.

    python examples/convert_packs.py [FOLDER]

Mods lie in folders whose number covers many builds. Since 2.1 their pictures lie in assets: files
move, what the game makes itself goes, the number rises, and the comments in mod.json stay.
"""

from __future__ import annotations

import os
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Build a play area in a folder, convert its mods, say what became of them, and go back."""
    build_play_area(folder)
    card = kl.Card.load(os.path.join(folder, "mossferry.card.toml"))
    install = card.open(os.path.join(folder, "mossferry"))
    ledger = kl.Ledger.open(os.path.join(folder, "ledger"))
    change = kl.convert_install(
        install,
        card.scheme.parse("2.1"),
        ledger=ledger,
        only=lambda path: path.startswith("program/mods/"),
    )
    for statement in change.statements:
        print(statement)
        for line in statement.lines:
            if line.outcome.value != "unchanged":
                print(f"  {line.outcome.value:<8} {line.item} {line.became}: {line.reason}")
    for note in change.notes:
        print("note:", note)
    done = change.apply(ledger)
    print("in the mod now:", ", ".join(sorted(os.listdir(os.path.join(folder, MOD)))))
    kl.undo(done, ledger=ledger).apply(ledger)
    print("after undo:", ", ".join(sorted(os.listdir(os.path.join(folder, MOD)))))


MOD = os.path.join("mossferry", "mods", "reedlight")


if __name__ == "__main__":
    if len(sys.argv) > 1:
        main(sys.argv[1])
    else:
        with tempfile.TemporaryDirectory() as scratch:
            main(os.path.join(scratch, "play"))
