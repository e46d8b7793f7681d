"""Go on with a migration, and die by SIGKILL at the Nth change to the disk.

    killed_step.py N FOLDER WHICH

N = 0: live, and print at the end of each step how many changes were made. What was begun goes on; else it
is begun. The points are found by an audit hook, from outside: the program itself knows nothing of it.
"""

from __future__ import annotations

import sys

from kindred_ledger.ledger.migrations import begun_migrations
from kindred_ledger.migrate import Migration, StepResult, run_migration
from tests.changes.killed import die_at
from tests.migrate.support import FENS, MOSSFERRY, begun, context_of, person


def run() -> int:
    last, folder = int(sys.argv[1]), sys.argv[2]
    which = {"mossferry": MOSSFERRY, "fens": FENS}[sys.argv[3]]

    def watch(result: StepResult) -> None:
        print(f"{count()} {result.state} {result.step}", flush=True)

    with context_of(folder, which[3]) as context:
        known = begun_migrations(context.ledger)
        count = die_at(last)
        migration = Migration(known[-1], context.ledger) if known else begun(folder, which, context)
        done = run_migration(migration, context, person=person(migration), watch=watch)
    return 0 if done.status.ended == "done" else 1


if __name__ == "__main__":
    sys.exit(run())
