"""Seven years of a game, out of the archipelago of 1.4 and into a fresh one of 2.1.

    python examples/a_long_game_in_a_new_world.py [FOLDER]

What is baked into the old save is listed first. Then the fleet moves, with its hands, cargo and routes, and
all that they refer to. What cannot come yet waits in a bundle, and is set in after a day was played.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Build a play area in a folder, and carry its long game to 2.1."""
    build_play_area(folder)
    os.chdir(os.path.join(folder, "fleets"))
    ledger = kl.Ledger.open("ledger")
    card = kl.Card.load("fleets.card.toml")
    old, new = card.open("old"), card.open("new")

    told = kl.forecast_transplant(old, new)
    for group in told.baked:
        for each in group.differing:
            print(f"{each.name}: {each.old} in the save, {each.new} in 2.1")
    for kind in told.counts:
        print(f"{kind.kind}: {kind.moved:,} move, {kind.matched} matched, {kind.bundled} wait")

    plan = kl.transplant(old, new, ledger=ledger)
    for statement in plan.change.apply(ledger, allow_loss=True).statements[1:]:
        print(statement, flush=True)

    subprocess.run([sys.executable, "new/fleets.py", "--play", "long.fleet"], check=True)
    start = kl.first_start(new, ledger=ledger)
    print(f"started: {start.started}, missing: {start.missing or 'nothing'}")
    assert plan.bundle is not None
    later = kl.set_in_bundle(new, plan.bundle, ledger=ledger, save="long")
    later.change.apply(ledger, allow_loss=True)
    waits = later.bundle.waiting if later.bundle is not None else {}
    print(f"Set in later: {later.forecast.moved}; still waiting: {waits}", flush=True)
    subprocess.run([sys.executable, "new/fleets.py"], check=True)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else scratch)
