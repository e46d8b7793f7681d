"""kindred file identify"""

from __future__ import annotations

import os
from typing import Any

import click
import msgspec
from msgspec.structs import replace

from ....cards import Identity, Install, identify
from ....errors import UsageError
from ....versions import VersionRange
from ....wording import builds_in_words
from ... import drawing
from ...options import placing, session
from ...session import Session


@click.command()
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@placing
@session
def command(session: Session, *, files: tuple[str, ...]) -> int:
    """Say what each FILE is: its kind by content, its format and version by the cards.

    Folders are searched. Status 1 if something is odd: a name that does not fit the content, a damaged
    file, a version that no build is known to write.

    \b
    Example, in the demo's folder:
      kindred file identify mossferry/userdata/saves/midwinter.voyage
    """
    found = [_identity(session, path) for path in _files(files)]
    odd = any(identity.findings for identity in found)
    if session.json:
        plain: list[dict[str, Any]] = [msgspec.to_builtins(identity) for identity in found]
        return session.emit(int(odd), files=plain)
    for identity in found:
        _draw(session, identity)
    return int(odd)


def _files(named: tuple[str, ...]) -> list[str]:
    out = []
    for path in named:
        if os.path.isdir(path):
            for folder, folders, names in os.walk(path):
                folders.sort()
                out += [os.path.join(folder, name) for name in sorted(names)]
        elif os.path.isfile(path):
            out.append(path)
        else:
            raise UsageError("there is no such file", where=path, remedy="Check the path.")
    return out


def _identity(session: Session, path: str) -> Identity:
    with open(path, "rb") as file:
        data = file.read()
    install = _install_of(session, path)
    paths = install.names_of(path) if install is not None else []
    return identify(path, data, session.cards, paths=paths, install=install)


def _install_of(session: Session, path: str) -> Install | None:
    """Return the install a file lies in."""
    full = os.path.abspath(path)
    folder = os.path.dirname(full)
    while folder != os.path.dirname(folder):
        for card in session.cards:
            if card.is_install(folder):
                return session.context.install(folder)
        folder = os.path.dirname(folder)
    return None


def _draw(session: Session, identity: Identity) -> None:
    drawing.heading(session.out, identity.name, drawing.size(identity.size_bytes))
    session.out.hang("    ", f"{identity.kind}: {identity.evidence}", style="default")
    for match in identity.matches:
        if match.finding is not None:
            continue
        name = f"    {match.title} {match.format}, format {match.version}"
        session.out.print(name, style="cyan", soft_wrap=True)
        for piece in match.evidence:
            session.out.hang("      ✓ ", str(piece), style="dim")
        writes, reads = (
            _builds(session, match.title, each) for each in (match.writes, match.reads)
        )
        told = f"written by {writes}; read by {reads}"
        session.out.hang("      ", told, style="default")
    drawing.findings(session.out, [replace(each, where="") for each in identity.findings])


def _builds(session: Session, title: str, ranges: tuple[str, ...]) -> str:
    card = session.context.card_of(title)
    return (
        builds_in_words(VersionRange.parse(each, card.scheme) for each in ranges)
        or "no known build"
    )
