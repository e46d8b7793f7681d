"""kindred patch"""

from __future__ import annotations

import io
import os
from typing import Any

import click
import msgspec

from ...cards import identify
from ...errors import UsageError
from ...patches import (
    Base,
    Output,
    PatchSet,
    Verdict,
    identify_base,
    make_patch_set,
    write_patch_set,
)
from ...patches.operations import ApplyPatch, opened_for, patched_place
from ...places import (
    FilePlace,
    Place,
    SubPlace,
    open_place,
    refusals,
    write_once,
)
from .. import drawing
from ..applying import carry_out
from ..options import session, writing
from ..session import Session

_LARGEST = 64 << 20  # bytes of a file that is looked into, to say what it is instead


@click.group()
def command() -> None:
    """Make and apply binary patches: one file for several bases and flavours, applied to nothing else.

    \b
    Example, in the demo's folder:
      kindred patch identify downloads/wet-lantern.patches.zip mossferry/data/harbours.json
    """


@command.command("make")
@click.argument("bases", nargs=-1, required=True, metavar="BASE… RESULT")
@click.option("--out", required=True, metavar="FILE", help="The patch set to be written.")
@click.option(
    "--output", "more", multiple=True, metavar="NAME=RESULT", help="Another flavour (repeatable)."
)
@click.option("--title", default="", help="What it is for.")
@click.option("--notes", default="", help="What people should know.")
@session("patch make")
def make(
    session: Session,
    *,
    bases: tuple[str, ...],
    out: str,
    more: tuple[str, ...],
    title: str,
    notes: str,
) -> int:
    """Write a patch set that makes RESULT of each BASE: single files, or folders and zips.

    NAME=PATH names a base or a result; else its file name does (of zips, without the ending).

    \b
    Example, in the demo's folder:
      kindred patch make downloads/mossferry-1.4.zip downloads/mossferry-2.0.zip --out to-2.0.patches.zip
    """
    if len(bases) < 2:
        raise UsageError("at least one base and a result are needed")
    if os.path.lexists(out):
        raise UsageError("something is there already", where=out, remedy="Choose another name.")
    old = dict(_named(each) for each in bases[:-1])
    new = dict(_named(each) for each in (bases[-1], *more))
    manifest, members = make_patch_set(
        {Base(name): place for name, place in old.items()},
        {Output(name): place for name, place in new.items()},
        title=title,
        notes=notes,
        progress=session.progress,
    )
    made = io.BytesIO()
    write_patch_set(made, manifest, members)
    with refusals(out):
        write_once(out, made.getvalue(), private=False)
    deltas = sum(bool(change.delta) for change in manifest.changes)
    if session.json:
        return session.emit(
            written=out,
            size_bytes=os.path.getsize(out),
            changes=len(manifest.changes),
            deltas=deltas,
        )
    told = f"{drawing.count(len(manifest.changes), 'change')}, {deltas} by delta"
    session.out.print(f"{out}: {drawing.size(os.path.getsize(out))}, {told}", soft_wrap=True)
    return 0


@command.command("identify")
@click.argument("patches", metavar="PATCHES")
@click.argument("what", metavar="FILE|FOLDER")
@session("patch identify")
def identify_command(session: Session, *, patches: str, what: str) -> int:
    """Say what FILE or FOLDER is to a patch set: a base, a result, a near relative, or a stranger.

    Status 1 if nothing can be made of it.

    \b
    Example, in the demo's folder:
      kindred patch identify downloads/wet-lantern.patches.zip mossferry/data/harbours.json
    """
    found = opened_for(patches, what)
    place, name = patched_place(found, what)
    verdict = identify_base(found, place, session.ledger.scan(place), name)
    status = int(not verdict.bases)
    told = "" if verdict.bases or verdict.outputs or verdict.near else _stranger(session, what)
    if session.json:
        return session.emit(status, verdict=msgspec.to_builtins(verdict), is_rather=told)
    drawing.heading(session.out, what, found.manifest.title)
    for line, style in _lines(found, verdict):
        session.out.print(f"    {line}", style=style, soft_wrap=True)
    if told:
        session.out.print(f"    {told}", soft_wrap=True)
    return status


@command.command("apply")
@click.argument("patches", metavar="PATCHES")
@click.argument("what", metavar="FILE|FOLDER")
@click.option("--output", default="", metavar="NAME", help="Which flavour.")
@click.option(
    "--to", default="", metavar="NAME", help="Write the result under this name beside FILE."
)
@writing
@session("patch apply")
def apply(
    session: Session, *, patches: str, what: str, output: str, to: str, **options: Any
) -> int:
    """Apply a patch set, or a plain .vcdiff file, to FILE or FOLDER; what was there is kept.

    \b
    Example, in the demo's folder:
      kindred patch apply downloads/wet-lantern.patches.zip mossferry/data/harbours.json --output short
    """
    made = ApplyPatch(patches, what, output, to)
    return carry_out(session, made.compute(session.context), **options)


def _named(text: str) -> tuple[str, Place]:
    """Return the name and the place of a base or a result."""
    name, sign, path = text.partition("=")
    if not sign or os.path.exists(text):
        name, path = os.path.basename(os.path.normpath(text)).removesuffix(".zip"), text
    if not os.path.exists(path):
        raise UsageError("there is no such file or folder", where=path, remedy="Check the path.")
    if os.path.isfile(path) and not path.endswith(".zip"):
        return name, FilePlace(path)
    place = open_place(path)
    tops = {each.partition("/")[0] for each in place.survey().files}
    wrapped = len(tops) == 1 and not os.path.isdir(path)  # archives have all in one folder
    return name, SubPlace(place, tops.pop()) if wrapped else place


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
                f"it is a {match.title} {match.format} in format {match.version};"
                f" to see how such are converted: kindred route {match.format} --from {match.version}"
            )
    return f"it is {found.kind}: {found.evidence}" if found.kind else ""
