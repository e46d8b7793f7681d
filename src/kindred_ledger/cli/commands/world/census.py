"""kindred world census"""

from __future__ import annotations

import os
from typing import Any

import click
import msgspec

from ....errors import UsageError
from ....places import refusals, write_atomic
from ....small_files import read_small
from ....worlds import (
    Census,
    CensusDifference,
    FoundLandmark,
    compare_censuses,
    find_landmarks,
    landmark_findings,
    read_census,
    read_landmark,
    take_census,
)
from ....worlds.operations import opened_world
from ... import drawing
from ...meanings import many, value
from ...options import placing, session
from ...session import Session, refuse_taken

_LARGEST = 64 << 20
_PICTURES = (".png", ".svg", ".pdf")
_NAMES = 8  # of a kind that are listed


@click.command()
@click.argument("install")
@value("--world")
@value("--lists-of")
@value("--against")
@many("--landmark", "landmarks")
@value("--out")
@placing
@session
def command(
    session: Session,
    *,
    install: str,
    world: str,
    lists_of: str,
    against: str,
    landmarks: tuple[str, ...],
    out: str,
) -> int:
    """Count what is in a world of INSTALL, or of an entry, by kind and name.

    --against takes an earlier census, or an entry, and lists what differs. Landmarks of the card, and those
    you name, are looked up and listed with where to look in the game. --out writes it as .json, which
    --against reads years later, as a table (.csv) or as a figure (.png, .svg, .pdf). Status 1 if something
    differs or is missing.

    \b
    Examples, in the demo's folder fens:
      kindred world census game
      kindred world census game --out before.json
      kindred world census game --landmark reedlight:bell@72,66 --out census.png
    """
    if out:
        refuse_taken(out)
    subject, opened = opened_world(
        session.context, install, world, lists_of=lists_of, ledger=session.known_ledger()
    )
    build = subject.version.text if subject.version is not None else ""
    found = take_census(opened, build=build, progress=session.progress)
    before = _earlier(session, against, opened.name) if against else None
    differences = compare_censuses(before, found) if before is not None else ()
    seen = find_landmarks(opened, [read_landmark(text) for text in landmarks])
    if out:
        _write(found, before, out)
    wrong = (
        any(not each.allowed for each in differences)
        or any(not each.is_right for each in seen)
        or bool(found.damaged)
    )
    if session.json:
        return session.emit(
            1 if wrong else 0,
            census=found.to_json(),
            differences=[msgspec.to_builtins(each) for each in differences],
            landmarks=[_plain(each) for each in seen],
        )
    _draw(session, found, seen)
    if before is not None:
        _draw_differences(session, before, differences)
    if out:
        session.out.print(f"\nWrote {out}")
    return 1 if wrong else 0


def _earlier(session: Session, against: str, world: str) -> Census:
    """Return the census to compare with: one that was written, or that of an entry or install."""
    if os.path.isfile(against):
        with refusals(against):
            return read_census(read_small(against, most=_LARGEST), where=against)
    subject, opened = opened_world(session.context, against, world, ledger=session.known_ledger())
    build = subject.version.text if subject.version is not None else ""
    return take_census(opened, build=build, progress=session.progress)


def _write(found: Census, before: Census | None, out: str) -> None:
    kind = os.path.splitext(out)[1].lower()
    if kind in _PICTURES:
        from ....worlds.census_figure import draw_census

        draw_census(before or found, out, after=found if before is not None else None)
        return
    if kind == ".json":
        data = msgspec.json.format(msgspec.json.encode(found.to_json()), indent=1) + b"\n"
    elif kind == ".csv":
        data = found.to_csv().encode()
    else:
        raise UsageError(
            f"a census is not written as {kind or 'a file without an ending'}",
            where=out,
            remedy="Name it .json, .csv, .png, .svg or .pdf.",
        )
    with refusals(out):
        write_atomic(out, data)


def _draw(session: Session, found: Census, seen: list[FoundLandmark]) -> None:
    told = f"build {found.build}, " if found.build else ""
    drawing.heading(
        session.out, f"World {found.world}", f"{told}{drawing.count(found.files, 'file')}"
    )
    for kind, some in found.counts.items():
        total = sum(some.values())
        largest = sorted(some.items(), key=lambda item: (-item[1], item[0]))
        named = ", ".join(f"{name} {number:,}" for name, number in largest[:_NAMES])
        more = f", and {len(some) - _NAMES} more" if len(some) > _NAMES else ""
        session.out.hang(f"  {kind}  {total:,}: ", named + more, style="default")
    worth = sum(
        found.worth.get(name, 0) * many
        for some in found.counts.values()
        for name, many in some.items()
    )
    if worth:
        session.out.print(f"  worth by the card: {worth:,.0f}")
    for damaged in found.damaged:
        session.out.hang(
            "  damaged, not counted: ", f"{damaged.path}: {damaged.why}", style="yellow"
        )
    if not seen:
        return
    session.out.print("\n  Landmarks", style="bold")
    for each in seen:
        mark = "✓" if each.is_right else "✗"
        where = f"{each.landmark.x}, {each.landmark.z}"
        told = f"{each.count:,} × {each.content or each.landmark.content} at {where}"
        look = f"; look {each.landmark.look}" if each.landmark.look else ""
        style = "default" if each.is_right else "red"
        session.out.hang(f"  {mark} {each.landmark.name}: ", told + look, style=style)
    session.out.print()
    drawing.findings(session.out, landmark_findings(seen))


def _draw_differences(
    session: Session, before: Census, differences: tuple[CensusDifference, ...]
) -> None:
    told = f"build {before.build}" if before.build else "the earlier census"
    if not differences:
        session.out.print(f"\nThe same as in {told}, by every name.", style="bold")
        return
    session.out.print(f"\nDifferent from {told}:", style="bold")
    rows = [
        (f"    {each.kind}", each.name, f"{each.before:,}", f"{each.after:,}", f"{each.change:+,}",
         "allowed" if each.allowed else "")
        for each in differences
    ]  # fmt: skip
    drawing.rows(session.out, ("    kind", "name", "before", "after", "change", ""), rows)


def _plain(each: FoundLandmark) -> dict[str, Any]:
    mark = each.landmark
    return {
        "name": mark.name, "content": each.content or mark.content, "x": mark.x, "z": mark.z,
        "within": mark.within, "expect": mark.expect, "look": mark.look, "count": each.count,
        "right": each.is_right, "nearest": list(each.nearest) if each.nearest else None,
        "where": each.where,
    }  # fmt: skip
