"""The files of Fleets: a long game of 1.4, and fresh games of 2.1 and of a variant, made by the programs.

fleets/old/       build 1.4 with long.fleet: 2,000 ferries, 40,000 hands and items of cargo, seven years old
fleets/new/       build 2.1 with fresh.fleet, which was just begun
fleets/night/     Night Fleets 1.0, a variant, with fresh.fleet
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from importlib import resources

from .releases import json

__all__ = ["fleets_files", "play", "release_files"]

_INSTALLS = {"old": ("Fleets", "1.4"), "new": ("Fleets", "2.1"), "night": ("Night Fleets", "1.0")}
_FARES = {
    "1.4": ({"peat": 4, "eels": 9, "letters": 2, "tallow": 7}, 3),
    "2.1": ({"peat": 6, "eels": 9, "letters": 3, "rope": 5}, 6),
    "1.0": ({"peat": 8, "lamps": 20, "letters": 3, "rope": 5}, 40),
}


def fleets_files() -> dict[str, bytes]:
    """Return the files of Fleets by their path below `fleets/`."""
    out = {
        name: _own(name) for name in ("fleets.card.toml", "nightfleets.card.toml", "fleet.layout")
    }
    for top, (name, build) in _INSTALLS.items():
        files = release_files(name, build)
        runs = [("--new", "fresh.fleet")] if top != "old" else [("--long", "long.fleet")]
        out |= {f"{top}/{path}": data for path, data in {**files, **play(files, *runs)}.items()}
    return out


def release_files(name: str, build: str) -> dict[str, bytes]:
    """Return the program of a build."""
    fares, storms = _FARES[build]
    program = (
        _own("fleets.py").replace(b"@BUILD@", build.encode()).replace(b"@NAME@", name.encode())
    )
    rows = [{"good": good, "price": price} for good, price in fares.items()]
    return {
        _program(name): program,
        "version.txt": f"{name} build {build}\n".encode(),
        "portable.txt": b"The games lie in userdata.\n",
        "data/fares.json": json({"fares": rows, "storms": storms}),
    }


def play(files: dict[str, bytes], *runs: tuple[str, ...]) -> dict[str, bytes]:
    """Return the games that runs of a program make, by their paths in its install."""
    with tempfile.TemporaryDirectory() as folder:
        for path, data in files.items():
            os.makedirs(os.path.dirname(os.path.join(folder, path)), exist_ok=True)
            with open(os.path.join(folder, path), "wb") as file:
                file.write(data)
        for run in runs:
            program = next(path for path in files if path.endswith(".py"))
            subprocess.run([sys.executable, program, *run], cwd=folder, check=True)
        saves = os.path.join(folder, "userdata", "saves")
        out = {}
        for name in sorted(os.listdir(saves)):
            with open(os.path.join(saves, name), "rb") as file:
                out[f"userdata/saves/{name}"] = file.read()
    return out


def _program(name: str) -> str:
    return f"{name.replace(' ', '').lower()}.py"


def _own(name: str) -> bytes:
    return resources.files(__package__).joinpath(name).read_bytes()
