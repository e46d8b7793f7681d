"""The files of The Fens: three builds, and a world of three hundred regions, made by no code of the library.

fens/game/        build 1.4 with the world northbog, of one player
fens/server/      the same as a dedicated server, with the world southbog
fens/releases/    builds 2.0 and 2.1
"""

from __future__ import annotations

import io
import random
import struct
import zipfile
import zlib
from importlib import resources

from .releases import json

__all__ = ["IDS", "fens_files", "release_files"]

_WIDE, _ROWS = 32, 4  # tiles of a region; blocks of eight rows
_REGIONS = (20, 15)
# What each build knows, and the number it has there. Numbers are given anew with every build.
_KNOWN_1_4 = (
    "bog:water", "bog:reed", "bog:peat", "bog:moss", "bog:quay", "bog:causeway", "bog:lantern",
    "bog:marker_stone", "bog:bench", "reedlight:bell", "reedlight:lamp", "reedlight:reedfire",
    "oldquay:crane", "oldquay:plank", "bog:heron_nest", "bog:eels", "bog:tallow", "bog:letters",
    "bog:rope", "oldquay:spice", "bog:oar", "bog:net", "bog:kiln", "bog:still_water",
)  # fmt: skip
_KNOWN_2_0 = (
    "bog:bench", "bog:boardwalk", "bog:eels", "bog:heron_nest", "bog:kiln", "bog:letters",
    "bog:marker_stone", "bog:moss", "bog:net", "bog:oar", "bog:oil_lantern", "bog:peat",
    "bog:peat_lantern", "bog:quay", "bog:reed", "bog:rope", "bog:sluice", "bog:stillwater", "bog:tallow",
    "bog:water", "bog:weir",
)  # fmt: skip
_KNOWN_2_1 = (
    *_KNOWN_2_0[:12],
    "reedlight:bell",
    "reedlight:lamp",
    *_KNOWN_2_0[12:],
    "bog:ferry_bell",
)
IDS: dict[str, dict[str, int]] = {
    "1.4": {name: number for number, name in enumerate(_KNOWN_1_4, 1)},
    "2.0": {name: number for number, name in enumerate(_KNOWN_2_0, 1)},
    "2.1": {name: number for number, name in enumerate(_KNOWN_2_1, 3)},
}
_OLD = IDS["1.4"]
_GROUND = ("bog:water", "bog:reed", "bog:peat", "bog:moss", "bog:still_water")
_WEIGHTS = (50, 25, 12, 10, 3)
_GOODS = ("bog:eels", "bog:tallow", "bog:letters", "bog:rope", "oldquay:spice", "bog:oar")
_STANDING = (
    "bog:lantern", "bog:bench", "bog:kiln", "reedlight:bell", "reedlight:lamp", "oldquay:crane",
    "bog:heron_nest",
)  # fmt: skip


def fens_files() -> dict[str, bytes]:
    """Return the files of The Fens by their path below `fens/`."""
    out = {"fens.card.toml": _own("fens.card.toml")}
    out |= {name: _own(name) for name in ("fen.layout", "deep.layout")}
    world = _world()
    for top, name in (("game", "northbog"), ("server", "southbog")):
        out |= {f"{top}/{path}": data for path, data in release_files("1.4").items()}
        out |= {f"{top}/userdata/worlds/{name}/{path}": data for path, data in world.items()}
    out["helpers/bellkeeper/bellkeeper.json"] = json({"id": "bellkeeper", "for": "1.4 to 2.0"})
    out["helpers/bellkeeper/bells.dat"] = random.Random("bells").randbytes(600)
    for build in ("2.0", "2.1"):
        out[f"releases/fens-{build}.zip"] = _zipped(build)
    return out


def release_files(build: str) -> dict[str, bytes]:
    """Return the program of a build."""
    program = _own("fens.py").replace(b"@BUILD@", build.encode())
    return {
        "fens.py": program,
        "version.txt": f"The Fens build {build}\n".encode(),
        "portable.txt": b"The worlds lie in userdata.\n",
        "data/ids.json": id_list(build),
    }


def id_list(build: str) -> bytes:
    """Return the id list of a build, as the program and its worlds have it."""
    rows = [{"id": number, "name": name} for name, number in IDS[build].items()]
    return json({"build": build, "things": rows})


def _own(name: str) -> bytes:
    return resources.files(__package__).joinpath(name).read_bytes()


