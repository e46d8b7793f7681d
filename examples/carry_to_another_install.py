"""Take the saves of an old install over to a fresh one of the new build, converted on the way.

    python examples/carry_to_another_install.py [FOLDER]

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
    mine = card.open(os.path.join(folder, "mossferry"))
    fresh = card.open(os.path.join(folder, "second", "mossferry"))

    change = kl.carry(mine, fresh, ["saves"], ledger=ledger)
    for line in change.statements[0].lines:
        print(f"{line.outcome}: {line.item}: {line.reason}")
    for loss in change.losses:
        print(f"  lost: {loss.where}: {loss.what}")
    done = change.apply(ledger, allow_loss=True)
    for books in done.statements:
        print(books)

    # Settings stand there already, and differ: nothing is overwritten unless somebody says so.
    try:
        kl.carry(mine, fresh, ["settings"], ledger=ledger).apply(ledger)
    except kl.KindredError as error:
        print(error)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
