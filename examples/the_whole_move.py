"""The whole move of an install from 1.4 to 2.0: planned, rehearsed, done, signed off, and taken back as one.

    python examples/the_whole_move.py [FOLDER]

What only a person can do is done here by a function: it starts the game, looks whether everything loads, and
signs each part off.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Build a play area in a folder, and move its install to 2.0."""
    build_play_area(folder)
    os.chdir(folder)
    card = kl.Card.load("mossferry.card.toml")
    with kl.Context(kl.Ledger.open("ledger"), cards=[card]) as context:
        choice = kl.choose_migration(context, "mossferry", "downloads/mossferry-2.0.zip")
        asked = (choice.install, choice.release, choice.to, choice.runbook)
        old = "downloads/mossferry-1.4.zip"
        plan = kl.plan_migration(*asked, context=context, old=old)
        for step in plan.steps:
            print(f"{step.name:<9} {step.told} ({step.files} files, {len(step.losses)} losses)")

        consents = kl.MigrationConsents(allow=("dropped",))
        rehearsed = kl.rehearse(*asked, context=context, old=old, consents=consents)
        print(
            f"A rehearsal ends {rehearsed.status.ended}; here is still {card.open('mossferry').version}"
        )

        migration = kl.Migration.begin(*asked, context=context, old=old, consents=consents)

        def person(result: kl.StepResult) -> bool:
            print(f"{result.step}: {result.asks}", flush=True)
            game = [sys.executable, os.path.join("mossferry", "mossferry.py")]
            if subprocess.run(game, check=False).returncode:
                return False
            migration.sign(["it starts", "saves", "settings", "mods"], by="Ada")
            return True

        run = kl.run_migration(migration, context, person=person)
        print(f"{run.status.ended}: {card.open('mossferry').version}")
        returned = migration.go_back(context)
        print(f"{len(returned.applied)} changes taken back: {card.open('mossferry').version}")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else scratch)
