"""Two builds share one folder of saves: 2.0 every day, 1.4 for an evening, and each finds its own.

    python examples/an_older_build_for_an_evening.py [FOLDER]

Plays in made-up installs in FOLDER, or in a temporary one.
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
    shared = os.path.join(folder, "mossferry", "userdata")

    def build(name: str) -> kl.Install:
        return card.open(os.path.join(folder, *name.split("/")), folders={"user": shared})

    # Whose data is live? Nobody has told the ledger yet, and it does not guess.
    try:
        kl.switch(build("second/mossferry"), ledger=ledger)
    except kl.KindredError as error:
        print(error.what)
    begun = kl.switch(
        build("second/mossferry"), ledger=ledger, written_by="1.4", begin=kl.Begin.EMPTY
    )
    print(begun.summary)
    print(begun.apply(ledger).statements[0])
    with open(os.path.join(shared, "saves-of-2.0.txt"), "w", encoding="utf-8") as save:
        save.write("what 2.0 wrote\n")

    # The evening: 1.4 gets its turn, and with it every voyage as it was.
    print(kl.switch(build("mossferry"), ledger=ledger).apply(ledger).statements[0])
    print(f"live now: {len(os.listdir(os.path.join(shared, 'saves')))} voyages of 1.4")
    kl.switch(build("second/mossferry"), ledger=ledger).apply(ledger)
    print(f"and back: {', '.join(sorted(n for n in os.listdir(shared) if n.endswith('.txt')))}")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
