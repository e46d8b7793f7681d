"""MigrationConsents: what a person agreed to when a migration began, or while it went on."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct

from ..finding import Finding
from ..places import Patterns

__all__ = ["MigrationConsents", "covers", "unallowed"]


class MigrationConsents(Struct, frozen=True):
    """What a person agreed to: losses by code (`CODE[:PATTERN]`), or all but those that are one-way.

    `done` are names of steps that they say they did, `skip` of those that shall be passed over.

    >>> kl.MigrationConsents(("dropped:user/saves/",)).allow_loss
    False
    """

    allow: tuple[str, ...] = ()
    allow_loss: bool = False
    while_running: bool = False
    done: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()


def covers(text: str, loss: Finding) -> bool:
    """Tell whether a consent, `CODE` or `CODE:PATTERN`, covers a loss."""
    code, _, pattern = text.partition(":")
    return loss.code == code and (not pattern or Patterns((pattern,))(loss.where))


def unallowed(losses: Iterable[Finding], consents: MigrationConsents) -> tuple[Finding, ...]:
    """Return the losses that nobody agreed to; those that are one-way need their name."""
    left = [loss for loss in losses if not any(covers(text, loss) for text in consents.allow)]
    return tuple(loss for loss in left if loss.one_way or not consents.allow_loss)
