"""Releases on screen and in JSON, as the commands of the shelf show them."""

from __future__ import annotations

from typing import Any

import msgspec

from ..ledger import Release
from ..releases import ChosenRelease, Part
from ..releases.shelving import Shelved
from . import drawing
from .meanings import value
from .session import Session

__all__ = ["chosen", "draw_choice", "labelled", "plain", "plain_part", "tell"]


def labelled(command: Any) -> Any:
    for option in (
        value("--variant"),
        value("--platform"),
        value("--channel"),
    ):
        command = option(command)
    return command


def tell(session: Session, done: Shelved, choice: ChosenRelease | None = None) -> int:
    if session.json:
        more = chosen(choice) if choice else {}
        return session.emit(
            release=plain(done.release),
            findings=[each.to_json() for each in done.findings],
            **more,
        )
    if choice is not None:
        draw_choice(session, choice)
    release = done.release
    kept = "whole" if release.label.whole else "by digests, with what merging needs"
    held = drawing.files(release.entry.files, release.entry.size_bytes)
    session.out.print(f"{release} is on the shelf, {kept}: {held}.")
    session.out.print(f"    its tree: {release.label.digest}", style="dim")
    drawing.findings(session.out, done.findings)
    return 0


def draw_choice(session: Session, choice: ChosenRelease) -> None:
    why = f"   {'; '.join(choice.reasons)}" if choice.reasons else ""
    session.out.assemble((f"chosen: {choice.release}", "bold"), (why, "dim"))


def chosen(choice: ChosenRelease) -> dict[str, Any]:
    return {"chosen": str(choice.release), "reasons": list(choice.reasons)}


def plain(release: Release) -> dict[str, Any]:
    return {
        "id": release.entry.id,
        "name": release.name,
        "title": release.title,
        "version": release.version,
        "files": release.entry.files,
        "size_bytes": release.entry.size_bytes,
        **msgspec.to_builtins(release.label),
    }


def plain_part(part: Part) -> dict[str, Any]:
    """Return a part of a release as JSON has it."""
    values: dict[str, Any] = msgspec.to_builtins(part)
    return {("size_bytes" if key == "size" else key): value for key, value in values.items()}
