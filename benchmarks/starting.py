"""How long `kindred --help` and a small command take beside a bare interpreter.

python -m benchmarks.starting [--rounds 20] [--json FILE]
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile

from benchmarks.measure import compare, report


def main() -> int:
    """Measure, print the table, and return 0."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=20)
    parser.add_argument("--json", default="", help="write the figures to this file")
    options = parser.parse_args()
    kindred = [sys.executable, "-m", "kindred_ledger.cli.main"]
    bare = {"python3 -c pass": [sys.executable, "-c", "pass"]}
    with tempfile.TemporaryDirectory() as folder:
        ledger = ["--ledger", os.path.join(folder, "ledger")]
        found = [
            *compare("kindred --help", [*kindred, "--help"], bare, rounds=options.rounds),
            *compare(
                "kindred entries", [*kindred, "entries", *ledger], bare, rounds=options.rounds
            ),
        ]
    report("starting", found, {"rounds": options.rounds}, options.json)
    return 0


if __name__ == "__main__":
    sys.exit(main())
