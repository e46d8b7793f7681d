"""kindred shelf fetch"""

from __future__ import annotations

import os

import click

from ....errors import UsageError
from ....releases import (
    Arrival,
    ChosenRelease,
    RetryPolicy,
    Source,
    State,
    check_arrivals,
    choose_release,
    parts_with,
    read_index,
    shelve_from,
    source_at,
)
from ... import drawing
from ...meanings import flag, many, value
from ...options import storing
from ...session import Session
from ...shelved import chosen, draw_choice, labelled, plain_part, tell


@click.command()
@click.argument("wanted", default="", metavar="[TITLE@]WANTED")
@value("--index", required=True)
@flag("--digests")
@value("--into")
@many("--holding")
@value("--by-hand")
@value("--timeout", default=15.0)
@value("--card")
@labelled
@storing
def command(
    session: Session,
    *,
    wanted: str,
    index: str,
    digests: bool,
    into: str,
    holding: tuple[str, ...],
    by_hand: str,
    timeout: float,
    channel: str,
    platform: str,
    variant: str,
) -> int:
    """Download a release from a release index, check it and put it on the shelf.

    WANTED is a version, a date, or OLDER..NEWER for a build without a version that came between the two;
    the newest stable release if nothing is said. An interrupted download continues where it stopped.

    \b
    Example, in the demo's folder:
      kindred shelf fetch 2.0 --index downloads/releases.json
    """
    if holding and not (into or by_hand):
        raise UsageError("single parts are no release", remedy="Say --into FOLDER to have them.")
    source = source_at(index)
    found = read_index(source.name, source.read)
    title, at, text = wanted.rpartition("@")
    if at and title != found.title:
        raise UsageError(f"this index is of {found.title}, not of {title}", where=index)
    card = session.context.card_of(found.title)
    choice = choose_release(
        found, text, parse=card.build, channel=channel, platform=platform, variant=variant
    )
    if by_hand:
        arrivals = check_arrivals(parts_with(choice.release, holding), by_hand)
        return _tell_arrivals(session, choice, arrivals, source)
    patience = RetryPolicy(quiet=timeout)
    if into:
        return _fetch_only(session, choice, source, into, holding, patience)
    done = shelve_from(
        source,
        choice.release,
        card,
        ledger=session.ledger,
        digests_only=digests,
        patience=patience,
        progress=session.progress,
    )
    return tell(session, done, choice)


def _fetch_only(
    session: Session,
    choice: ChosenRelease,
    source: Source,
    into: str,
    holding: tuple[str, ...],
    patience: RetryPolicy,
) -> int:
    paths = [
        source.fetch(part, into, patience=patience, progress=session.progress)
        for part in parts_with(choice.release, holding)
    ]
    if session.json:
        return session.emit(fetched=paths, **chosen(choice))
    draw_choice(session, choice)
    for path in paths:
        size = drawing.size(os.path.getsize(path))
        session.out.print(f"    {path}   {size}, verified", soft_wrap=True)
    return 0


def _tell_arrivals(
    session: Session, choice: ChosenRelease, arrivals: tuple[Arrival, ...], source: Source
) -> int:
    status = int(any(each.state is not State.COMPLETE for each in arrivals))
    if session.json:
        told = [
            {
                "part": plain_part(each.part),
                "state": each.state.value,
                "path": each.path,
                "have_bytes": each.have,
            }
            for each in arrivals
        ]
        return session.emit(status, arrivals=told, **chosen(choice))
    draw_choice(session, choice)
    rows = [
        (
            f"    {each.state.value}",
            each.part.name,
            f"{each.have:,} of {each.part.size:,}",
            each.part.digest,
        )
        for each in arrivals
    ]
    drawing.rows(session.out, ("    state", "part", "bytes", "BLAKE3"), rows, "  r")
    for each in arrivals:
        if each.state is not State.COMPLETE:
            session.out.print(f"    get: {source.address(each.part)}", soft_wrap=True)
    paths = " ".join(each.path for each in arrivals)
    if not status:
        session.out.print(f"All is there. To shelve it: kindred shelf add {paths}", soft_wrap=True)
    return status
