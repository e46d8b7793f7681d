"""Practice: a title that no card describes, for those who write their first one (docs/first-hour.md).

Quaywright, the route editor, in two releases. Its projects are binary: 1.0 writes format 1 with depths in
feet, 1.1 writes format 2 with depths in centimetres, and a tide for each mooring. Made apart from the
library: packed by `struct`, so that a layout is judged by something else than itself.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence

from .releases import noise

__all__ = ["practice_files", "project"]

Mooring = tuple[str, int, float]  # name, depth in feet, tide in metres

_PROJECTS: dict[str, tuple[str, Sequence[Mooring]]] = {
    "mill-loop": ("Mill loop", (("Eelgate", 9, 0.5), ("Heron Stairs", 14, 0.8), ("Mill", 7, 0.5))),
    "night-run": ("Night run", (("Lantern Sound", 22, 1.1), ("Otter Pool", 11, 0.9))),
    "short": ("Short", (("Eelgate", 9, 0.5),)),
}


def practice_files() -> dict[str, bytes]:
    """Return both installs: 1.0 with somebody's projects and preferences, 1.1 as it comes."""
    files: dict[str, bytes] = {}
    for build in ("1.0", "1.1"):
        top = f"practice/quaywright-{build}"
        files |= {
            f"{top}/quaywright.bin": noise(f"quaywright {build}", 40_000),
            f"{top}/about.ini": f"[About]\nproduct = Quaywright\nversion = {build}\n".encode(),
            f"{top}/README.txt": b"Quaywright draws ferry routes.\nSince version 0.9 it prints them, too.\n",
            f"{top}/parts/piers.dat": noise(f"piers {build}", 9_000),
            f"{top}/prefs/editor.ini": b"[Editor]\nformat = 1\ngrid = 5\n; larger for my eyes\nfont = 11\n",
        }
    top = "practice/quaywright-1.0"
    files[f"{top}/prefs/editor.ini"] = files[f"{top}/prefs/editor.ini"].replace(b"11", b"15")
    for name, (title, moorings) in _PROJECTS.items():
        files[f"{top}/projects/{name}.qwp"] = project(title, moorings, format_version=1)
    # What somebody saved once in each release, to see what changes.
    for version, folder in ((1, "1"), (2, "2")):
        title, moorings = _PROJECTS["short"]
        files[f"practice/samples/{folder}/short.qwp"] = project(
            title, moorings, format_version=version
        )
    return files


def project(title: str, moorings: Sequence[Mooring], *, format_version: int) -> bytes:
    """Return a project as Quaywright writes it: little endian, texts with their length in front."""
    out = b"QWRT" + struct.pack("<H", format_version)
    out += struct.pack("<B", len(title)) + title.encode() + struct.pack("<H", len(moorings))
    for name, feet, tide in moorings:
        out += name.encode().ljust(16, b"\0")
        if format_version == 1:
            out += struct.pack("<H", feet)
        else:
            out += struct.pack("<If", round(feet * 30.48), tide)
    return out
