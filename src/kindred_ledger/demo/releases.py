"""The made-up releases of Mossferry: the files of each build, as archives, in parts, and their index.

Stable are 1.4 and 2.0; 2.1 is there as a preview, in three parts; between the stable ones came builds
without a version, which only the release server has. Everything is made from fixed seeds of its own
names: the same files on every machine.
"""

from __future__ import annotations

import io
import json as json_text
import random
import zipfile
from functools import cache
from importlib import resources

from blake3 import blake3

__all__ = [
    "BUILDS",
    "NEW_QUAYS",
    "QUAYS",
    "build_release",
    "downloads",
    "harbours",
    "json",
    "noise",
    "served",
]

BUILDS = ("1.4", "2.0")
DATES = {"1.4": "2026-03-12", "2.0": "2026-05-28", "2.1": "2026-10-01"}
UNTITLED = ("2026-04-02", "2026-04-19")
QUAYS = ("Ashwater", "Bracken Stage", "Cold Lantern", "Dunlin Steps", "Eelgate", "Fenwick Hythe")
NEW_QUAYS = ("Gannet Landing", "Heather Lock")
_TILES = 180
# The charts are mended between builds of the program: the last number is theirs.
_EDITIONS = {"2.0": "2.0.1"}


def build_release(build: str) -> dict[str, bytes]:
    """Return the files of an unmodified build by their path; one that is a date has no version."""
    untitled = build in UNTITLED
    program = resources.files(__package__).joinpath("game.py").read_bytes()
    quays = QUAYS if build == "1.4" else QUAYS + NEW_QUAYS
    files = {
        "mossferry.py": program.replace(b"@BUILD@", ("2.0" if untitled else build).encode()),
        "version.txt": b"Mossferry, unreleased\n"
        if untitled
        else f"Mossferry build {build}\n".encode(),
        "portable.txt": b"This install keeps your files in its own folder.\n",
        "data/harbours.json": harbours(quays),
        "data/tides.ini": b"; how the water moves\r\n[Tides]\r\nspring = 2.40\r\nneap = 1.10\r\n",
        "data/edition.txt": f"Charts, edition {_EDITIONS.get(build, build)}\n".encode(),
        "data/water/charts.cache": f"cold {build}\n".encode(),
    }
    for number in range(_TILES):
        since = "1.4" if number % 3 else build  # a third of the tiles is redrawn in each build
        files[f"data/tiles/{number:03}.tile"] = noise(f"tile {number} {since}", 6_000)
    if build == "1.4":
        for number in range(6):
            files[f"data/old_charts/{number}.chart"] = noise(f"chart {number}", 3_000)
    else:
        for number in range(8):
            files[f"data/lanterns/{number}.lamp"] = noise(f"lamp {number}", 2_000)
    listed = sorted(name for name in files if name.startswith("data/"))
    told = {} if untitled else {"build": build}
    files["build.json"] = json({"product": "mossferry", **told, "files": listed})
    for number in range(3 if build == "2.1" else 0):  # an optional part, which no build asks for
        files[f"data/chimes/{number}.tone"] = noise(f"tone {number}", 1_500)
    return files


def downloads() -> dict[str, bytes]:
    """Return what was downloaded: releases as zips, the preview in its parts, and an index of all."""
    files = {f"mossferry-{build}.zip": _zip(build_release(build), build) for build in BUILDS}
    files |= {f"parts/{name}": data for name, data in _parts("2.1").items()}
    rows = [
        _row(build, {f"mossferry-{build}.zip": files[f"mossferry-{build}.zip"]}) for build in BUILDS
    ]
    rows.append(_preview(files))
    files["releases.json"] = _index(rows)
    return files


def served() -> dict[str, bytes]:
    """Return what the release server has: the downloads, and builds without a version, on a page more."""
    files = downloads()
    files |= {
        f"untitled/mossferry-{date}.zip": _zip(build_release(date), date) for date in UNTITLED
    }
    rows = [
        _row(build, {f"mossferry-{build}.zip": files[f"mossferry-{build}.zip"]}) for build in BUILDS
    ]
    files["releases.json"] = _index([*rows, _preview(files)], pages=["untitled.json"])
    untitled = [
        _row(date, {f"untitled/mossferry-{date}.zip": files[f"untitled/mossferry-{date}.zip"]})
        for date in UNTITLED
    ]
    return {**files, "untitled.json": _index(untitled)}


def _preview(files: dict[str, bytes]) -> dict[str, object]:
    parts = {name: data for name, data in files.items() if name.startswith("parts/")}
    return {
        **_row("2.1", parts),
        "channel": "preview",
        "notes": "in parts; the chimes are optional",
    }


def _parts(build: str) -> dict[str, bytes]:
    """Return a build as three archives; each is wrapped in a folder of its own, as happens."""
    of: dict[str, dict[str, bytes]] = {"program": {}, "data": {}, "chimes": {}}
    for name, data in build_release(build).items():
        chimes = name.startswith("data/chimes/")
        of["chimes" if chimes else "data" if name.startswith("data/") else "program"][name] = data
    of["data"]["mossferry.py"] = of["program"]["mossferry.py"]  # two parts may hold one file alike
    return {f"mossferry-{build}-{part}.zip": _zip(files, build) for part, files in of.items()}


def _row(build: str, parts: dict[str, bytes]) -> dict[str, object]:
    told = {"date": build} if build in UNTITLED else {"version": build, "date": DATES[build]}
    return {**told, "parts": [_part(name, data) for name, data in parts.items()]}


def _part(name: str, data: bytes) -> dict[str, object]:
    part: dict[str, object] = {
        "file": name,
        "size": len(data),
        "digest": blake3(data).hexdigest(),
    }
    for kind, files in (
        ("program", ["*.py", "/version.txt", "/build.json", "/portable.txt"]),
        ("data", ["/data/", "!/data/chimes/"]),
        ("chimes", ["/data/chimes/"]),
    ):
        if name.endswith(f"-{kind}.zip"):
            part |= {"files": files} | ({"optional": True} if kind == "chimes" else {})
    return part


def _index(rows: list[dict[str, object]], pages: list[str] | None = None) -> bytes:
    index = {"kindred": "releases", "format": 1, "title": "mossferry", "releases": rows}
    return json({**index, "pages": pages} if pages else index)


def harbours(quays: tuple[str, ...]) -> bytes:
    """Return the file that lists harbours."""
    return json([{"id": n, "name": name} for n, name in enumerate(quays, 1)])


def json(value: object) -> bytes:
    """Return a value as JSON, as the game writes it."""
    return (json_text.dumps(value, indent=2) + "\n").encode()


@cache
def noise(name: str, size: int) -> bytes:
    """Return bytes that compress about as well as drawn data does."""
    rng = random.Random(name)
    return bytes(rng.choices(range(32), k=size))


def _zip(files: dict[str, bytes], build: str) -> bytes:
    """Return files as an archive, in a folder named for the build."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in sorted(files.items()):
            info = zipfile.ZipInfo(f"mossferry-{build}/{name}", (2026, 5, 28, 12, 0, 0))
            info.compress_type = zipfile.ZIP_DEFLATED
            info.external_attr = 0o100644 << 16
            archive.writestr(info, data)
    return out.getvalue()
