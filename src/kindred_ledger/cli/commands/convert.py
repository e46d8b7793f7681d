"""kindred convert"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import click

from ...convert import Proof
from ...convert.operations import Convert
from ...errors import KindredError
from .. import drawing
from ..applying import carry_out
from ..meanings import flag, many, value
from ..options import placing, selecting, storing, writing
from ..session import Session


@click.command()
@click.argument("what", metavar="INSTALL|FOLDER|FILE")
@value("--to")
@value("--to-format")
@selecting
@value("--from-format")
@many("--leave")
@flag("--beside")
@value("--workers", default=0)
@flag("--prove")
@writing
@placing
@storing
def command(
    session: Session,
    *,
    what: str,
    to: str,
    to_format: str,
    only: tuple[str, ...],
    exclude: tuple[str, ...],
    from_format: str,
    leave: tuple[str, ...],
    beside: bool,
    workers: int,
    prove: bool,
    **options: Any,
) -> int:
    """Convert saves and settings of an install to the formats of its build, or of another.

    Of a FOLDER that is no install, the files whose names fit a format of the card are converted; of a FILE,
    that file.

    \b
    Example, in the demo's folder:
      kindred convert mossferry --to 2.0 --dry-run
    """
    context = session.context
    made = Convert(what, to, to_format, only, from_format, leave, beside, options["field"], exclude)
    if prove:
        return _prove(session, made.prove(context))
    if workers > 1:
        from concurrent.futures import ProcessPoolExecutor

        context.executor, context.workers = context.enter(ProcessPoolExecutor(workers)), workers
    return carry_out(session, made.compute(context), **options)


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
                {"field": d.name, "before": d.before, "after": d.after} for d in proof.unrecovered
            ],
        })  # fmt: skip
    status = int(any(not one.get("same_bytes") for one in told))
    if session.json:
        return session.emit(status, proofs=told)
    alike: dict[str, list[dict[str, Any]]] = {}
    for one in told:
        alike.setdefault(_verdict(one), []).append(one)
    for some in alike.values():
        _draw_proofs(session, some)
    whole = sum(bool(one.get("same_bytes")) for one in told)
    comes = "comes" if whole == 1 else "come"
    files = drawing.count(len(told), "file")
    session.out.print(f"\n{whole} of {files} {comes} back byte for byte. Nothing was written.")
    return status


def _verdict(one: dict[str, Any]) -> str:
    """Return what is told of a file, but for its name: files of which the same is told are told together."""
    told = {key: value for key, value in one.items() if key != "file"}
    return str(told).replace(one["file"], "")


def _draw_proofs(session: Session, some: list[dict[str, Any]]) -> None:
    """Draw what is told of some files, which is the same of all."""
    one, more = some[0], len(some) - 1
    name = one["file"] + (f", and {drawing.count(more, 'more file')}" if more else "")
    if not one["converts"]:
        drawing.heading(session.out, name, "cannot be converted")
        session.out.print(f"    ✗ {one['why']}", style="bright_red", soft_wrap=True)
        return
    drawing.heading(session.out, name, f"{one['from']} → {one['to']} → {one['from']}")
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
        was, now = field["before"], field["after"]
        text = (
            "is gone"
            if now is None
            else "was not there before"
            if was is None
            else f"comes back as {now}"
        )
        shown = f"    ✗ {field['field']}" + (f" = {was}" if was is not None else "") + f"  {text}"
        session.out.print(shown, style="bright_red", soft_wrap=True)
