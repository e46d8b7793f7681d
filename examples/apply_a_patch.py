"""Make a patch set for two revisions of a file, and apply it: to the right one only.

    python examples/apply_a_patch.py [FOLDER]

A chart of the harbours was handed out twice; the new one shall reach those who have either. What a
file is, is told by its digest, and an edited one is recognised as what it is near to.
"""

from __future__ import annotations

import os
import random
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.patches import Base, Output
from kindred_ledger.places import FilePlace


def main(folder: str) -> None:
    """Make some charts in a folder, a patch set for them, and apply it."""
    os.makedirs(folder)
    rng = random.Random(3)
    first = rng.randbytes(200_000)
    second = first[:90_000] + b"second printing" + first[90_010:]
    newest = second[:150_000] + rng.randbytes(3_000) + second[150_000:]
    charts = {"first.chart": first, "second.chart": second, "newest.chart": newest}
    for name, data in charts.items():
        with open(os.path.join(folder, name), "wb") as file:
            file.write(data)
    made = kl.make_patch_set(
        {
            Base(name): FilePlace(os.path.join(folder, name))
            for name in ("first.chart", "second.chart")
        },
        {Output("newest"): FilePlace(os.path.join(folder, "newest.chart"))},
        notes="The water rose.",
    )
    path = os.path.join(folder, "charts.patches.zip")
    with open(path, "wb") as file:
        kl.write_patch_set(file, *made)
    print(f"charts of {len(newest):,} bytes, a patch set of {os.path.getsize(path):,}")

    patches = kl.PatchSet.open(path)
    mine = kl.FolderPlace(folder)
    ledger = kl.Ledger.open(os.path.join(folder, "..", "ledger"))
    change = kl.apply_patch(patches, mine, ledger=ledger, name="first.chart")
    print(change.summary, "-", *change.notes)
    done = change.apply(ledger)
    print("it is", kl.identify_base(patches, mine, ledger.scan(mine), "first.chart").outputs, "now")
    kl.undo(done, ledger=ledger).apply(ledger)
    with open(os.path.join(folder, "second.chart"), "r+b") as file:
        file.write(b"my own notes")
    told = kl.identify_base(patches, mine, ledger.scan(mine), "second.chart")
    print(f"an edited one is near to {told.near}: {told.share:.1%} of it is the same")


if __name__ == "__main__":
    if len(sys.argv) > 1:
        main(sys.argv[1])
    else:
        with tempfile.TemporaryDirectory() as scratch:
            main(os.path.join(scratch, "charts"))
