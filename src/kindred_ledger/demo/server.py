"""Mossferry's dedicated server, simulated: reads its binary files, tables and the handheld's.

Like the game it shares no code with the library and uses the standard library alone, so it judges
what the library reads and writes.

    python mossferry_server.py             load everything here; status 1 if something is refused
    python mossferry_server.py --read F    print what a file holds, as JSON
    python mossferry_server.py --upgrade F   print what the handheld of 2.1 makes of a .pocket file
"""

import json
import os
import struct
import sys
import zlib
from collections.abc import Callable
from typing import Any
from xml.etree import ElementTree

HERE = os.path.dirname(os.path.abspath(__file__))
WEATHER = ("clear", "drizzle", "haar")
WRITES = {3: ("1.2", "1.4"), 4: ("1.2", "1.4"), 5: ("2.0",), 6: ("2.1",)}  # builds, by format
SEASONS = ("thaw", "reed", "haar")


class Refused(Exception):
    """The server cannot load a file."""


class Reader:
    """Takes numbers and texts off the front of bytes."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.at = 0

    def take(self, count: int) -> bytes:
        part = self.data[self.at : self.at + count]
        if len(part) != count:
            raise Refused("it was cut short")
        self.at += count
        return part

    def number(self, form: str) -> Any:
        return struct.unpack("<" + form, self.take(struct.calcsize("<" + form)))[0]

    def text(self, form: str = "B") -> str:
        return self.take(self.number(form)).decode()


def shortest(value: float) -> float:
    """Return the shortest decimal that is the same number in 32 bits."""
    for digits in range(1, 10):
        text = f"{value:.{digits}g}"
        if struct.pack("<f", float(text)) == struct.pack("<f", value):
            return float(text)
    return value


def read_voyage(data: bytes) -> dict[str, Any]:
    reader = Reader(data)
    if reader.take(4) != b"MFSV":
        raise Refused("it is no voyage")
    number = reader.number("H")
    if not 3 <= number <= 6:
        raise Refused(f"voyage format {number}")
    if zlib.crc32(data[:-4]) != struct.unpack("<I", data[-4:])[0]:
        raise Refused("its checksum does not fit: it is damaged")
    out: dict[str, Any] = {"format": number, "build": reader.text(), "captain": reader.text()}
    if out["build"] not in WRITES[number]:
        raise Refused(f"build {out['build']} never wrote format {number}")
    out["money"] = reader.number("I" if number < 5 else "q")
    weather = reader.number("B")
    if weather >= len(WEATHER):
        raise Refused(f"weather {weather} is unknown")
    out["weather"] = WEATHER[weather]
    marks = reader.number("B")
    out["moored"], out["lantern"] = bool(marks & 1), bool(marks & 2)
    out["crew"] = []
    for _ in range(reader.number("H")):
        hand = {"id": reader.number("I"), "name": reader.take(16).split(b"\0")[0].decode()}
        if number >= 4:
            hand["home"] = reader.number("H")
        if number >= 5:
            hand["morale"] = shortest(reader.number("f"))
            if not 0 <= hand["morale"] <= 100:
                raise Refused(f"{hand['name']} has morale {hand['morale']}")
        out["crew"].append(hand)
    holds = Reader(zlib.decompress(reader.take(reader.number("I"))))
    out["goods"] = {holds.text(): holds.number("H") for _ in range(holds.number("H"))}
    out["log"] = [reader.text("H") for _ in range(reader.number("H"))]
    return out


def read_world(data: bytes) -> dict[str, Any]:
    reader = Reader(data)
    if reader.take(4) != b"MFWO":
        raise Refused("it is no world")
    number = reader.number("H")
    out: dict[str, Any] = {"format": number, "wide": reader.number("H"), "high": reader.number("H")}
    out["season"] = SEASONS[reader.number("B")] if number >= 2 else "reed"
    grounds = out["grounds"] = [reader.text() for _ in range(reader.number("H"))]
    places = [(reader.number("I"), reader.number("I")) for _ in range(reader.number("I"))]
    out["tiles"] = []
    for at, size in places:
        if not at:
            out["tiles"].append(None)
            continue
        raw = zlib.decompress(data[at : at + size])
        ids = list(struct.unpack(f"<{len(raw) // 2}H", raw))
        if max(ids) >= len(grounds):
            raise Refused(f"ground {max(ids)} is not in the list")
        out["tiles"].append(ids)
    return out


def read_tuning(data: bytes) -> dict[str, Any]:
    reader = Reader(data)
    number = reader.number("H") if reader.take(4) == b"MFTU" else 0
    if number not in (1, 2):
        raise Refused("it is no tuning of format 1 or 2")
    out: dict[str, Any] = {}
    for _ in range(reader.number("H")):
        name = reader.take(12).split(b"\0")[0].decode()
        at, size = reader.number("I"), reader.number("I")
        rows = Reader(data[at : at + size])
        out[name] = {}
        for _ in range(rows.number("H")):
            key = rows.text()
            out[name][key] = shortest(rows.number("f")) if number == 1 else rows.number("d")
            if number == 2:
                rows.text()  # the unit, which only people read
        if rows.at != size:
            raise Refused(f"{size - rows.at} bytes of {name} are nothing")
    return out


def read_tables(data: bytes) -> dict[str, Any]:
    root = ElementTree.fromstring(data)
    number = int(root.get("format", "1"))
    if number not in (1, 2) or (number == 2) != ("weather" in root.attrib):
        raise Refused(f"these are no tables of format {number}")
    return {
        "server": root.get("name"),
        "routes": {
            route.get("id"): [(s.get("quay"), seconds(s, number)) for s in route]
            for route in root.iter("route")
        },
    }


def seconds(stop: ElementTree.Element, number: int) -> int:
    """Return when a ferry is at a stop; tables tell it in minutes before format 2."""
    name, other = ("minutes", "seconds") if number == 1 else ("seconds", "minutes")
    if other in stop.attrib:
        raise Refused(f"a stop of format {number} has {other}")
    return int(stop.attrib[name]) * (60 if number == 1 else 1)


def read_pocket(data: bytes) -> Any:
    """Read the handheld's CBOR: small maps, lists, texts and numbers, no more."""

    def value(reader: Reader) -> Any:
        first = reader.number("B")
        major, low = first >> 5, first & 31
        if major == 7:
            if low in (26, 27):
                number = struct.unpack(">f" if low == 26 else ">d", reader.take(4 << low - 26))[0]
                return shortest(number) if low == 26 else number
            return {20: False, 21: True, 22: None}[low]
        if low > 23:
            low = int.from_bytes(reader.take(1 << (low - 24)), "big")
        if major == 3:
            return reader.take(low).decode()
        if major == 4:
            return [value(reader) for _ in range(low)]
        if major == 5:
            return {value(reader): value(reader) for _ in range(low)}
        return low if major == 0 else -1 - low

    return checked_pocket(value(Reader(data)))


