"""Projects whose part library moved, changed its version and lost a parameter; and all the way back.

    python examples/a_library_that_moved.py [FOLDER]

Quaywright opens none of its projects: their libraries lie elsewhere now. References are mended, the newer
version of a library is swapped in, and the old one is removed only when nobody uses it.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area

NAMES = ("delta", "mill", "old-quay")


def main(folder: str) -> None:
    """Build a play area in a folder, and bring its projects to the newer library."""
    build_play_area(folder)
    os.chdir(os.path.join(folder, "modding", "quaywright"))
    card = kl.Card.load("../quaywright.card.toml")
    ledger = kl.Ledger.open("ledger")
    print(opened())

    change = kl.relink("projects", ["libraries"], ledger=ledger)
    print(change.statements[0])
    change.apply(ledger)
    print(opened())
    relinked = contents()

    new = "libraries/piers-2.0/piers.parts"
    change = kl.swap_library("projects", "piers-1.2", new, card=card, ledger=ledger)
    for finding in change.findings:
        print(f"  {finding}")
    change.apply(ledger)
    print(opened())
    users = kl.users_of("libraries/piers-1.2", ["projects"])
    print(f"piers-1.2 is still used by {', '.join(users.projects)}.")

    old = "libraries/piers-1.2/piers.parts"
    kl.swap_library("projects", "piers-2.0", old, card=card, ledger=ledger).apply(ledger)
    print(f"Swapped back, every file is what it was: {contents() == relinked}")


def contents() -> list[bytes]:
    """Return the bytes of the projects."""
    found = []
    for name in NAMES:
        with open(f"projects/{name}/{name}.route", "rb") as file:
            found.append(file.read())
    return found


def opened() -> str:
    """Return how many projects Quaywright opens."""
    paths = [f"projects/{name}/{name}.route" for name in NAMES]
    editor = [sys.executable, "quaywright.py", *paths]
    said = subprocess.run(editor, stdout=subprocess.PIPE, text=True, check=False).stdout
    return f"Quaywright opens {said.count('opened ')} of {len(NAMES)}."


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else scratch)
