"""From Mossferry 1.4 to 2.0 and back: update, convert, let the game judge, undo.

    python examples/move_to_a_new_build.py [FOLDER]

Plays in a made-up install in FOLDER, or in a temporary one.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Tell the story in `folder`."""
    build_play_area(folder)
    program = os.path.join(folder, "mossferry")
    downloads = os.path.join(folder, "downloads")
    card = kl.Card.load(os.path.join(folder, "mossferry.card.toml"))
    ledger = kl.Ledger.open(os.path.join(folder, "ledger"))

    update = kl.update(
        card.open(program),
        kl.open_place(os.path.join(downloads, "mossferry-2.0.zip")),
        old=kl.open_place(os.path.join(downloads, "mossferry-1.4.zip")),
        ledger=ledger,
    )
    print(update.preview())
    for note in update.notes:
        print(f"  note: {note}")
    updated = update.apply(ledger)

    conversion = kl.convert_install(card.open(program), ledger=ledger)
    for loss in conversion.losses:
        print(f"  lost: {loss.where}: {loss.what}")
    converted = conversion.apply(ledger, allow_loss=True)
    for books in converted.statements:
        print(books)
    print(f"Does 2.0 load everything? {loads(program)}")

    kl.undo(converted, ledger=ledger).apply(ledger)
    kl.undo(updated, ledger=ledger).apply(ledger)
    print(f"Back at {card.open(program).version}. Does it load everything? {loads(program)}")


def loads(program: str) -> str:
    """Start the simulated game, which tells what it could load."""
    command = [sys.executable, os.path.join(program, "mossferry.py")]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    return done.stdout.splitlines()[-1]


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
