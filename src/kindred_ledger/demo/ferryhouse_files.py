"""The ferry house: its releases, one of 1.3 that its owner edited, and a mod of a build without a number."""

from __future__ import annotations

import io
import random
import struct
import zipfile
from importlib import resources

__all__ = ["edits_files"]

_QUAYS = (
    "Ashwater", "Cold Lantern", "Dunlin Steps", "Eelgate", "Fenwick Hythe", "Gannet Landing",
    "Heather Lock", "Islip Stairs", "Jackdaw Reach", "Kelpie Wharf", "Lych Mooring", "Marsh End",
)  # fmt: skip
_GOODS = ("reeds", "eels", "tallow", "letters", "peat", "salt", "lamp oil", "rope")
_REACHES = 24
_TIME = (2026, 1, 10, 12, 0, 0)


def edits_files() -> dict[str, bytes]:
    """Return the files below `edits/` in the play area, by their paths."""
    own = resources.files(__package__)
    files = {
        name: own.joinpath(name).read_bytes()
        for name in ("ferryhouse.card.toml", "currents.layout")
    }
    for build in ("1.3", "1.4", "2.0"):
        files[f"downloads/ferryhouse-{build}.zip"] = _zipped(f"ferryhouse-{build}", release(build))
    files["downloads/ferryhouse-2026-02-10.zip"] = _zipped(
        "ferryhouse", release("1.3", unnamed=True)
    )
    files |= {f"ferryhouse/{name}": data for name, data in owners().items()}
    files["quick-currents/data/currents.bin"] = _currents(unnamed=True, quick=True)
    return files


def release(build: str, *, unnamed: bool = False) -> dict[str, bytes]:
    """Return the files of a release of the ferry house; `unnamed` is one between 1.3 and 1.4."""
    own = resources.files(__package__)
    return {
        "ferryhouse.py": own.joinpath("ferryhouse.py").read_bytes(),
        "version.txt": (
            "Ferry house, night build\n" if unnamed else f"Ferry house {build}\n"
        ).encode(),
        "tables/quays.xml": _quays(build),
        "tables/goods.xml": _goods(build),
        "config/house.ini": _config(build),
        "notice.txt": _notice(build),
        "data/currents.bin": _currents(unnamed=unnamed, later=build != "1.3"),
        "data/bell.wav": random.Random(f"bell {build >= '2'}").randbytes(2000),
    }


def owners() -> dict[str, bytes]:
    """Return a server of 1.3 as its owner has it: months of small edits, none of them written down."""
    files = release("1.3")
    text = {name: files[name].decode() for name in ("tables/quays.xml", "tables/goods.xml")}
    quays = text["tables/quays.xml"]
    quays = quays.replace('quays="12"', 'quays="13" owner="Ada Quill"')
    quays = _line(quays, 'id="3"', lambda line: line.replace('fare="5"', 'fare="2"'))
    quays = _line(
        quays,
        'id="9"',
        lambda line: f'{line}  <quay id="40" name="Quill Steps" fare="1" boats="6"/>\n',
    )
    goods = text["tables/goods.xml"]
    goods = _line(goods, 'id="peat"', lambda line: line.replace('price="12"', 'price="9"'))
    goods = _line(goods, 'id="reeds"', lambda line: line.replace('price="4"', 'price="6"'))
    config = files["config/house.ini"].decode().replace("slots = 12", "; we are many\nslots = 24")
    notice = files["notice.txt"].decode().replace("No peat on deck.", "No peat on deck, Tobias!")
    return {
        **files,
        "tables/quays.xml": quays.encode(),
        "tables/goods.xml": goods.encode(),
        "config/house.ini": config.encode(),
        "notice.txt": notice.encode(),
        "worlds/northbog.bog": random.Random("northbog").randbytes(5000),
    }


def _line(text: str, mark: str, change) -> str:  # type: ignore[no-untyped-def]
    """Change the line of a text that holds a mark."""
    return "".join(
        change(line) if mark in line else line for line in text.splitlines(keepends=True)
    )


def _quays(build: str) -> bytes:
    new = build >= "2"
    price = "toll" if new else "fare"
    rows = [
        (str(number), name, 3 + number % 4 if number != 3 else 5, 2 + number % 3)
        for number, name in enumerate(_QUAYS, 1)
    ]
    if new:
        rows = [("0", "Old Sluice", 4, 1), *rows]
        rows = [(i, n, fare, 3 if i == "3" else boats) for i, n, fare, boats in rows]
        rows = [(i, "Dunlin Stairs" if i == "2" else n, f, b) for i, n, f, b in rows]
    body = "".join(
        f'  <quay id="{i}" name="{name}" {price}="{fare}" boats="{boats}"/>\n'
        for i, name, fare, boats in rows
    )
    head = f'<quays format="{2 if new else 1}" quays="{len(rows)}">'
    return f"{head}\n  <!-- what a crossing costs, in pence -->\n{body}</quays>\n".encode()


def _goods(build: str) -> bytes:
    prices = dict(zip(_GOODS, ("4", "7", "9", "2", "12", "5", "8", "3"), strict=True))
    if build >= "1.4":
        prices |= {"eels": "8", "salt": "6"}
    if build >= "2":
        prices |= {"reeds": "5", "rope": "4", "honey": "11"}
    body = "".join(
        f'  <good id="{name}" price="{price}" at="{1 + number % 6}"/>\n'
        for number, (name, price) in enumerate(prices.items())
    )
    form = 2 if build >= "2" else 1
    return f'<goods format="{form}">\n{body}</goods>\n'.encode()


def _config(build: str) -> bytes:
    more = "bell = yes\n" if build >= "2" else ""
    return f"[house]\nname = Ferry house\nslots = 12\n{more}\n[tides]\nspring = 2.40\nneap = 1.10\n".encode()


def _notice(build: str) -> bytes:
    lines = [
        "Mind the step.", "No peat on deck.", "Lanterns are lit at dusk.", "Eels travel in buckets.",
        "The bell rings twice.",
    ]  # fmt: skip
    if build >= "2":
        lines = ["Welcome to the ferry house.", *lines[:4], "The bell rings three times."]
    return "".join(f"{line}\n" for line in lines).encode()


def _currents(*, unnamed: bool = False, later: bool = False, quick: bool = False) -> bytes:
    draw = random.Random("currents")
    rows = []
    for number in range(1, _REACHES + 1):
        pull, depth = round(draw.uniform(0.5, 4.0), 2), draw.randrange(20, 400)
        if (unnamed or later) and number % 5 == 0:
            depth += 7  # the build without a number dredged some reaches
        if later and number % 4 == 0:
            pull = round(pull + 0.25, 2)
        if quick and number in (3, 11):
            pull = round(pull * 2, 2)
        name = f"reach {number}".encode()
        rows.append(struct.pack("<HB", number, len(name)) + name + struct.pack("<fH", pull, depth))
    return b"MFCU" + struct.pack("<HH", 1, len(rows)) + b"".join(rows)


def _zipped(top: str, files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in sorted(files.items()):
            archive.writestr(zipfile.ZipInfo(f"{top}/{name}", _TIME), data)
    return out.getvalue()