def checked_pocket(pocket: dict[str, Any]) -> dict[str, Any]:
    kinds = POCKET.get(pocket["format"], {})
    for name in {*kinds, *pocket}:
        if name not in kinds or not isinstance(pocket.get(name), kinds[name]):
            raise Refused(f"{name} is not as format {pocket['format']} has it")
    if not 0 <= pocket["moor"] < len(QUAYS[2]):
        raise Refused(f"there is no harbour {pocket['moor']}")
    return pocket


# What the handheld's files hold, by format.
POCKET: dict[int, dict[str, Any]] = {
    2: {"format": int, "captain": str, "coins": int, "peat": (int, float), "crew": list, "at": str,
        "days": str, "moor": int},
    3: {"format": int, "first": str, "last": str, "pence": int, "peat": int, "crew": list, "x": int,
        "y": int, "days": int, "moor": int},
}  # fmt: skip
# How the handheld counts its harbours: as they were built, and by the alphabet since format 3.
QUAYS = {2: ("Ashwater", "Eelgate", "Cold Lantern", "Dunlin Steps"),
         3: ("Ashwater", "Cold Lantern", "Dunlin Steps", "Eelgate")}  # fmt: skip


def upgrade_pocket(pocket: dict[str, Any]) -> dict[str, Any]:
    """Return what the handheld of build 2.1 makes of its predecessor's file."""
    if int(pocket["days"]) < 0:
        raise Refused("the days are no number of days")
    new: dict[str, Any] = {"format": 3}
    new["first"], new["last"] = pocket["captain"].split(" ")
    new["pence"] = pocket["coins"] * 100
    new["peat"] = round(pocket["peat"] * 4)  # baskets, not sacks
    new["crew"] = sorted(pocket["crew"])
    new["x"], new["y"] = map(int, pocket["at"].split(","))
    new["days"] = int(pocket["days"])
    new["moor"] = QUAYS[3].index(QUAYS[2][pocket["moor"]])
    return new


READERS: dict[str, Callable[[bytes], Any]] = {
    ".mfsv": read_voyage, ".bog": read_world, ".bin": read_tuning, ".xml": read_tables,
    ".pocket": read_pocket,
}  # fmt: skip


def read(path: str) -> Any:
    with open(path, "rb") as file:
        data = file.read()
    try:
        return READERS[os.path.splitext(path)[1]](data)
    except (KeyError, ValueError, IndexError, struct.error, zlib.error) as fault:
        raise Refused(f"it is damaged: {fault}") from None
    except ElementTree.ParseError as fault:
        raise Refused(f"it is damaged: {fault}") from None


def check() -> int:
    print("Mossferry server")
    refused = 0
    for folder, folders, names in os.walk(HERE):
        folders.sort()
        for name in sorted(names):
            if os.path.splitext(name)[1] not in READERS:
                continue
            path = os.path.join(folder, name)
            shown = os.path.relpath(path, HERE).replace(os.sep, "/")
            try:
                read(path)
                print(f"  loaded   {shown}")
            except Refused as fault:
                refused += 1
                print(f"  refused  {shown}: {fault}")
    print("Everything loads." if not refused else f"{refused} files were refused.")
    return 1 if refused else 0


if __name__ == "__main__":
    if sys.argv[1:2] == ["--read"]:
        try:
            print(json.dumps(read(sys.argv[2]), indent=1))
        except Refused as fault:
            print(f"refused: {fault}")
            sys.exit(1)
    elif sys.argv[1:2] == ["--upgrade"]:
        try:
            print(json.dumps(upgrade_pocket(read(sys.argv[2])), indent=1))
        except Refused as fault:
            print(f"refused: {fault}")
            sys.exit(1)
    else:
        sys.exit(check())
