"""The same voyages on a desktop and a laptop: both sailed on, and both shall have all of it.

    python examples/two_machines_meet.py [FOLDER]

Plays in made-up installs in FOLDER, or in a temporary one.
"""

from __future__ import annotations

import os
import shutil
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Tell the story in `folder`."""
    build_play_area(folder)
    shutil.copytree(os.path.join(folder, "mossferry"), os.path.join(folder, "laptop"))
    card = kl.Card.load(os.path.join(folder, "mossferry.card.toml"))
    at = {"desktop": "mossferry", "laptop": "laptop"}
    ledgers = {name: kl.Ledger.open(os.path.join(folder, "ledger"), machine=name) for name in at}
    install = {name: card.open(os.path.join(folder, path)) for name, path in at.items()}

    def saves(name: str) -> str:
        return os.path.join(folder, at[name], "userdata", "saves")

    def take_in(name: str) -> None:
        change = kl.meet(
            install[name], ledger=ledgers[name], choices=kl.MeetChoices(both=kl.Patterns(("*",)))
        )
        print(f"{name}: {change.summary}; {change.notes[0]}")
        print(f"  {change.apply(ledgers[name]).statements[1]}")

    ledgers["desktop"].backup(install["desktop"])
    take_in("laptop")
    # Both sail on: each makes a voyage, the laptop scraps one, and both change a third.
    sailed = os.path.join(saves("desktop"), "midwinter.voyage")
    shutil.copy(sailed, os.path.join(saves("desktop"), "thaw.voyage"))
    os.remove(os.path.join(saves("laptop"), "eel-season.voyage"))
    for name in at:
        with open(os.path.join(saves(name), "midwinter.voyage"), "a", encoding="utf-8") as voyage:
            voyage.write(f"\n// sailed on at the {name}\n")
    ledgers["laptop"].backup(install["laptop"])
    take_in("desktop")
    ledgers["desktop"].backup(install["desktop"])
    take_in("laptop")
    both = [sorted(os.listdir(saves(name))) for name in at]
    print(f"the same on both: {both[0] == both[1]}: {', '.join(both[0])}")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
