"""A preview comes in parts: fetched from the release server, assembled, then one component goes alone.

    python examples/install_in_parts.py [FOLDER]

Plays in made-up installs in FOLDER, or in a temporary one; the server is simulated, on loopback.
"""

from __future__ import annotations

import os
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area
from kindred_ledger.demo.release_server import release_server
from kindred_ledger.releases import RetryPolicy


def main(folder: str) -> None:
    """Tell the story in `folder`."""
    build_play_area(folder)
    card = kl.Card.load(os.path.join(folder, "mossferry.card.toml"))
    ledger = kl.Ledger.open(os.path.join(folder, "ledger"))
    came = os.path.join(folder, "came")
    with release_server() as url:
        source = kl.source_at(url)
        index = kl.read_index(source.name, source.read)
        try:  # only a preview reaches 2.1: that is said, not taken
            kl.choose_release(index, "2.1", parse=card.build)
        except kl.KindredError as error:
            print(error.what)
        choice = kl.choose_release(index, "2.1", parse=card.build, channel="preview")
        parts = [
            source.fetch(part, came, patience=RetryPolicy(), progress=kl.Progress())
            for part in choice.release.parts
        ]
    print(f"fetched and verified: {', '.join(map(os.path.basename, parts))}")

    made = os.path.join(folder, "mossferry-2.1")
    change = kl.assemble(
        [kl.open_place(part) for part in parts],
        kl.ItemPlace(made),
        ledger=ledger,
        how=kl.Assembly(card=card),
    )
    assembled = change.apply(ledger)
    tell(assembled, made)

    # Lamps of the Bog, which 1.4 has not, alone; by the name that players see.
    program = os.path.join(folder, "mossferry")
    lamps = kl.UpdateChoices(components=("Lamps of the Bog",))
    change = kl.update(card.open(program), kl.FolderPlace(made), ledger=ledger, choices=lamps)
    print(change.summary)
    brought = change.apply(ledger)
    tell(brought, program)

    for done in (brought, assembled):
        kl.undo(done, ledger=ledger).apply(ledger)
    lamps_left = os.path.exists(os.path.join(program, "data", "lanterns"))
    print(f"taken back; lamps are left: {lamps_left}; 2.1 is left: {os.path.exists(made)}")


def tell(done: kl.Applied, folder: str) -> None:
    """Print the books beside what is really there, counted without them."""
    print(done.statements[0])
    files = [os.path.join(top, name) for top, _, names in os.walk(folder) for name in names]
    size = sum(map(os.path.getsize, files))
    print(f"  counted in {os.path.basename(folder)}: {len(files)} files, {size} bytes")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
