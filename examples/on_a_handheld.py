"""The handheld's card: its live files to the desktop and back, and pulled out in the middle of it.

    python examples/on_a_handheld.py [FOLDER]

Plays in FOLDER, or in a temporary one. The card is simulated: a folder that behaves as a FAT disk does.
"""

from __future__ import annotations

import os
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.handheld import simulated_card
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Tell the story in `folder`."""
    build_play_area(folder)
    ledger = kl.Ledger.open(os.path.join(folder, "ledger"))
    card = kl.FolderPlace(os.path.join(folder, "handheld"))
    desk = kl.FolderPlace(os.path.join(folder, "desk"))
    os.mkdir(desk.root)
    with open(card.path("evening.pocket.bak"), "wb") as file:
        file.write(b"what the device keeps for itself")
    live = kl.Patterns(("*.pocket",))
    with simulated_card(card.root):
        brought = kl.carry_files(card, desk, ledger=ledger, only=live).apply(ledger)
        print(brought.statements[1])

    # Played on at the desk; a link and a name that such a disk cannot hold lie there, too.
    with open(desk.path("evening.pocket"), "ab") as file:
        file.write(b"\x00played on")
    for number in range(3):
        with open(desk.path(f"night-{number}.pocket"), "wb") as file:
            file.write(bytes(30_000))
    with open(desk.path("what?.pocket"), "wb") as file:
        file.write(b"odd")
    with simulated_card(card.root, pulled_at=24):
        try:
            kl.carry_files(desk, card, ledger=ledger).apply(ledger)
        except kl.KindredError as error:
            print(f"pulled out: {error.remedy.splitlines()[0]}")
    with simulated_card(card.root):
        for recovered in kl.recover(ledger, back=True):
            print(f"put back in: {recovered.outcome}")
        change = kl.carry_files(desk, card, ledger=ledger)
        for line in change.statements[0].lines:
            print(f"  {line.outcome}: {line.item}, {line.reason}")
        change.apply(ledger)
        print(f"on the card now: {', '.join(sorted(os.listdir(card.root)))}")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