def _zipped(build: str) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in release_files(build).items():
            archive.writestr(zipfile.ZipInfo(f"fens-{build}/{name}"), data)
    return out.getvalue()


def _world() -> dict[str, bytes]:
    """Return the files of a world of 1.4."""
    rng = random.Random("the fens")
    ground = rng.choices([_OLD[name] for name in _GROUND], _WEIGHTS, k=1 << 16)
    out: dict[str, bytes] = {"ids.json": id_list("1.4")}
    for z in range(_REGIONS[1]):
        for x in range(_REGIONS[0]):
            out[f"regions/r.{x}.{z}.fen"] = _region(x, z, ground, rng)
    for number in range(4):
        out[f"depths/d.{number}.deep"] = _depth(number, rng)
    for name, x, z in (("ada", 70, 65), ("tobias", 410, 300)):
        bag = [{"thing": _OLD[good], "amount": rng.randrange(1, 20)} for good in _GOODS[:4]]
        bag.append({"thing": _OLD["reedlight:reedfire"], "amount": 2})
        player = {"name": name, "x": x, "z": z, "coins": rng.randrange(900), "bag": bag}
        out[f"players/{name}.player.json"] = json(player)
    bell, lamp = _OLD["reedlight:bell"], _OLD["reedlight:lamp"]
    out["signals.txt"] = (
        f"# what rings when\ndusk: ring {bell} at 72,66\nfog: ring {lamp} at 100,40\n"
    ).encode()
    return out


def _region(x: int, z: int, ground: list[int], rng: random.Random) -> bytes:
    start = rng.randrange(len(ground) - _WIDE * _WIDE)
    tiles = ground[start : start + _WIDE * _WIDE]
    if (x + z) % 5 == 0:  # a street of planks, from the mod Old Quay
        tiles[64:96] = [_OLD["oldquay:plank"]] * 32
    if (x, z) == (2, 2):  # the ferry house
        tiles[33:40] = [_OLD["bog:quay"]] * 4 + [_OLD["bog:causeway"]] * 3
    things: list[tuple[int, int, int, str]] = []
    for _ in range(2):
        name = rng.choice(_STANDING)
        at = x * _WIDE + rng.randrange(_WIDE), z * _WIDE + rng.randrange(_WIDE)
        things.append((_OLD[name], *at, rng.choice(("", "", "", "ada", "tobias"))))
    if (x, z) == (2, 2):
        things.append((_OLD["reedlight:bell"], 72, 66, "ada"))
    stores = []
    if (x + 2 * z) % 7 == 0:
        goods = [(_OLD[good], rng.randrange(1, 40)) for good in rng.sample(_GOODS, 3)]
        stores.append((x * _WIDE + 5, z * _WIDE + 9, rng.choice(("ada", "tobias", "")), goods))
    body = struct.pack("<H", len(things))
    for thing, tx, tz, owner in things:
        body += struct.pack("<HiiB", thing, tx, tz, len(owner)) + owner.encode()
    body += struct.pack("<H", len(stores))
    for sx, sz, owner, goods in stores:
        body += struct.pack("<iiB", sx, sz, len(owner)) + owner.encode() + bytes((len(goods),))
        body += b"".join(struct.pack("<HH", *each) for each in goods)
    head = b"FENR" + struct.pack("<HhhH", 1, x, z, _ROWS)
    first = len(head) + 8 * _ROWS + len(body)
    index, blocks = b"", b""
    part = len(tiles) // _ROWS
    for row in range(_ROWS):
        if (x * 3 + z + row) % 11 == 0:  # nobody was there yet
            index += bytes(8)
            continue
        block = zlib.compress(struct.pack(f"<{part}H", *tiles[row * part : (row + 1) * part]), 9)
        index += struct.pack("<II", first + len(blocks), len(block))
        blocks += block
    data = head + index + body + blocks
    return data + struct.pack("<I", zlib.crc32(data))


def _depth(number: int, rng: random.Random) -> bytes:
    palette = [_OLD["bog:water"], _OLD["bog:peat"], _OLD["oldquay:plank"], _OLD["bog:moss"]]
    cells = bytes(rng.choices(range(3 + number % 2), k=_WIDE * _WIDE))
    return (
        b"FEND" + struct.pack("<HB", 1, len(palette)) + struct.pack(f"<{len(palette)}H", *palette)
        + struct.pack("<I", len(cells)) + cells
    )  # fmt: skip
