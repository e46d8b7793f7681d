"""What the tests of mods share: a title whose mods have every rule there is, and sound mods of it."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Mapping
from typing import Any

from kindred_ledger.cards import Card
from kindred_ledger.demo.boathouse_files import cover
from kindred_ledger.mods import ModCheck, check_mods
from tests.support import PEATBOG, Case, Contents, write

CARD = (
    PEATBOG
    + """
[[detect]]
file = "build.txt"
pattern = "{version}"

[update]
hides = [{ folder = "/program/override", over = "/program/data" }]

[mods.mods]
folders = ["/program/mods", "/program/shared"]
descriptor = ["mod.json", "about.json"]
codec = "json"
builds = { key = "builds" }
needs = { key = "needs" }
conflicts = { key = "conflicts" }
after = { key = "after" }
folder_name = "id"
parts = ["parts[*]"]
wants = "built"
built = ["*.dat"]
sources = ["*.draft"]
outputs = ["over"]
picture = { file = "cover.png", square = true, pixels = 8, size_bytes = 500 }
original = { file = "/program/data/own.json", key = "ids[*]" }
on = { file = "/program/on.json", key = "on" }

[[mods.mods.numbers]]
key = "pack"
label = true
required = true
builds = [{ builds = "<2.0", values = [3] }, { builds = ">=2.0", values = [4] }]

[[mods.mods.numbers]]
key = "level"
builds = [{ builds = "*", values = [1, 2] }]
"""
)
PACKED = CARD.replace('wants = "built"', 'wants = "built"\narchives = ["zip"]')
WRAPPED = PACKED.replace("archives =", "wrapped = true\narchives =")
FROM_SOURCES = CARD.replace('wants = "built"', 'wants = "sources"')


def mod(id: str = "reeds", **more: Any) -> dict[str, bytes]:
    """Return a sound mod, by path; None leaves a key out."""
    told = {"id": id, "name": id.title(), "version": "1.0", "pack": 3, "builds": "1.4", **more}
    kept = {key: value for key, value in told.items() if value is not None}
    return {
        "mod.json": json.dumps(kept).encode(),
        f"{id}.dat": f"the data of {id}".encode(),
        "cover.png": cover(8, 8),
    }


def at(folder: str, files: Mapping[str, bytes]) -> dict[str, Any]:
    """Return files as they lie in a folder."""
    return {f"{folder}/{path}": data for path, data in files.items()}


def zipped(files: Mapping[str, bytes]) -> bytes:
    """Return files as a zip archive."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for path, data in files.items():
            archive.writestr(path, data)
    return out.getvalue()


class ModsCase(Case):
    """A test with an install of a title with mods."""

    def title(self, contents: Contents, *, card: str = CARD, name: str = "games") -> Any:
        """Make an install of 1.4 and return it opened."""
        folder = self.path(name)
        whole = {"peat.exe": b"", "build.txt": b"1.4", "on.json": b'{"on": []}', **contents}
        write(folder, whole)
        write(self.folder, {"title.card.toml": card.encode()})
        return Card.load(self.path("title.card.toml")).open(folder)

    def check(self, contents: Contents, build: str = "", **options: Any) -> ModCheck:
        """Make an install, and check its mods."""
        core = options.pop("core", ())
        ledger = options.pop("ledger", None)
        return check_mods(self.title(contents, **options), build, core=core, ledger=ledger)


def codes(check: ModCheck) -> list[str]:
    """Return the codes of what was found."""
    return [finding.code for finding in check.findings]
