"""Edit one value inside four kinds of files, and nothing else.

    python examples/edit_inside_files.py [FOLDER]

A person moves the landing stage of a route from Eelgate to Gannet Landing, on a server whose tables are
XML, and pays the captain of a binary voyage. The comments in their own controls stay as they were.
"""

from __future__ import annotations

import os
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area
from kindred_ledger.formats import field_differences


def main(folder: str) -> None:
    """Build a play area in a folder, edit files of it in memory, and say which fields differ."""
    build_play_area(folder)
    card = kl.Card.load(os.path.join(folder, "mossferry.card.toml"))
    edits = (
        ("server/tables.xml", ("route", 0, "stop", 2, "@quay"), "Gannet Landing"),
        ("server/voyages/long-haul.mfsv", ("coins",), 100_000),
        ("mossferry/userdata/controls.json", ("keys", "moor"), "Q"),
        ("mossferry/userdata/settings.ini", ("Sound", "Volume"), 40),
    )
    for name, path, value in edits:
        with open(os.path.join(folder, *name.split("/")), "rb") as file:
            data = file.read()
        found = kl.identify(name, data, [card]).matches[0]
        document = card.formats[found.format].decode(data)
        document.set(path, value)
        after = card.formats[found.format].decode(document.encode())
        differing = field_differences(card.formats[found.format].decode(data), after)
        told = ", ".join(f"{each.name} was {each.before}, is {each.after}" for each in differing)
        print(f"{name} ({found.format} {found.version}): {told}")
    print("Everything else is as it was.")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else scratch)
