"""Consent: what a person allows a change to lose, by the kind of loss and by the place."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ..errors import DecisionNeeded, LossNotAllowed, UsageError
from ..finding import Finding
from ..places import Patterns, Running, roots_of, running_in
from ..suggestions import path_meant
from ..wording import count
from .plan import Plan

__all__ = ["check_consent", "check_running", "not_allowed", "running_from"]

_MOST_LISTED = 20
_EXAMPLES = 5


def check_consent(plan: Plan, *, allow_loss: bool | Sequence[str]) -> None:
    """Raise if something must be decided before a change is made.

    Raises:
        DecisionNeeded: there are conflicts.
        LossNotAllowed: something would be lost that `allow_loss` does not cover.
        UsageError: `allow_loss` names what the change does not lose.
    """
    conflicts = plan.conflicts
    if conflicts:
        about = len({finding.where for finding in conflicts})
        raise DecisionNeeded(
            "1 file needs your decision" if about == 1 else f"{about} files need your decision",
            where=plan.place.location,
            choices=tuple(map(str, conflicts[:_MOST_LISTED])),
            remedy="\n".join(dict.fromkeys(finding.remedy for finding in conflicts)),
            findings=conflicts,
        )
    lost = not_allowed(plan.losses, allow_loss)
    if lost:
        listed = "\n".join(f"  {finding}" for finding in lost[:_MOST_LISTED])
        codes = ", ".join(dict.fromkeys(finding.code for finding in lost))
        raise LossNotAllowed(
            f"{plan.operation} would lose {count(len(lost), 'item')}",
            where=plan.place.location,
            remedy=f"{listed}\nAllow it with `allow_loss=True`, or by kind with `allow=CODE`: {codes}."
            " What is there now is kept either way.",
            findings=tuple(lost),
        )


def running_from(plan: Plan) -> list[Running]:
    """Return the programs that run from the place or have files of it open, as of now."""
    return running_in(roots_of(plan.place).values()) if plan.actions else []


def check_running(plan: Plan) -> None:
    """Raise `DecisionNeeded` if a program runs from the place or has files of it open."""
    running = running_from(plan)
    if running:
        raise DecisionNeeded(
            "this is in use",
            where=plan.place.location,
            choices=tuple(str(program) for program in running),
            remedy="Close it, then run this again, or go ahead with `while_running=True`.",
        )


def not_allowed(losses: Sequence[Finding], allow_loss: bool | Sequence[str]) -> list[Finding]:
    """Return the losses that nobody consented to; see `Changeset.apply`.

    Raises:
        UsageError: a consent fits none of the losses.
    """
    if isinstance(allow_loss, bool):
        return [] if allow_loss else list(losses)
    covers = {text: _covers(text) for text in allow_loss}
    for text, fits in covers.items():
        if not any(map(fits, losses)):
            code = text.partition(":")[0]
            there = dict.fromkeys(loss.where for loss in losses if loss.code == code)
            some = list(there or dict.fromkeys(loss.code for loss in losses))[:_EXAMPLES]
            meant = "" if there else path_meant(code, [loss.code for loss in losses])
            lost = f"What would be lost: {', '.join(some) or 'nothing'}."
            raise UsageError(
                f"nothing would be lost that {text!r} names",
                remedy=" ".join(filter(None, (meant, lost))),
            )
    return [loss for loss in losses if not any(fits(loss) for fits in covers.values())]


def _covers(text: str) -> Callable[[Finding], bool]:
    """Return what tells whether a consent, `CODE` or `CODE:PATTERN`, covers a loss."""
    code, _, pattern = text.partition(":")
    fits = Patterns((pattern,)) if pattern else None

    def covers(loss: Finding) -> bool:
        return loss.code == code and (fits is None or fits(loss.where))

    return covers
