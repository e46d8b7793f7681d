"""A world whose tiles are numbers, over a build that numbers anew and drops two mods.

    python examples/a_world_over_an_update.py [FOLDER]

What would vanish is counted first. What a later build may have again waits as marker stones; when 2.1 has it,
it is put back where it was. A census before and after says what is gone.
"""

from __future__ import annotations

import os
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Build a play area in a folder, and carry its world to 2.0 and 2.1."""
    build_play_area(folder)
    os.chdir(os.path.join(folder, "fens"))
    ledger = kl.Ledger.open("ledger")
    card = kl.Card.load("fens.card.toml")
    install = card.open("game")
    lists = {
        build: kl.id_lists(card.open_release(f"releases/fens-{build}.zip"))
        for build in ("2.0", "2.1")
    }
    before = kl.take_census(kl.open_world(install), build="1.4")

    told = kl.forecast(kl.open_world(install), lists["2.0"])
    for each in told.vanishing:
        print(f"{each.name}: {each.amount:,} in {len(each.by_file)} files")
    choices = kl.ContentChoices(
        renames={"bog:still_water": "bog:stillwater"},
        substitutes={"bog:lantern": "bog:oil_lantern"},
        inert=("reedlight:*",),
        remove=("oldquay:*",),
    )
    change = kl.remap(install, lists["2.0"], ledger=ledger, choices=choices, agreed=told.id)
    print(change.apply(ledger).statements[1])

    kl.remap(install, lists["2.1"], ledger=ledger).apply(ledger)
    print(kl.reinstate(install, ledger=ledger).apply(ledger).record.summary)
    after = kl.take_census(kl.open_world(install), build="2.1")
    for change_of in kl.compare_censuses(before, after):
        if change_of.kind in ("things", "goods"):
            print(f"{change_of.name}: {change_of.before} before, {change_of.after} after")
    bells = [census.counts["things"]["reedlight:bell"] for census in (before, after)]
    print(f"Bells before and after: {bells[0]}, {bells[1]}")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else scratch)
