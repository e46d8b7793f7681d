"""kindred shelf"""

from __future__ import annotations

import os
from typing import Any

import click
import msgspec

from ...cards import Card, card_of_release
from ...errors import UsageError
from ...ledger import Release, ReleaseTag
from ...places import Place, open_place
from ...releases import (
    Arrival,
    Choice,
    RetryPolicy,
    Source,
    State,
    check_arrivals,
    choose_release,
    parts_with,
    read_index,
    shelve,
    shelve_from,
    source_at,
)
from ...releases.shelving import Shelved
from ...suggestions import path_meant
from .. import drawing
from ..options import session
from ..session import Session


@click.group()
def command() -> None:
    """Keep the releases of a title: what an install is compared with, brought to, and gone back to.

    \b
    Example, in the demo's folder:
      kindred shelf add downloads/mossferry-1.4.zip
    """


def _labelled(command: Any) -> Any:
    for option in (
        click.option("--variant", default="", help="Which flavour of the title."),
        click.option("--platform", default="", help="Which platform it is for."),
        click.option("--channel", default="", help="stable, preview, or what the index calls it."),
    ):
        command = option(command)
    return command


@command.command("add")
@click.argument("parts", nargs=-1, required=True, metavar="PART…")
@click.option("--version", default="", help="What it is, if its files do not tell.")
@click.option("--title", default="", help="Of what, if no card tells.")
@click.option("--date", default="", help="When it came out: 2026-05-28.")
@click.option("--digests", is_flag=True, help="Keep digests, and contents only for merging.")
@click.option("--note", default="", help="What you want to remember about it.")
@click.option("--card", default="", metavar="FILE", help="The card that describes the title.")
@_labelled
@session("shelf add")
def add(
    session: Session,
    *,
    parts: tuple[str, ...],
    version: str,
    title: str,
    date: str,
    digests: bool,
    note: str,
    channel: str,
    platform: str,
    variant: str,
) -> int:
    """Shelve the unmodified release that lies in PART (a folder, zip or tar), or in several.

    A version that its own files deny is refused.

    \b
    Example, in the demo's folder:
      kindred shelf add downloads/mossferry-1.4.zip --digests
    """
    places = [open_place(part) for part in parts]
    done = shelve(
        places,
        _card(session, places, title),
        ledger=session.ledger,
        version=version,
        label=ReleaseTag(channel or ReleaseTag().channel, date, platform, variant),
        digests_only=digests,
        note=note,
        progress=session.progress,
    )
    return _tell(session, done)


@command.command("list")
@click.argument("title", default="")
@click.option("--from", "index", default="", metavar="INDEX", help="What a release index has.")
@session("shelf list")
def list_command(session: Session, *, title: str, index: str) -> int:
    """List the releases on the shelf, or those that a release index has.

    \b
    Example, in the demo's folder:
      kindred shelf list --from downloads/releases.json
    """
    if index:
        return _list_index(session, index)
    found = session.ledger.shelf.releases(title)
    if title and not found:
        titles = {release.title for release in session.ledger.shelf.releases()}
        raise UsageError(f"the shelf has no release of {title!r}", remedy=path_meant(title, titles))
    if session.json:
        return session.emit(releases=[_plain(release) for release in found])
    if not found:
        session.out.print("The shelf is empty. Put a release there with: kindred shelf add PLACE")
        return 0
    rows = [
        (
            one.entry.id,
            one.name,
            one.label.date,
            ", ".join(filter(None, (one.label.channel, one.label.platform, one.label.variant))),
            f"{one.entry.files:,}",
            drawing.size(one.entry.size_bytes),
            "whole" if one.label.whole else "digests",
        )
        for one in found
    ]
    heads = ("release", "what", "date", "channel", "files", "size", "kept")
    drawing.rows(session.out, heads, rows, "    rr")
    return 0


@command.command("remove")
@click.argument("release")
@session("shelf remove")
def remove(session: Session, *, release: str) -> int:
    """Take RELEASE from the shelf; its space comes back with the next retirement.

    \b
    Example, in the demo's folder:
      kindred shelf remove mossferry@1.4
    """
    found = session.ledger.shelf.find(release)
    session.ledger.shelf.remove(found)
    if session.json:
        return session.emit(removed=_plain(found))
    session.out.print(f"{found} is off the shelf.")
    return 0


