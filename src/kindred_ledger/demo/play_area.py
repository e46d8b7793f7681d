"""The play area: an install of Mossferry 1.4 with months of somebody's work in it, and what is new.

    mossferry/            the install of 1.4: portable, so the user's files lie in its userdata
    second/mossferry/     a fresh install of 2.0
    longnight/            a fresh install of the variant Longnight, with its card beside the other
    downloads/            releases as archives, their index, and an expansion as a patch set
    runtimes/             two versions of a runtime that a later build needs
    server/               the dedicated server: binary voyages and worlds, tuning, tables
    handheld/             what the handheld edition keeps
    edits/                a ferry house: its releases, one that its owner edited, a mod of it
    modding/              Boathouse, which loads mods: twelve add-ons, broken ones, a pack, projects
    fens/                 a world of 300 regions, of one player and on a server, and what drops its content
    fleets/               a long game of an old build, and fresh games of the next one and of a variant
    practice/             a title that no card describes, for those who write their first one
    mossferry.card.toml   the card, and the layouts it names
    longnight.card.toml   the variant's card
    ledger/               an empty ledger, made by the first command

Everything is made from fixed seeds of its own names: the same files on every machine.
"""

from __future__ import annotations

import io
import os
import random
from importlib import resources

from ..patches import Base, MemoryFile, Output, make_patch_set, write_patch_set
from .boathouse_files import boathouse_files
from .fens_files import fens_files
from .ferryhouse_files import edits_files
from .fleets_files import fleets_files
from .practice import practice_files
from .releases import BUILDS, NEW_QUAYS, QUAYS, build_release, downloads, harbours, json, noise
from .server_files import LAYOUTS, server_files

__all__ = ["build_play_area", "write_own_install"]

_TIME = 1_780_000_000  # seconds; one moment for all, so that archives are the same everywhere
_A_MONTH = 30 * 86_400


def build_play_area(folder: str) -> None:
    """Build everything in `folder`, which must be empty or missing.

    Raises:
        FileExistsError: something is in the way.
    """
    os.makedirs(folder, exist_ok=True)
    if os.listdir(folder):
        raise FileExistsError(folder)
    for name in ("mossferry.card.toml", "longnight.card.toml", *LAYOUTS):
        _write(folder, name, resources.files(__package__).joinpath(name).read_bytes())
    for name, data in server_files().items():
        _write(folder, name, data)
    for name, data in edits_files().items():
        _write(folder, f"edits/{name}", data)
    for name, data in boathouse_files().items():
        _write(folder, f"modding/{name}", data)
    for name, data in fens_files().items():
        _write(folder, f"fens/{name}", data)
    for name, data in fleets_files().items():
        _write(folder, f"fleets/{name}", data)
    for name, data in practice_files().items():
        own = "/projects/" in name or (b"my eyes" in data and b"15" in data)
        _write(folder, name, data, later=_A_MONTH if own else 0)
    for name, data in downloads().items():
        _write(folder, f"downloads/{name}", data)
    for version in ("2.9", "3.2"):
        _write(
            folder, f"runtimes/tidewheel-{version}/release.txt", f"Tidewheel {version}\n".encode()
        )
    _write(folder, "downloads/wet-lantern.patches.zip", _expansion())
    for name, data in build_release("2.0").items():
        _write(folder, f"second/mossferry/{name}", data)
    write_own_install(folder, "mossferry")
    for name, data in _fresh_user_files().items():
        _write(folder, f"second/mossferry/{name}", data)
    for name, data in _longnight().items():
        _write(folder, f"longnight/{name}", data)
    for top in ("second/mossferry", "longnight"):
        os.makedirs(os.path.join(folder, *top.split("/"), "userdata", "saves"))


def write_own_install(folder: str, top: str) -> None:
    """Write the install of 1.4 with all that the person added and changed, below a folder."""
    for name, data in {**build_release("1.4"), **_belongings()}.items():
        _write(folder, f"{top}/{name}", data)


def _expansion() -> bytes:
    """Return the patch set of Wet Lantern: more harbours, on those of 1.4 or of 2.0, in two flavours."""
    quays = QUAYS + NEW_QUAYS
    bases = {
        Base(f"harbours of {build}", build): build_release(build)["data/harbours.json"]
        for build in BUILDS
    }
    outputs = {
        Output(name, notes=notes): harbours((*quays, *more))
        for name, more, notes in (
            ("short", ("Lantern Sound",), "One harbour more."),
            ("full", ("Lantern Sound", "Otter Pool", "The Wet Stair"), "Three harbours more."),
        )
    }
    made = make_patch_set(
        {base: MemoryFile("harbours.json", data) for base, data in bases.items()},
        {output: MemoryFile("harbours.json", data) for output, data in outputs.items()},
        title="mossferry",
        notes="Wet Lantern, an expansion.",
    )
    out = io.BytesIO()
    write_patch_set(out, *made)
    return out.getvalue()


