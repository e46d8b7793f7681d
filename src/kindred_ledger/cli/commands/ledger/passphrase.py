"""kindred ledger passphrase"""

from __future__ import annotations

import os
import sys

import click

from ....errors import DecisionNeeded, NoLedger
from ....ledger import Ledger
from ...options import storing
from ...session import Session


@click.command()
@storing
def command(session: Session) -> int:
    """Make an encrypted ledger where there is none, or change the passphrase of one.

    Without the passphrase nobody can read it, and nobody can recover the passphrase. The new one is asked
    for, or taken from KINDRED_NEW_PASSPHRASE.

    \b
    Example, in the demo's folder:
      kindred ledger passphrase --ledger second-disk/hidden
    """
    where = session.ledger_where
    at = session.remote(where) if "://" in where else where
    ledger: Ledger | None
    try:
        ledger = Ledger.open(at, create=False, passphrase=session.passphrase)
    except NoLedger:
        ledger = None
    new = _new_passphrase(where)
    if ledger is None:
        Ledger.create_encrypted(at, new)
    else:
        ledger.change_passphrase(new)
    done = "made" if ledger is None else "changed"
    if session.json:
        return session.emit(ledger=where, done=done)
    what = "An encrypted ledger was made" if ledger is None else "The passphrase was changed"
    session.out.print(f"{what}: {where}")
    session.out.print("Write the passphrase down: nobody can recover it.", style="dim")
    return 0


def _new_passphrase(where: str) -> str:
    known = os.environ.get("KINDRED_NEW_PASSPHRASE", "")
    if known:
        return known
    if not sys.stdin.isatty():
        raise DecisionNeeded(
            "there is no terminal to ask for a new passphrase on",
            where=where,
            remedy="Give it in KINDRED_NEW_PASSPHRASE, or run this in a terminal.",
        )
    text = "New passphrase"
    return str(click.prompt(text, hide_input=True, confirmation_prompt=True, err=True))
