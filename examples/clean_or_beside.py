"""Two ways to 2.0 that start afresh: beside the old install, and clean, with a keep-list.

    python examples/clean_or_beside.py [FOLDER]

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
    ledger = kl.Ledger.open(os.path.join(folder, "ledger"))
    program = os.path.join(folder, "mossferry")
    release = kl.open_place(os.path.join(folder, "downloads", "mossferry-2.0.zip"))
    kl.shelve(
        [kl.open_place(os.path.join(folder, "downloads", "mossferry-1.4.zip"))], card, ledger=ledger
    )

    # Beside: the old one is not touched; saves follow when they are carried.
    change = kl.install_beside(card.open(program), release, ledger=ledger)
    print(change.notes[0])
    made = change.apply(ledger)
    tell(made, os.path.join(folder, "mossferry-2.0"))

    # Clean: what is not on the card's keep-list goes. A note somebody wrote would go, too:
    with open(os.path.join(program, "route-to-eelgate.txt"), "w") as note:
        note.write("twice left at the drowned chapel\n")
    change = kl.reinstall(card.open(program), release, ledger=ledger)
    print(change.notes[0])
    for loss in change.losses:
        print(f"  would be lost: {loss.where}: {loss.what}")
    change = kl.reinstall(
        card.open(program), release, ledger=ledger, keep=kl.Patterns(("route-to-*.txt",))
    )
    print(f"  losses with --keep: {len(change.losses)}")
    clean = change.apply(ledger)
    tell(clean, program)

    before = sorted(os.listdir(folder))
    kl.undo(clean, ledger=ledger).apply(ledger)
    kl.undo(made, ledger=ledger).apply(ledger)
    gone = sorted(set(before) - set(os.listdir(folder)))
    print(f"taken back: {card.open(program).version} again, and gone is {', '.join(gone)}")


def tell(done: kl.Applied, folder: str) -> None:
    """Print the books beside what is really there, counted without them."""
    print(done.statements[0])
    files = [os.path.join(top, name) for top, _, names in os.walk(folder) for name in names]
    size = sum(map(os.path.getsize, files))
    print(f"  counted in {os.path.basename(folder)}: {len(files)} files, {size} bytes")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