def _longnight() -> dict[str, bytes]:
    """Return a fresh install of the variant, which stands on Mossferry 2.0."""
    plain = build_release("2.0")
    kept = {"portable.txt", "data/harbours.json", "data/tides.ini"}
    info = {"product": "longnight", "build": "2.0", "files": sorted(kept - {"portable.txt"})}
    return {
        **{name: data for name, data in plain.items() if name in kept},
        "longnight.py": plain["mossferry.py"],
        "version.txt": b"Longnight 1.1 on Mossferry build 2.0\n",
        "build.json": json(info),
        "data/stars.tile": noise("stars", 6_000),
        **_fresh_user_files(),
    }


def _belongings() -> dict[str, bytes]:
    """Return what the person added and changed in their install."""
    files = {
        "data/tides.ini": b"; how the water moves\r\n[Tides]\r\nspring = 3.10\r\nneap = 0.80\r\n",
        "mods/reedlight/mod.json": json(
            {
                "id": "reedlight",
                "name": "Reedlight",
                "version": "1.3",
                "for": "1.4",
                "builds": "1.4 - 2.0",
            }
        ),
        "mods/reedlight/reeds.dat": noise("reeds", 20_000),
        "mods/reedlight/reeds.cache": noise("what the game made of reeds", 900),
        "userdata/settings.ini": _SETTINGS,
        "userdata/controls.json": _CONTROLS,
    }
    for number in range(3):
        files[f"userdata/pictures/evening-{number}.ppm"] = b"P6 40 30 255\n" + noise(
            f"p{number}", 3600
        )
    files["userdata/saves/first-crossing.voyage"] = _old_voyage()
    for name, captain, weather in (
        ("eel-season", "Ines Marrow", "haar"),
        ("long-way-round", "Tobias Quill", "drizzle"),
        ("midwinter", "Ines Marrow", "clear"),
    ):
        files[f"userdata/saves/{name}.voyage"] = _voyage(name, captain, weather)
    return files


def _fresh_user_files() -> dict[str, bytes]:
    settings = b"[General]\r\nSettingsFormat = 2\r\n\r\n[Video]\r\nWidth = 1280\r\nDetail = 2\r\n"
    return {
        "userdata/settings.ini": settings,
        "userdata/controls.json": json({"format": 2, "bindings": {"cast_off": "C", "signal": "F"}}),
    }


_SETTINGS = b"""; Mossferry settings
; the long table in the tavern needs 2560
[General]
SettingsFormat = 1
Language = en

[Display]
Width = 2560
Height = 1080
Quality = high\x20\x20

[Sound]
Volume = 80
Midi = 1
""".replace(b"\n", b"\r\n")

_CONTROLS = b"""{
  // my own keys; the left hand stays on the wheel
  "format": 1,
  "keys": {
    "cast_off": "C",
    "moor":     "M",   // was X
    "lantern":  "L",
  },
}
"""


def _voyage(name: str, captain: str, weather: str) -> bytes:
    rng = random.Random(f"voyage {name}")
    voyage = {
        "format": 4,
        "build": "1.4",
        "captain": captain,
        "purse": rng.randrange(200, 90_000),
        "weather": weather,
        "ship": {
            "name": rng.choice(("Heron", "Bittern", "Marsh Lily")),
            "hull": rng.randrange(40, 100) / 100,
            "moored": True,
            "peat": rng.randrange(10, 900) / 4,
            "lantern_glow": rng.randrange(1, 9),
        },
        "crew": [
            {"id": n, "name": hand, "home": rng.randrange(1, len(QUAYS) + 1)}
            for n, hand in enumerate(rng.sample(("Ada", "Bo", "Cass", "Dov", "Esk", "Finn"), 4), 1)
        ],
        "cargo": {good: rng.randrange(0, 40) for good in ("reeds", "eels", "tallow", "letters")},
        "visited": [rng.randrange(1, len(QUAYS) + 1) for _ in range(30)],
        "log": [
            f"day {day}: {rng.choice(('fair', 'wet', 'fog on the water'))}" for day in range(12)
        ],
        "scratch": {"seed_hash": f"{rng.randrange(1 << 60):x}"},
    }
    return json(voyage)


def _old_voyage() -> bytes:
    """Return a voyage that was last saved with build 1.2."""
    return b"""{
  "format": 3,
  "build": "1.2",
  "captain": "Ines Marrow",
  "money": 310,
  "weather": "clear",
  "ship": {"name": "Duckling", "hull": 0.50, "moored": true, "peat": 7.0, "lantern_glow": 1},
  "crew": [{"id": 1, "name": "Bo"}],
  "cargo": {},
  "log": ["day 0: the first crossing, and nobody drowned"],
  "scratch": {"seed_hash": "5eed"}
}
"""


def _write(folder: str, name: str, data: bytes, *, later: int = 0) -> None:
    path = os.path.join(folder, *name.split("/"))
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "wb") as file:
        file.write(data)
    os.utime(path, (_TIME + later, _TIME + later))
