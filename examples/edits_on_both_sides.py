"""You edited a file of Mossferry, and 2.0 changes it, too: what is clean comes together, the rest is asked.

    python examples/edits_on_both_sides.py [FOLDER]

Plays in a made-up install in FOLDER, or in a temporary one.
"""

from __future__ import annotations

import os
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area

HARBOURS = "data/harbours.json"


def main(folder: str) -> None:
    """Tell the story in `folder`."""
    build_play_area(folder)
    program = os.path.join(folder, "mossferry")
    downloads = os.path.join(folder, "downloads")
    card = kl.Card.load(os.path.join(folder, "mossferry.card.toml"))
    ledger = kl.Ledger.open(os.path.join(folder, "ledger"))

    def update() -> kl.Changeset:
        return kl.update(
            card.open(program),
            kl.open_place(os.path.join(downloads, "mossferry-2.0.zip")),
            old=kl.open_place(os.path.join(downloads, "mossferry-1.4.zip")),
            ledger=ledger,
        )

    # 2.0 adds two harbours; you give one of the others another name.
    edit(program, '"Eelgate"', '"Eelgate by the Mill"')
    change = update()
    print(f"questions: {len(change.conflicts)}")
    for statement in change.statements:
        if statement.subject.endswith(HARBOURS):
            print(statement)
            for line in statement.lines:
                if line.reason:
                    print(f"  {line.outcome}: {line.item}: {line.reason}")
    done = change.apply(ledger)
    names = [harbour["name"] for harbour in kl.decode(read(program), "json").get(())]
    print(f"after the update: {', '.join(names[4:])}")
    kl.undo(done, ledger=ledger).apply(ledger)
    print(f"after the undo, your edit is there: {b'Eelgate by the Mill' in read(program)}")

    # A harbour of your own under the number that 2.0 gives to another one: nobody can decide that for you.
    edit(program, "\n]", ',\n  {\n    "id": 7,\n    "name": "Otter Pool"\n  }\n]')
    for conflict in update().conflicts:
        print(conflict)


def read(program: str) -> bytes:
    """Return the file of harbours."""
    with open(os.path.join(program, *HARBOURS.split("/")), "rb") as file:
        return file.read()


def edit(program: str, old: str, new: str) -> None:
    """Change some text of it, as with an editor."""
    data = read(program).replace(old.encode(), new.encode())
    with open(os.path.join(program, *HARBOURS.split("/")), "wb") as file:
        file.write(data)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
