"""kindred scan"""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Any

import click
from msgspec.structs import replace

from ...cards import (
    PROGRAM,
    Install,
    axis_versions,
    belongings,
    find_installs,
    unlisted,
)
from ...errors import UsageError
from ...finding import Finding
from ...places import Tree
from ...planning import condition_of, match_releases
from ...suggestions import path_meant
from .. import drawing
from ..options import placing, session
from ..session import Session


@click.command()
@click.argument("folders", nargs=-1)
@placing
@session
def command(session: Session, *, folders: tuple[str, ...]) -> int:
    """Find installs of the titles that cards describe: version, saves, settings, mods.

    Searches FOLDERS (default: here) and a few levels below. Status 1 if something is odd: evidence that
    disagrees, a change that was cut off, a program that runs.

    \b
    Example, in the demo's folder:
      kindred scan
    """
    for folder in folders:
        if not os.path.exists(os.path.expanduser(folder)):
            raise _nowhere(folder)
    found = [
        session.context.install(root)
        if session.build
        else card.open(root, folders=session.folders, around=session.around)
        for folder in folders or (".",)
        for root, card in find_installs(folder, session.cards)
    ]
    trees = [install.place.survey() for install in found]
    odd = [condition_of(install, session.known_ledger()) for install in found]
    known = _known(session, found)
    status = 1 if any(odd) else 0
    if session.json:
        return session.emit(
            status, installs=[_plain(*each) for each in zip(found, trees, odd, known, strict=True)]
        )
    for each in zip(found, trees, odd, known, strict=True):
        _draw(session, *each)
    if not found:
        titles = ", ".join(card.name for card in session.cards)
        none = "No cards found. Start with: kindred card new FOLDER"
        told = f"No install found here. The cards describe: {titles}." if titles else none
        session.out.print(told)
    return status


def _nowhere(folder: str) -> UsageError:
    """Return the error for a folder that is not there, with the one beside it that may be meant."""
    above = os.path.dirname(os.path.abspath(folder))
    beside = os.listdir(above) if os.path.isdir(above) else []
    return UsageError(
        "no such file or folder", where=folder, remedy=path_meant(os.path.basename(folder), beside)
    )


def _known(session: Session, found: list[Install]) -> list[str]:
    """Return what each install is by its content, as far as the shelf knows its title."""
    ledger = session.known_ledger()
    if ledger is None:
        return [""] * len(found)
    titles = {release.title for release in ledger.shelf.releases()}
    return [
        str(match_releases(install, ledger, progress=session.progress)[0])
        if install.card.title in titles
        else ""
        for install in found
    ]


def _draw(
    session: Session, install: Install, tree: Tree, odd: Sequence[Finding], known: str
) -> None:
    version = install.version.text if install.version else "of unknown version"
    where = drawing.short(install.place.location)
    drawing.heading(session.out, f"{install.card.name} {version}", where)
    for piece in install.evidence:
        agrees = piece.version and piece.version == install.version
        mark, style = ("✓", "default") if agrees else ("·", "dim")
        session.out.hang(f"    {mark} ", str(piece), style=style)
    for name, axis in axis_versions(install).items():
        if name != PROGRAM:
            session.out.print(f"    ✓ {name}: {axis}")
    if known:
        session.out.hang("    ", f"by its content: {known}", style="default")
    lines = [
        (f"    {one.name}", f"{one.files:,}", drawing.size(one.size_bytes))
        for one in belongings(install.card, tree)
    ]
    drawing.rows(session.out, ("    belongings", "files", "size"), lines, " rr")
    fate = "a backup of the whole install holds them"
    drawing.uncovered(session.out, unlisted(install.card, tree), fate)
    drawing.findings(session.out, [replace(each, where="") for each in odd])


def _plain(install: Install, tree: Tree, odd: Sequence[Finding], known: str) -> dict[str, Any]:
    return {
        "title": install.card.title,
        "version": install.version.text if install.version else None,
        "place": install.place.location,
        "evidence": [
            {
                "source": piece.source,
                "version": piece.version.text if piece.version else None,
                "finding": piece.finding.to_json() if piece.finding else None,
            }
            for piece in install.evidence
        ],
        "belongings": [
            {"category": one.name, "files": one.files, "size_bytes": one.size_bytes}
            for one in belongings(install.card, tree)
        ],
        "uncategorised": [
            {"folder": one.name, "files": one.files, "size_bytes": one.size_bytes}
            for one in unlisted(install.card, tree)
        ],
        "axes": {name: version.text for name, version in axis_versions(install).items()},
        "by_content": known,
        "findings": [each.to_json() for each in odd],
    }
