"""No card at all: two shelved releases tell which files are edits, which are left over, which are yours.

    python examples/edits_without_a_card.py [FOLDER]

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
    ledger = kl.Ledger.open(os.path.join(folder, "ledger"))
    plain = kl.Card.plain("mossferry")
    for version in ("1.4", "2.0"):
        archive = kl.open_place(os.path.join(folder, "downloads", f"mossferry-{version}.zip"))
        done = kl.shelve([archive], plain, ledger=ledger, version=version)
        print(f"shelved {done.release.name}, its tree is {done.release.label.digest[:16]}…")

    install = plain.open(os.path.join(folder, "mossferry"))
    for likeness in kl.match_releases(install, ledger):
        print(f"{likeness.share:.0%}: {likeness}")

    release = ledger.shelf.place(ledger.shelf.find("mossferry@2.0"))
    change = kl.update(install, release, ledger=ledger)
    for note in change.notes[1:]:
        print(note)
    updated = change.apply(ledger)
    print(updated.statements[0])
    files = [name for _, _, names in os.walk(os.path.join(folder, "mossferry")) for name in names]
    print(f"  counted in the folder: {len(files)} files")
    kl.undo(updated, ledger=ledger).apply(ledger)
    print(kl.match_releases(install, ledger)[0])


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
