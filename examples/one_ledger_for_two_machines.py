"""Two machines keep one encrypted ledger on a share; then it is thinned, and a second copy made.

    python examples/one_ledger_for_two_machines.py [FOLDER]

Plays in a made-up install in FOLDER, or in a temporary one. A server would be
kl.connect("sftp://rented.example/home/ferry/ledger") instead of the share. Needs the package
cryptography.
"""

from __future__ import annotations

import os
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area


def main(folder: str) -> None:
    """Tell the story in `folder`."""
    build_play_area(folder)
    card = kl.Card.load(os.path.join(folder, "mossferry.card.toml"))
    install = card.open(os.path.join(folder, "mossferry"))
    share = f"file://{folder}/share/ledger"
    kl.Ledger.create_encrypted(kl.connect(share), "reeds by the jetty")

    def machine(name: str) -> kl.Ledger:
        near = os.path.join(folder, f"near-{name}")
        return kl.Ledger.open(
            kl.connect(share), local_cache=near, passphrase=lambda: "reeds by the jetty"
        )

    desktop, laptop = machine("desktop"), machine("laptop")
    for note in ("on Monday", "on Tuesday", "on Wednesday"):
        with open(os.path.join(folder, "mossferry", "userdata", "diary.txt"), "a") as file:
            file.write(f"{note} the fog came early\n")
        desktop.backup(install, note=note)

    laptop.storage.refresh()
    print(f"The laptop sees {len(laptop.entries())} entries and reads the newest:")
    newest = laptop.entry("latest")
    copy = kl.FolderPlace(os.path.join(folder, "on-the-laptop"))
    os.mkdir(copy.root)
    kl.restore(newest, copy, ledger=laptop).apply(laptop)
    print(f"{newest.files} files, {newest.note}.")

    plan = kl.plan_retirement(laptop, kl.RetentionPolicy(last=2))
    print(plan.books)
    done = plan.carry_out(laptop)
    print(f"{len(plan.going)} entry retired, {done.space.size_bytes:,} bytes given back.")

    second = kl.Ledger.open(os.path.join(folder, "second-copy"))
    print(f"A second copy has {kl.mirror(laptop, second).entries} entries.")
    found = kl.verify(laptop)
    print("Every byte is as it was written." if not found.findings else found.findings)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
