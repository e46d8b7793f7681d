"""kindred convert"""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import click

from ...cards import Card, Install
from ...changes import Changeset
from ...convert import Proof, Work, convert_files, convert_install, prove_install
from ...convert.bulk import results_of
from ...errors import KindredError, UsageError
from ...places import FilePlace, FolderPlace, Place
from .. import drawing
from ..applying import carry_out, lines_named
from ..options import placing, session, writing
from ..session import Session, patterns

_ONE_ROW = re.compile(r"\[\d")  # in the name of a field
_WORTH_KEEPING = 100  # results of a dry run: so many need not be made again when it is meant


@click.command()
@click.argument("what", metavar="INSTALL|FOLDER|FILE")
@click.option(
    "--to", default="", metavar="BUILD", help="Formats of this build (default: the install's)."
)
@click.option("--version", default="", metavar="N", help="Of loose files: this format version.")
@click.option("--only", multiple=True, metavar="PATTERN", help="Only paths that fit (repeatable).")
@click.option(
    "--from",
    "source",
    default="",
    metavar="VERSION",
    help="The format version of files that do not say theirs.",
)
@click.option(
    "--leave", multiple=True, metavar="PATTERN", help="These may stay if they cannot convert."
)
@click.option("--beside", is_flag=True, help="Put the results beside the files, under new names.")
@click.option("--workers", default=0, metavar="N", help="Processes (default: as many files need).")
@click.option(
    "--prove", is_flag=True, help="Convert there and back, list what is not recovered, stop."
)
@writing
@placing
@session("convert")
def command(
    session: Session,
    *,
    what: str,
    to: str,
    version: str,
    only: tuple[str, ...],
    source: str,
    leave: tuple[str, ...],
    beside: bool,
    workers: int,
    prove: bool,
    **options: Any,
) -> int:
    """Bring the saves and settings of INSTALL into the formats its build writes, or another does.

    Of a FOLDER that is no install, the files whose names fit a format of the card are converted; of
    a FILE, that file.

    \b
    Example, in the demo's folder:
      kindred convert mossferry --to 2.0 --dry-run
    """
    found, wanted = _subject(session, what, patterns(only), beside=beside)
    if isinstance(found, Install):
        build = found.card.build(to) if to else None
        if prove:
            return _prove(
                session, prove_install(found, build, only=wanted, progress=session.progress)
            )

        def compute(work: Work) -> Changeset:
            return convert_install(
                found, build, ledger=session.ledger, only=wanted, leave=patterns(leave), source=source,
                beside=beside, work=work, progress=session.progress,
            )  # fmt: skip
    else:
        if prove:
            raise UsageError("--prove takes an install", where=what)
        card = _card(session, found, wanted)

        def compute(work: Work) -> Changeset:
            return convert_files(
                found, card, card.build(to) if to else None, ledger=session.ledger,
                version=version, only=wanted, leave=patterns(leave), source=source, beside=beside, work=work,
                progress=session.progress,
            )  # fmt: skip

    with _work(session, workers, options["field"]) as work:
        change = compute(work)
    status = carry_out(session, change, **options)
    taken = not options["dry_run"] or len(change.actions) < _WORTH_KEEPING
    if status == 0 and taken and work.room is not None:
        work.room.clear(action.source_path for action in change.actions if action.source)
    return status


def _subject(
    session: Session, what: str, only: Callable[[str], bool] | None, *, beside: bool
) -> tuple[Install | Place, Callable[[str], bool] | None]:
    """Return what is meant, and which files of it; of a file, its folder only if it gets a neighbour."""
    formats = [format for card in session.cards for format in card.formats.values()]
    if os.path.isfile(what) and any(format.fits_name(what) for format in formats):
        folder, name = os.path.split(os.path.abspath(what))
        place = FolderPlace(folder) if beside else FilePlace(what)
        return place, lambda path: path == name
    return session.subject(what), only


def _card(session: Session, place: Place, only: Callable[[str], bool] | None) -> Card:
    """Return the card whose formats the files of a folder are of; of variants, that of the title itself."""
    files = [path for path in place.survey().files if only is None or only(path)]
    every = [
        card
        for card in session.cards
        if any(format.fits_name(path) for format in card.formats.values() for path in files)
    ]
    titles = {card.title for card in every}
    fitting = [
        card for card in every if card.file.variant is None or card.file.variant.of not in titles
    ]
    if len(fitting) != 1:
        names = ", ".join(card.title for card in fitting) or "none"
        raise UsageError(
            f"the files here are of {len(fitting)} cards: {names}",
            where=place.location,
            remedy="Name one with --card FILE.",
        )
    return fitting[0]


@contextmanager
def _work(session: Session, workers: int, field: tuple[str, ...]) -> Iterator[Work]:
    """Hold what carries a conversion out: this process alone, or several.

    Where the caller asks for single rows of lists, every row stands in the books by itself.
    """
    room = results_of(session.ledger)
    column_threshold = (
        sys.maxsize
        if any(_ONE_ROW.search(pattern) for pattern in field)
        else Work().column_threshold
    )
    shown = lines_named(field)
    if workers < 2:
        yield Work(room=room, column_threshold=column_threshold, shown=shown)
        return
    from concurrent.futures import ProcessPoolExecutor

    with ProcessPoolExecutor(workers) as pool:
        yield Work(pool, workers, room, column_threshold, shown)


def _prove(session: Session, proofs: Iterator[tuple[str, Proof | KindredError]]) -> int:
    told: list[dict[str, Any]] = []
    for path, proof in proofs:
        if isinstance(proof, KindredError):
            told.append({"file": path, "converts": False, "why": str(proof)})
            continue
        there = proof.there
        told.append({
            "file": path, "converts": True, "from": there.source.text, "to": there.target.text,
            "comes_back": proof.back is not None, "same_bytes": proof.same_bytes, "why": proof.why,
            "unrecovered": [
                {"field": d.name, "was": d.before, "comes_back_as": d.after} for d in proof.unrecovered
            ],
        })  # fmt: skip
    status = int(any(not one.get("same_bytes") for one in told))
    if session.json:
        return session.emit(status, proofs=told)
    for one in told:
        _draw_proof(session, one)
    whole = sum(bool(one.get("same_bytes")) for one in told)
    session.out.print(
        f"\n{drawing.count(len(told), 'file')}: {whole} come back byte for byte. Nothing was written."
    )
    return status


def _draw_proof(session: Session, one: dict[str, Any]) -> None:
    if not one["converts"]:
        drawing.heading(session.out, one["file"], "cannot be converted")
        session.out.print(f"    ✗ {one['why']}", style="bright_red", soft_wrap=True)
        return
    drawing.heading(session.out, one["file"], f"{one['from']} → {one['to']} → {one['from']}")
    if one["same_bytes"]:
        session.out.print("    ✓ comes back byte for byte", style="green")
    elif not one["comes_back"]:
        session.out.print(
            f"    ✗ there is no way back: {one['why']}", style="bright_red", soft_wrap=True
        )
    elif not one["unrecovered"]:
        session.out.print(
            "    ✓ every field comes back; its place or spacing differs", style="green"
        )
    for field in one["unrecovered"]:
        was, now = field["was"], field["comes_back_as"]
        text = (
            "is gone"
            if now is None
            else "was not there before"
            if was is None
            else f"comes back as {now}"
        )
        shown = f"    ✗ {field['field']}" + (f" = {was}" if was is not None else "") + f"  {text}"
        session.out.print(shown, style="bright_red", soft_wrap=True)
