"""kindred file patch make"""

from __future__ import annotations

import io
import os

import click

from .....errors import UsageError
from .....patches import Base, Output, make_patch_set, write_patch_set
from .....places import FilePlace, Place, SubPlace, open_place, refusals, write_once
from .... import drawing
from ....meanings import many, value
from ....options import session
from ....session import Session


@click.command()
@click.argument("bases", nargs=-1, required=True, metavar="BASE… RESULT")
@value("--out", required=True)
@many("--result", "more")
@value("--name", "title")
@value("--note", "notes")
@session
def command(
    session: Session,
    *,
    bases: tuple[str, ...],
    out: str,
    more: tuple[str, ...],
    title: str,
    notes: str,
) -> int:
    """Write a patch set that makes RESULT of each BASE: single files, folders or zips.

    NAME=PATH names a base or a result; otherwise its file name does.

    \b
    Example, in the demo's folder:
      kindred file patch make downloads/mossferry-1.4.zip downloads/mossferry-2.0.zip --out to-2.0.patches.zip
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
