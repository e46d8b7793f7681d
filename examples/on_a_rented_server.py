"""A rented server over a line that is none of the best: look, keep, edit, send, and go back.

    python examples/on_a_rented_server.py [FOLDER]

Plays with the simulated server (FTP over TLS, on this machine) in FOLDER, or in a temporary one.
Needs: pip install 'kindred-ledger[demo]'
"""

from __future__ import annotations

import os
import sys
import tempfile

import kindred_ledger as kl
from kindred_ledger.demo.play_area import build_play_area
from kindred_ledger.demo.rented_server import rented_server


def main(folder: str) -> None:
    """Tell the story in `folder`."""
    build_play_area(folder)
    served = os.path.join(folder, "server")
    with rented_server(served, folder) as (url, login):
        # Undoing and recovering open places by their URL: this says with what to log in.
        ledger = kl.Ledger.open(
            os.path.join(folder, "ledger"), connect=lambda at: kl.connect(at, login)
        )
        server = kl.RemotePlace(kl.connect(url, login))
        kept = ledger.backup(server, tag=kl.Tag("mossferry", "2.0", "what you said"))
        print(f"kept {kept.files} files of the server, as {kept.name}")

        work = kl.open_place(_made(folder, "work"))
        kl.restore(kept, work, ledger=ledger).apply(ledger)
        tables = os.path.join(folder, "work", "tables.xml")
        with open(tables, encoding="utf-8") as file:
            text = file.read()
        with open(tables, "w", encoding="utf-8", newline="") as file:
            file.write(text.replace('slots="12"', 'slots="16"'))
        # Meanwhile people sail there, and the server writes one of its worlds.
        with open(os.path.join(served, "worlds", "northbog.bog"), "ab") as file:
            file.write(b"an evening more")

        change = kl.carry_files(work, server, ledger=ledger)
        for action in change.actions:
            print(f"to be sent: {action.path} ({action.reason})")
        done = change.apply(ledger)
        print(done.statements[0])
        differing = kl.compare(work, server, ledger=ledger).differences
        print(f"different now: {', '.join(d.path for d in differing)}")

        kl.undo(done.record.id, ledger=ledger).apply(ledger)
        with open(os.path.join(served, "tables.xml"), encoding="utf-8") as file:
            print(f"taken back: {file.read() == text}")


def _made(folder: str, name: str) -> str:
    path = os.path.join(folder, name)
    os.mkdir(path)
    return path


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(sys.argv[1] if len(sys.argv) > 1 else os.path.join(scratch, "play"))
