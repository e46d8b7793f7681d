"""Mods broken in seven ways, mended; twelve add-ons judged against the next build.

    python examples/mods_that_do_not_load.py [FOLDER]

Boathouse loads the mods of Mossferry, and none of these. A check says why, and mends what can lose nothing;
then the same twelve add-ons that 1.4 loads are held against 2.0.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Build a play area in a folder, and check the mods in it."""
    build_play_area(folder)
    os.chdir(os.path.join(folder, "modding"))
    card = kl.Card.load("boathouse.card.toml")
    ledger = kl.Ledger.open("ledger")

    print(loaded("broken"))
    check = kl.check_mods("broken", "1.4", card=card)
    for finding in check.findings:
        print(f"  {finding.where}: {finding.fix}")
    done = check.change(ledger).apply(ledger)
    print(loaded("broken"))
    print(f"Left to find: {len(kl.check_mods('broken', '1.4', card=card).findings)}.")
    kl.undo(done, ledger=ledger).apply(ledger)

    install = card.open("boathouse")
    kl.shelve("downloads/bog-mist-2.0.zip", kl.Card.plain("bog-mist"), ledger=ledger, version="2.0")
    judged = kl.compatible_mods(install, "2.0", ledger=ledger)
    for fit in judged.fits:
        print(f"  {fit.verdict:<8} {fit.mod}: {fit.why}")
    print(f"With 2.0 they load as {', '.join(judged.order)}.")


def loaded(folder: str) -> str:
    """Return how many mods of a folder Boathouse loads."""
    boathouse = [sys.executable, os.path.join("boathouse", "boathouse.py"), "--all", folder]
    said = subprocess.run(boathouse, stdout=subprocess.PIPE, text=True, check=False).stdout
    return f"Boathouse loads {said.count('loaded ')} and refuses {said.count('refused ')}."


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else scratch)
