"""kindred file patch identify"""

from __future__ import annotations

import os

import click
import msgspec

from .....cards import identify
from .....patches import PatchSet, Verdict, identify_base
from .....patches.operations import opened_for, patched_place
from .....places import scan
from .... import drawing
from ....options import session
from ....session import Session

_LARGEST = 64 << 20  # bytes of a file that is looked into, to say what it is instead


@click.command()
@click.argument("patches", metavar="PATCHES")
@click.argument("what", metavar="FILE|FOLDER")
@session
def command(session: Session, *, patches: str, what: str) -> int:
    """Say whether a patch set fits FILE or FOLDER.

    It may be a base, a result already, or nearly a base (another revision or language). Status 1 if the set
    cannot be applied.

    \b
    Example, in the demo's folder:
      kindred file patch identify downloads/wet-lantern.patches.zip mossferry/data/harbours.json
    """
    found = opened_for(patches, what)
    place, name = patched_place(found, what)
    verdict = identify_base(found, place, scan(place), name)
    status = int(not verdict.bases)
    told = "" if verdict.bases or verdict.outputs or verdict.near else _stranger(session, what)
    if session.json:
        return session.emit(status, verdict=msgspec.to_builtins(verdict), looks_like=told)
    drawing.heading(session.out, what, found.manifest.title)
    for line, style in _lines(found, verdict):
        session.out.hang(f"    {line[:2]}", line[2:], style=style)
    if told:
        session.out.hang("    ", told, style="default")
    return status


def _lines(patches: PatchSet, verdict: Verdict) -> list[tuple[str, str]]:
    out = [(f"✓ it is the base {name}, byte for byte", "green") for name in verdict.bases]
    out += [(f"· it is the result {name} already", "yellow") for name in verdict.outputs]
    if verdict.bases:
        names = ", ".join(each.name for each in patches.manifest.outputs)
        out.append((f"  it can become: {names}", "default"))
    if verdict.near:
        told = f"✗ it is not {verdict.near}, though {verdict.share:.1%} of it is the same"
        out.append((f"{told}: another revision or language, or it was edited", "bright_red"))
        out += [(f"  differs: {path}", "dim") for path in verdict.differing[:5] if path]
    if not out:
        out.append(("✗ it has nothing in common with what the set is for", "bright_red"))
    return out


def _stranger(session: Session, what: str) -> str:
    """Say what a file is by the cards, and how it would be converted, if it is no base at all."""
    if not os.path.isfile(what) or os.path.getsize(what) > _LARGEST:
        return ""
    with open(what, "rb") as file:
        found = identify(what, file.read(), session.cards)
    for match in found.matches:
        if match.finding is None:
            return (
                f"it is a {match.title} {match.format} in format {match.version}; to see how it is converted:"
                f" kindred card route {match.format} --from-format {match.version}"
            )
    return f"it is {found.kind}: {found.evidence}" if found.kind else ""
