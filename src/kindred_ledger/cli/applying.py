"""Applying a changeset from the command line: show, ask, do, tell."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence

import click

from ..changes import Changeset
from ..changes.consent import check_consent, check_running, not_allowed, running_from
from ..errors import DecisionNeeded, LossNotAllowed, UsageError
from ..finding import Finding
from ..statement import lines_named
from ..suggestions import path_meant
from .preview import draw_done, draw_preview
from .session import Session

__all__ = ["agreed", "carry_out"]

_DECISION_NEEDED = 3


def carry_out(
    session: Session,
    change: Changeset,
    *,
    dry_run: bool,
    yes: bool,
    allow_loss: bool,
    allow: tuple[str, ...],
    while_running: bool,
    lines: bool,
    books: bool,
    field: tuple[str, ...] = (),
    decided: Callable[[Changeset], Changeset | None] | None = None,
) -> int:
    """Show what a changeset would do, ask, apply it, and draw or print the books.

    Nobody at a terminal and no --yes is a decision that is missing: status 3, nothing written.
    `field` are patterns of names; lines of others are not shown. `decided` asks about conflicts, and returns
    the change with what was decided; None if nothing was.
    """
    _check_fields(change, field)
    which = lines_named(field) if field else (lambda line: True) if lines else None
    if not session.json:
        running = running_from(change) if dry_run or while_running else ()
        # Where nobody is asked, the books are drawn once: counted, after the change.
        balance = dry_run or not yes
        draw_preview(
            session.out, change, running=running, lines=which, books=books, balance=balance
        )
    if dry_run:
        status = _DECISION_NEEDED if change.conflicts else 0
        if session.json:
            programs = [str(program) for program in running_from(change)]
            plan = change.to_json(lines=which or False)
            return session.emit(status, dry_run=True, change=plan, running=programs)
        session.out.print("\nThis was a dry run; nothing was written.", style="dim")
        return status
    if not (change.actions or change.conflicts or change.keep_whole):
        return (
            session.emit(change=change.to_json(lines=which or False), applied=None)
            if session.json
            else 0
        )
    if change.conflicts and not session.json and not yes and decided is not None:
        again = decided(change)
        if again is not None:
            return carry_out(
                session, again, dry_run=dry_run, yes=yes, allow_loss=allow_loss, allow=allow,
                while_running=while_running, lines=lines, books=books, field=field, decided=decided,
            )  # fmt: skip
    if change.conflicts and not session.json:  # they stand above
        about = len({finding.where for finding in change.conflicts})
        told = "1 file needs" if about == 1 else f"{about} files need"
        session.err.print(
            f"✗ {told} your decision, see above; nothing was written", style="bold red"
        )
        return _DECISION_NEEDED
    if not while_running:
        check_running(change)  # before anybody is asked anything
    allowed = allow_loss or allow
    lost = not_allowed(change.losses, allowed) if allow else change.losses * (not allow_loss)
    consent = allowed if allowed and not lost else _ask(session, change, lost, yes)
    if lost and not (consent or change.conflicts or session.json):
        codes = ", ".join(dict.fromkeys(finding.code for finding in lost))
        raise LossNotAllowed(
            "these losses need --allow-loss; nothing was written",
            remedy=f"Allow all with --allow-loss, or by kind with --allow: {codes}. What is there now is kept"
            " in the ledger either way.",
            findings=tuple(lost),
        )
    check_consent(change, allow_loss=consent)
    plan = change.to_json(lines=which or False) if session.json else {}
    done = change.apply(
        session.ledger,
        allow_loss=consent,
        while_running=while_running,
        progress=session.progress,
    )
    if session.json:
        return session.emit(change=plan, applied=done.to_json(lines=which or False))
    draw_done(session.out, done, change)
    return 0


def _ask(session: Session, change: Changeset, lost: Sequence[Finding], yes: bool) -> bool:
    """Ask for what is missing; return whether losses are consented to."""
    if change.conflicts or (yes and not lost):
        return False
    if yes and not sys.stdin.isatty():
        return False  # losses are never covered by --yes
    question = "Go ahead, and allow these losses?" if lost else "Go ahead?"
    agreed(yes=False, where=change.place.location, question=question)
    return bool(lost)


def agreed(*, yes: bool, where: str, question: str = "Go ahead?") -> None:
    """Ask whether to go ahead, unless `yes`; return if so.

    Raises:
        DecisionNeeded: nobody is at a terminal to be asked.
        click.Abort: no.
    """
    if yes:
        return
    if not sys.stdin.isatty():
        raise DecisionNeeded(
            "there is no terminal to ask on; nothing was written",
            where=where,
            remedy="Use --yes to go ahead, or --dry-run to look only.",
        )
    if not click.confirm(f"\n{question}", default=False, err=True):
        raise click.Abort


def _check_fields(change: Changeset, patterns: tuple[str, ...]) -> None:
    """Raise for a pattern of --field that fits no line of the books."""
    books = (change.preview(every=True), *change.statements) if patterns else ()
    for pattern in patterns:
        fits = lines_named((pattern,))
        if not any(fits(line) for one in books for line in one.lines):
            known = (line.item for one in books for line in one.lines)
            raise UsageError(
                f"no file or field here fits {pattern!r}", remedy=path_meant(pattern, known)
            )
