"""kindred card learn"""

from __future__ import annotations

import click

from ....ledger import EntryPlace
from ....migrate import learn_move
from ....places import refusals, write_atomic
from ... import drawing
from ...meanings import value
from ...options import entry_argument, placing, session
from ...session import Session, refuse_taken


@click.command()
@entry_argument("before")
@click.argument("install")
@value("--old")
@value("--target", "release")
@value("--out")
@placing
@session
def command(
    session: Session, *, before: str, install: str, old: str, release: str, out: str
) -> int:
    """Draft a runbook from a move that you did by hand: from entry BEFORE to INSTALL as it is now.

    It says which files came with the release, which of yours stayed, which edits gave way, and which files
    were converted. With the releases before and after (--old, --target) edits are told from shipped files.
    What nobody can tell is named. --out writes the draft; read it, and put it into the card.

    \b
    Example, in the demo's folder:
      kindred card learn mossferry@1.4 mossferry --out learnt.toml
    """
    if out:
        refuse_taken(out)
    ledger, context = session.ledger, session.context
    entry = ledger.place(ledger.entry(before))
    assert isinstance(entry, EntryPlace)
    learned = learn_move(
        entry,
        context.install(install, title=entry.tag.title),
        ledger=ledger,
        old=context.release(old) if old else None,
        release=context.release(release) if release else None,
        progress=session.progress,
    )
    text = learned.to_toml()
    if out:
        with refusals(out):
            write_atomic(out, text.encode())
    if session.json:
        return session.emit(
            source=learned.source, to=learned.to, runbook=learned.runbook().to_json(), written=out,
            files={name: list(getattr(learned, name)) for name in _FATES},
            converted={what: list(some) for what, some in learned.converted.items()},
            moved=dict(learned.moved),
        )  # fmt: skip
    head = f"From {learned.source} to {learned.to}, as it was done"
    drawing.heading(session.out, head, drawing.short(install))
    session.out.print()
    session.out.print(text)
    if out:
        session.out.print(f"Wrote {out}. Read it, and put it into the card.")
    return 0


_FATES = ("updated", "kept", "own", "overwritten", "reverted", "removed", "left_over", "untold")
