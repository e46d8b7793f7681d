"""A mod goes into a program archive: whatever its name, without its old signatures, and out again.

    python examples/mod_a_program_archive.py [FOLDER]

Plays with a made-up archive in FOLDER, or in a temporary one.
"""

from __future__ import annotations

import os
import sys
import tempfile
import zipfile

import kindred_ledger as kl


def main(folder: str) -> None:
    """Tell the story in `folder`."""
    os.makedirs(os.path.join(folder, "more-reeds", "sounds"))
    with open(os.path.join(folder, "more-reeds", "sounds", "reeds.tone"), "wb") as tone:
        tone.write(b"they rustle louder now")
    path = os.path.join(folder, "marsh.pak")  # a zip, whatever it is called
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("META-INF/MAKERS.SF", "signed by the makers")
        archive.writestr("META-INF/MAKERS.RSA", "signed by the makers")
        archive.writestr("sounds/reeds.tone", "they rustle")
        archive.writestr("sounds/eels.tone", "they do not")
    with open(path, "rb") as file:
        original = file.read()

    ledger = kl.Ledger.open(os.path.join(folder, "ledger"))
    mod = kl.FolderPlace(os.path.join(folder, "more-reeds"))
    change = kl.assemble([mod], kl.open_place(path), ledger=ledger)
    for note in change.notes:
        print(note)
    done = change.apply(ledger)
    print(done.statements[1])
    with zipfile.ZipFile(path) as archive:
        print(f"  counted in the archive: {sorted(archive.namelist())}")
        print(f"  {archive.read('sounds/reeds.tone').decode()}")
    kl.undo(done, ledger=ledger).apply(ledger)
    with open(path, "rb") as file:
        print(f"taken back; the very archive: {file.read() == original}")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