@command.command("fetch")
@click.argument("wanted", default="", metavar="[TITLE@]WANTED")
@click.option("--from", "index", required=True, metavar="INDEX", help="An address, or a file.")
@click.option("--digests", is_flag=True, help="Keep digests, and contents only for merging.")
@click.option("--into", default="", metavar="FOLDER", help="Only fetch, into this folder.")
@click.option(
    "--holding", multiple=True, metavar="PATH", help="With --into: the parts that hold this file."
)
@click.option(
    "--by-hand", default="", metavar="FOLDER", help="List what to get, and check what came there."
)
@click.option("--quiet-seconds", default=15.0, help="How long a server may be quiet.")
@click.option("--card", default="", metavar="FILE", help="The card that describes the title.")
@_labelled
@session("shelf fetch")
def fetch(
    session: Session,
    *,
    wanted: str,
    index: str,
    digests: bool,
    into: str,
    holding: tuple[str, ...],
    by_hand: str,
    quiet_seconds: float,
    channel: str,
    platform: str,
    variant: str,
) -> int:
    """Fetch a release from a release index, verify it, and shelve it.

    WANTED is a version, a date, or OLDER..NEWER for a build without a version that came between the
    two; the newest stable one if nothing is said. A fetch that was cut off goes on where it stopped.

    \b
    Example, in the demo's folder:
      kindred shelf fetch 2.0 --from downloads/releases.json
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
    patience = RetryPolicy(quiet=quiet_seconds)
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
    return _tell(session, done, choice)


def _card(session: Session, places: list[Place], title: str) -> Card:
    if title:
        return session.context.card_of(title)
    return card_of_release(places, session.cards)


def _fetch_only(
    session: Session,
    choice: Choice,
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
        return session.emit(fetched=paths, **_chosen(choice))
    _draw_choice(session, choice)
    for path in paths:
        size = drawing.size(os.path.getsize(path))
        session.out.print(f"    {path}   {size}, verified", soft_wrap=True)
    return 0


def _tell(session: Session, done: Shelved, choice: Choice | None = None) -> int:
    if session.json:
        more = _chosen(choice) if choice else {}
        return session.emit(
            release=_plain(done.release),
            findings=[each.to_json() for each in done.findings],
            **more,
        )
    if choice is not None:
        _draw_choice(session, choice)
    release = done.release
    kept = "whole" if release.label.whole else "by digests, with what merging needs"
    held = drawing.files(release.entry.files, release.entry.size_bytes)
    session.out.print(f"{release} is on the shelf, {kept}: {held}.")
    session.out.print(f"    its tree: {release.label.digest}", style="dim")
    drawing.findings(session.out, done.findings)
    return 0


def _tell_arrivals(
    session: Session, choice: Choice, arrivals: tuple[Arrival, ...], source: Source
) -> int:
    status = int(any(each.state is not State.COMPLETE for each in arrivals))
    if session.json:
        return session.emit(status, arrivals=msgspec.to_builtins(arrivals), **_chosen(choice))
    _draw_choice(session, choice)
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


def _list_index(session: Session, where: str) -> int:
    source = source_at(where)
    found = read_index(source.name, source.read)
    if session.json:
        return session.emit(title=found.title, releases=msgspec.to_builtins(found.releases))
    drawing.heading(session.out, found.title, source.location)
    rows = [
        (
            f"    {one.version or '(untitled)'}",
            one.date,
            ", ".join(filter(None, (one.channel, one.platform, one.variant))),
            f"{len(one.parts)}",
            drawing.size(sum(part.size for part in one.parts)),
            one.notes,
        )
        for one in found.releases
    ]
    heads = ("    version", "date", "channel", "parts", "size", "notes")
    drawing.rows(session.out, heads, rows, "   rr")
    return 0


def _draw_choice(session: Session, choice: Choice) -> None:
    why = f"   {'; '.join(choice.reasons)}" if choice.reasons else ""
    session.out.assemble((f"chosen: {choice.release}", "bold"), (why, "dim"))


def _chosen(choice: Choice) -> dict[str, Any]:
    return {"chosen": str(choice.release), "reasons": list(choice.reasons)}


def _plain(release: Release) -> dict[str, Any]:
    return {
        "id": release.entry.id,
        "name": release.name,
        "title": release.title,
        "version": release.version,
        "files": release.entry.files,
        "size_bytes": release.entry.size_bytes,
        **msgspec.to_builtins(release.label),
    }
