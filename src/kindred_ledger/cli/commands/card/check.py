"""kindred card check"""

from __future__ import annotations

import os
from collections.abc import Iterator

import click
import msgspec
from msgspec.structs import replace

from ....cards import Card, Install, find_installs
from ....convert import Sample, check_card
from ....errors import UsageError
from ....migrate import card_faults
from ....places import FolderPlace, read_bytes
from ... import drawing
from ...options import session
from ...session import Session

_LARGEST = 64 << 20  # bytes of a sample


@click.command()
@click.argument("file", metavar="CARD")
@click.argument("samples", nargs=-1, metavar="[FILE|FOLDER]...")
@session
def command(session: Session, *, file: str, samples: tuple[str, ...]) -> int:
    """Try every conversion of CARD on sample files and on made-up ones, there and back.

    Samples in folders named by their format version (samples/3/first.voyage, samples/4/first.voyage) are
    compared with each other: the one must become the other. What the steps make is held against the files
    that releases on the shelf ship. Its runbooks and remedies are checked, too. Status 1 if something is
    wrong.

    \b
    Example, in the demo's folder:
      kindred card check mossferry.card.toml mossferry server
    """
    found = Card.load(file)
    report = check_card(found, _samples(found, samples), ledger=session.known_ledger())
    report = replace(report, findings=(*report.findings, *card_faults(found)))
    status = int(not report.is_sound)
    if session.json:
        return session.emit(status, card=found.title, report=msgspec.to_builtins(report))
    tried = f"{drawing.count(report.samples, 'sample')}, {drawing.count(report.conversions, 'conversion')}"
    drawing.heading(session.out, f"{found.name}: {drawing.count(report.formats, 'format')}", tried)
    drawing.findings(session.out, report.findings)
    if report.is_sound:
        session.out.print("  ✓ all steps passed, and every field was accounted for", style="green")
    return status


def _packs(card: Card, top: str) -> Iterator[Sample]:
    """Yield the folders that are packs of the card."""
    for folder, _, names in os.walk(top):
        if not any(format.is_pack(names) for format in card.formats.values()):
            continue
        place = FolderPlace(folder)
        tree = place.survey()
        if sum(node.size for node in tree.values()) <= _LARGEST:
            yield Sample(folder, {name: read_bytes(place, name) for name in tree.files})


def _samples(card: Card, named: tuple[str, ...]) -> Iterator[Sample]:
    for path in named:
        if not os.path.exists(path):
            raise UsageError(
                "there is no such file or folder", where=path, remedy="Check the path."
            )
        yield from _packs(card, path)
        files = [path] if os.path.isfile(path) else sorted(
            os.path.join(folder, name) for folder, _, names in os.walk(path) for name in names)  # fmt: skip
        installs = [card.open(root) for root, _ in find_installs(path, [card])]
        for file in files:
            if _is_sample(card, installs, file) and os.path.getsize(file) <= _LARGEST:
                with open(file, "rb") as opened:
                    yield Sample(file, opened.read())


def _is_sample(card: Card, installs: list[Install], file: str) -> bool:
    """Tell whether a format is meant: in an install by where a file lies, elsewhere by its name."""
    names = [name for install in installs for name in install.names_of(file)]
    if names:
        return any(card.format_of(name) for name in names)
    return any(format.fits_name(file) for format in card.formats.values())
