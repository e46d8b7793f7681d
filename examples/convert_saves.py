"""Convert one save, prove what it is worth, then a folder of them.

    python examples/convert_saves.py [FOLDER]

A voyage from three versions ago shall be played in 2.1. First the route is read, then one file is
converted in memory and its books are looked at; what would not come back is named. Then the whole
folder of the server is converted beside the files, by two threads.
"""

from __future__ import annotations

import os
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor

import kindred_ledger as kl
from kindred_ledger.convert import Converter, Work, convert_files, describe_step, prove, route_for
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Build a play area in a folder, convert files of it, and say what became of them."""
    build_play_area(folder)
    card = kl.Card.load(os.path.join(folder, "mossferry.card.toml"))
    voyage = card.formats["voyage"]
    path = os.path.join(folder, "mossferry", "userdata", "saves", "first-crossing.voyage")
    with open(path, "rb") as file:
        data = file.read()
    read = voyage.scheme.parse
    for hop in route_for(voyage, read("3"), read("6")):
        losing = [each.text for each in describe_step(voyage, hop) if each.loses]
        print(f"{hop.source} to {hop.target}: {'; '.join(losing) or 'nothing is lost'}")
    done = kl.convert_bytes(data, voyage, read("6"), name="first-crossing.voyage")
    print(done.statement)
    for loss in done.losses:
        print(f"  lost: {loss.field}: {loss.what}")

    server = card.formats["server-voyage"]
    with open(os.path.join(folder, "server", "voyages", "low-water.mfsv"), "rb") as file:
        proof = prove(Converter(server), file.read(), read("6"), name="low-water.mfsv")
    print(
        "low-water.mfsv comes back from 6:", "every byte" if proof.same_bytes else proof.unrecovered
    )

    ledger = kl.Ledger.open(os.path.join(folder, "ledger"))
    place = kl.open_place(os.path.join(folder, "server"))
    with ThreadPoolExecutor(2) as pool:
        change = convert_files(
            place, card, ledger=ledger, version="6", beside=True, work=Work(pool, 2),
            only=lambda path: path.endswith(".mfsv"),
        )  # fmt: skip
    change.apply(ledger)
    print("beside them now:", ", ".join(action.path for action in change.actions))


if __name__ == "__main__":
    if len(sys.argv) > 1:
        main(sys.argv[1])
    else:
        with tempfile.TemporaryDirectory() as scratch:
            main(os.path.join(scratch, "play"))
