"""Run one command of the command line with a folder as a simulated card, pulled out at the Nth change.

pulled.py FOLDER N ARG...      N = 0: it stays, and how many changes were made to it is printed
"""

from __future__ import annotations

import sys

from kindred_ledger.cli.main import main
from kindred_ledger.demo.handheld import simulated_card


def run() -> int:
    with simulated_card(sys.argv[1], pulled_at=int(sys.argv[2])) as card:
        status = main(sys.argv[3:])
    print(f"\nchanges: {card.changes}", file=sys.stderr)
    return status


if __name__ == "__main__":
    sys.exit(run())
