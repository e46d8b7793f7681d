"""The files about mods: Boathouse with twelve add-ons, mods that are broken, a pack that is far too large.

    modding/boathouse/          Boathouse for 1.4, with twelve add-ons; five of them are a core set
    modding/boathouse-2.0/      a fresh one for 2.0
    modding/broken/             mods as people place them by hand, broken in seven ways
    modding/downloads/          a newer release of one add-on
    modding/quaywright/         projects whose libraries moved; see `quaywright_files`
    modding/packs/dusk/         a pack: 200 files, of which six are its own

All from fixed seeds of its own names: the same files on every machine.
"""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from collections.abc import Mapping
from importlib import resources
from typing import Any

from .quaywright_files import quaywright_files
from .releases import build_release, json, noise

__all__ = ["CORE", "boathouse_files", "cover"]

CORE = ("peatlib", "tidelib", "ropes", "lanterns", "quaykit")
_MOMENT = (2026, 5, 28, 12, 0, 0)
_OWN_TILES = (
    2  # of the pack; with the sky, the tides, the descriptor and the cover six files are its own
)

# The twelve: id, name players see, what it says of builds, and more of its descriptor.
_ADDONS: tuple[tuple[str, str, Any, Mapping[str, Any]], ...] = (
    ("peatlib", "Peat Library", "1.4 - 2.0", {}),
    ("tidelib", "Tide Library", "1.4 - 2.0", {"needs": ["peatlib"]}),
    ("ropes", "Better Ropes", "1.4+", {"needs": ["peatlib >=1.0"]}),
    ("lanterns", "Lantern Kit", ["1.4", "2.0"], {"needs": ["ropes"]}),
    ("quaykit", "Quay Kit", ">=1.4,<2.1", {"needs": ["ropes", "tidelib"]}),
    ("reedlight", "Reedlight", "1.4+", {"needs": ["lanterns"]}),
    ("heron-song", "Song of the Heron", ">=1.4,<2.1", {"after": ["reedlight"]}),
    ("bog-mist", "Bog Mist", "1.4", {"needs": ["tidelib"]}),
    ("old-charts", "Old Charts", "1.2 - 1.4", {}),
    ("eel-market", "Eel Market", "1.4 - 2.0", {"needs": ["old-charts"]}),
    ("gull-cries", "Gull Cries", "~1.4", {}),
    ("otter-pool", "Otter Pool", None, {}),
)


def boathouse_files() -> dict[str, bytes]:
    """Return all of `modding/`, by path."""
    program = resources.files(__package__).joinpath("boathouse.py").read_bytes()
    card = resources.files(__package__).joinpath("boathouse.card.toml").read_bytes()
    files = {"boathouse.card.toml": card}
    for top, build in (("boathouse", "1.4"), ("boathouse-2.0", "2.0")):
        files[f"{top}/boathouse.py"] = program
        files[f"{top}/version.txt"] = f"Boathouse for Mossferry build {build}\n".encode()
    files["boathouse-2.0/mods.json"] = json({"on": []})
    for id, name, builds, more in _ADDONS:
        for path, data in _addon(id, name, "1.3", builds, more).items():
            files[f"boathouse/mods/{id}/{path}"] = data
    files["boathouse/mods.json"] = json({"on": [id for id, *_ in _ADDONS if id != "gull-cries"]})
    newer = _addon("bog-mist", "Bog Mist", "2.0", ["2.0"], {"needs": ["tidelib"], "pack": 4})
    files["downloads/bog-mist-2.0.zip"] = _zip(newer)
    return {**files, **_broken(), **_pack(), **quaywright_files()}


def _addon(
    id: str, name: str, version: str, builds: Any, more: Mapping[str, Any]
) -> dict[str, bytes]:
    told = {"id": id, "name": name, "version": version, "pack": 3}
    told |= {"builds": builds} if builds is not None else {}
    part = f"{id}.dat"
    files = {
        "mod.json": json({**told, "parts": [part], **more}),
        part: noise(f"{id} {version}", 4_000),
    }
    return files if id == "tidelib" else {**files, "cover.png": cover(64, 64)}


def _broken() -> dict[str, bytes]:
    """Return mods broken in seven ways: each is one that people make by hand."""
    files: dict[str, bytes] = {}

    def put(folder: str, id: str, name: str, **more: Any) -> dict[str, bytes]:
        made = _addon(id, name, "1.0", "1.4 - 2.0", more)
        files.update({f"broken/{folder}/{path}": data for path, data in made.items()})
        return made

    put("reed-markers/reed-markers", "reed-markers", "Reed Markers")  # a folder in a folder
    put("lights and mist/bog-lights", "bog-lights", "Bog Lights")  # two mods in one folder
    put("lights and mist/bog-mist", "bog-mist", "Bog Mist")
    put("old-lamps (copy)", "lamps", "Old Lamps")  # a folder that was renamed
    put("tollkeeper", "tollkeeper", "The Tollkeeper")  # a descriptor of another case
    files["broken/tollkeeper/Mod.JSON"] = files.pop("broken/tollkeeper/mod.json")
    put("quay-signs", "quay-signs", "Quay Signs", pack="3")  # a number that is text
    put("heron", "heron", "The Heron", parts=["heron.dat"])  # a part of another case
    files["broken/heron/Heron.DAT"] = files.pop("broken/heron/heron.dat")
    bell = _addon("ferry-bell", "Ferry Bell", "1.1", "1.4 - 2.0", {})
    files["broken/ferry-bell.zip"] = _zip({f"ferry-bell/{p}": d for p, d in bell.items()})  # packed
    return files


def _pack() -> dict[str, bytes]:
    """Return a pack that was made by copying everything, and changing six files of it."""
    plain = build_release("1.4")
    tiles = [path for path in sorted(plain) if path.startswith("data/tiles/")]
    charts = [path for path in sorted(plain) if path.startswith("data/old_charts/")]
    files = {path.removeprefix("data/"): plain[path] for path in (*tiles, *charts)}
    for path in tiles[:_OWN_TILES]:
        files[path.removeprefix("data/")] = noise(f"dusk {path}", 6_000)
    # The same harbours, written by another program; and tides that are its own.
    files["harbours.json"] = plain["data/harbours.json"].replace(b"\n", b"\r\n") + b"\r\n"
    files["tides.ini"] = b"[Tides]\r\nspring = 3.00\r\nneap = 1.10\r\n"
    files["edition.txt"] = plain["data/edition.txt"]
    files["tiles/dusk-sky.tile"] = noise("dusk sky", 6_000)
    files |= {f"tiles/{number:03}.tile.bak": noise(f"bak {number}", 900) for number in range(7)}
    files["Thumbs.db"] = noise("thumbs", 700)
    files["mod.json"] = json(
        {"id": "dusk", "name": "Dusk", "version": "0.9", "pack": 3, "builds": "1.4"}
    )
    files["cover.png"] = cover(96, 96)
    return {f"packs/dusk/{path}": data for path, data in files.items()}


def _zip(files: Mapping[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for path, data in sorted(files.items()):
            archive.writestr(zipfile.ZipInfo(path, _MOMENT), data, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def cover(width: int, height: int) -> bytes:
    """Return a picture of one colour as PNG (ISO/IEC 15948)."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return (
            struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
        )

    lines = b"".join(b"\0" + b"\x4a\x5d\x4e" * width for _ in range(height))
    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", head)
        + chunk(b"IDAT", zlib.compress(lines, 9))
        + chunk(b"IEND", b"")
    )
