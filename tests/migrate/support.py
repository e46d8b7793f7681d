"""What the tests of migrations share: two that go through whole, and who plays the person in them."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from typing import Any

from msgspec.structs import replace

from kindred_ledger.cards import Card
from kindred_ledger.ledger import Ledger
from kindred_ledger.migrate import (
    Migration,
    MigrationChoice,
    MigrationConsents,
    Runbook,
    StepResult,
    choose_migration,
)
from kindred_ledger.migrate.steps import Check, RunbookStep
from kindred_ledger.planning.context import Context

# The install, the release, what is named as the old one, and the card, in the play area.
MOSSFERRY = ("mossferry", "downloads/mossferry-2.0.zip", "downloads/mossferry-1.4.zip", "mossferry")
FENS = ("fens/game", "fens/releases/fens-2.0.zip", "", "fens/fens")
ALLOWED = MigrationConsents(("content-removed", "content-replaced"), allow_loss=True)


def context_of(folder: str, card: str, ledger: str = "ledger") -> Context:
    """Return what a migration in a play area is done in; its ledger lies there, too."""
    return Context(
        Ledger.open(os.path.join(folder, ledger)),
        cards=[Card.load(os.path.join(folder, f"{card}.card.toml"))],
    )


def chosen(
    folder: str, which: tuple[str, str, str, str], context: Context
) -> tuple[MigrationChoice, str]:
    """Return the choice of one of the migrations, and the old release."""
    install, release, old, _ = which
    at = os.path.join(folder, *release.split("/"))
    choice = choose_migration(context, os.path.join(folder, *install.split("/")), at)
    return choice, os.path.join(folder, *old.split("/")) if old else ""


def begun(
    folder: str,
    which: tuple[str, str, str, str],
    context: Context,
    change: Callable[[Runbook], Runbook] = lambda runbook: runbook,
) -> Migration:
    """Begin one of the migrations, with its runbook changed."""
    choice, old = chosen(folder, which, context)
    return Migration.begin(
        choice.install,
        choice.release,
        choice.to,
        change(choice.runbook),
        context=context,
        old=old,
        consents=ALLOWED,
    )


def person(migration: Migration) -> Callable[[StepResult], bool]:
    """Return who does what a migration waits for: plays the game, signs off."""

    def act(result: StepResult) -> bool:
        step = migration.runbook.step(result.step)
        if step.kind == "sign off":
            migration.sign(step.parts, by="Ada")  # type: ignore[attr-defined]
            return True
        play(migration.begun.install)
        return True

    return act


def play(game: str) -> None:
    """Let the simulated server of the fens run once."""
    subprocess.run(
        [sys.executable, os.path.join(game, "fens.py"), "--play"], check=True, capture_output=True
    )


def with_bad_check(number: int) -> Callable[[Runbook], Runbook]:
    """Return what puts a check that never holds behind so many steps of a runbook."""
    rows: Any = [
        {"file": "/program/*.json", "codec": "json", "key": "build", "value": "none"},
    ]
    from msgspec import convert

    bad = convert({"do": "check", "name": "bad", "that": [], "holds": rows}, Check)

    def change(runbook: Runbook) -> Runbook:
        steps: list[RunbookStep] = list(runbook.steps)
        return replace(runbook, steps=(*steps[:number], bad, *steps[number:]))

    return change
