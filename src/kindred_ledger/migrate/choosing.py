"""What a migration is to be: of which install, to which release and build, by which runbook."""

from __future__ import annotations

from msgspec import Struct

from ..cards import PROGRAM, Card, Install
from ..errors import DecisionNeeded, UsageError, VersionError
from ..finding import Finding
from ..ledger import STABLE, Ledger, Release, ReleasePlace
from ..ledger.migrations import unfinished_migrations
from ..places import roots_of
from ..planning.context import Context
from ..versions import Version
from .runbook import Runbook, choose_runbook
from .usual import USUAL, guarded, usual_runbook

__all__ = [
    "AlreadyThere",
    "MigrationChoice",
    "check_none_under_way",
    "choose_migration",
    "is_build",
]


class AlreadyThere(UsageError):
    """An install is of the build already that it shall be brought to."""


def check_none_under_way(ledger: Ledger, install: Install) -> None:
    """Refuse to begin a second migration of an install.

    Raises:
        DecisionNeeded: one is under way.
    """
    program = roots_of(install.place)[PROGRAM]
    for other in unfinished_migrations(ledger):
        if other.install == program:
            raise DecisionNeeded(
                f"its migration to {other.to} is not finished",
                where=program,
                remedy="Go on with it: kindred migrate --resume\n"
                "Or take it back: kindred migrate --back",
            )


class MigrationChoice(Struct, frozen=True):
    """An install, the release it shall be brought to, the build of that, and the runbook.

    `is_preview`: the release is of no stable channel, or its version says so.

    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     choice = kl.choose_migration(context, "mossferry", "downloads/mossferry-2.0.zip")
    ...     choice.to, choice.is_preview
    ...
    ('2.0', False)
    """

    install: Install
    release: str
    to: str
    runbook: Runbook
    is_preview: bool = False
    findings: tuple[Finding, ...] = ()


def choose_migration(
    context: Context, install: str, release: str, *, runbook: str = ""
) -> MigrationChoice:
    """Open what is named, and choose the runbook: the card's for these builds, else the usual order.

    Raises:
        UsageError: there is no such install, release or runbook; or it is of that build (`AlreadyThere`).
        DecisionNeeded: a migration of it is under way; a build is not certain; or the card has runbooks, none
            for these builds, and none was named.

    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     choice = kl.choose_migration(context, "mossferry", "downloads/mossferry-2.0.zip")
    ...
    >>> choice.to, choice.runbook.name
    ('2.0', '')
    """
    place = context.release(release)
    shelved = place.release if isinstance(place, ReleasePlace) else None
    opened = context.install(install, title=shelved.title if shelved is not None else "")
    check_none_under_way(context.ledger, opened)
    source = opened.sure_version
    to = opened.card.open_release(place).sure_version
    if source == to:
        raise AlreadyThere(
            f"this {opened.card.name} is {to} already",
            where=opened.place.location,
            remedy="To mend its files from the release: kindred update INSTALL RELEASE",
        )
    preview = _is_preview(to, shelved, opened.card, context.ledger)
    found: tuple[Runbook | None, tuple[Finding, ...]] = (None, ())
    if runbook != USUAL:
        found = choose_runbook(opened.card, source, to, runbook)
    chosen = found[0] or usual_runbook(opened, to)
    chosen = guarded(chosen, to) if preview else chosen
    return MigrationChoice(opened, release, to.text, chosen, preview, found[1])


def _is_preview(to: Version, shelved: Release | None, card: Card, ledger: Ledger) -> bool:
    """Tell whether a release may be one; of a file, from what the shelf knows of the same build."""
    if to.is_early:
        return True
    if shelved is not None:
        return shelved.label.channel != STABLE
    known = {
        release.label.channel
        for release in ledger.shelf.releases(card.title)
        if is_build(release.version, to, card)
    }
    return bool(known) and STABLE not in known


def is_build(text: str, build: Version, card: Card) -> bool:
    """Tell whether what an entry or a release was tagged with is a build."""
    try:
        return card.build(text) == build
    except VersionError:  # none, or stored when the card counted otherwise
        return False
