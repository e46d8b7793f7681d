"""A pack of two hundred files slimmed to six, and made ready for the next build.

    python examples/slim_a_pack.py [FOLDER]

Dusk was made by copying everything and changing a little. What is as in the original goes, also where another
program wrote it; what the next build has that the pack does nothing for is told.
"""

from __future__ import annotations

import os
import sys
import tempfile
import zipfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Build a play area in a folder, and trim the pack in it."""
    build_play_area(folder)
    os.chdir(folder)
    ledger = kl.Ledger.open("ledger")
    card = kl.Card.load("modding/boathouse.card.toml")
    change = kl.trim_mod(
        "modding/packs/dusk",
        "downloads/mossferry-1.4.zip",
        target="downloads/mossferry-2.0.zip",
        into="dusk.zip",
        card=card,
        of=kl.Card.load("mossferry.card.toml"),
        ledger=ledger,
    )
    for finding in change.findings:
        print(f"  {finding}")
    done = change.apply(ledger)
    print(done.statements[1])
    with zipfile.ZipFile("dusk.zip") as archive:
        names = sorted(name for name in archive.namelist() if not name.endswith("/"))
    print(f"In the archive: {', '.join(names)}")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else scratch)
