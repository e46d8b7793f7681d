"""Mossferry, simulated: a game about running ferries through a peat-bog archipelago.

This stands in for a real game. It shares no code with the library, reads its files with parsers of
its own, and so is the independent judge of what the library did: it loads what its build can load,
refuses what it cannot, and names each fault. A copy of this file, with its build filled in, is the
program of every install of the demo.

    python mossferry.py            load everything and say what was found; status 1 if refused
    python mossferry.py --run      keep running until standard input closes, like a game left open
    python mossferry.py --read F   print what a file of the player's holds, as JSON
    python mossferry.py --upgrade F N   print what the game itself makes of one, in format N
"""

import configparser
import json
import os
import re
import sys
import threading
import time
from collections.abc import Callable
from typing import Any

BUILD = "@BUILD@"
HERE = os.path.dirname(os.path.abspath(__file__))
# What each build can load, and the keys a voyage of that format must have.
CAN: dict[str, dict[str, Any]] = {
    "1.4": {"voyage": (3, 4), "settings": 1, "controls": 1},
    "2.0": {"voyage": (5,), "settings": 2, "controls": 2},
    "2.1": {"voyage": (5, 6), "settings": 2, "controls": 2},
}
# The builds that write a voyage of each format, and what of other formats is no part of it.
WRITES = {3: ("1.2", "1.3"), 4: ("1.2", "1.3", "1.4"), 5: ("2.0",), 6: ("2.1",)}
FOREIGN: dict[int, dict[str, tuple[str, ...]]] = {
    3: {"": ("purse", "coins", "journal"), "ship": ("stores",), "crew": ("home", "morale")},
    4: {"": ("money", "coins", "journal"), "ship": ("stores",), "crew": ("morale",)},
    5: {
        "": ("money", "purse", "journal"),
        "ship": ("peat", "lantern_glow"),
        "scratch": ("seed_hash",),
    },
    6: {"": ("money", "purse", "log"), "ship": ("peat", "lantern_glow"), "scratch": ("seed_hash",)},
}
KEYS: dict[int, dict[str, type]] = {
    3: {"captain": str, "money": int, "ship": dict, "crew": list},
    4: {"captain": str, "purse": int, "ship": dict, "crew": list},
    5: {"captain": str, "coins": int, "ship": dict, "crew": list, "log": list},
    6: {"captain": str, "coins": int, "ship": dict, "crew": list, "journal": list},
}
WEATHER = {
    "1.4": ("clear", "drizzle", "haar"),
    "2.0": ("clear", "rain", "fog"),
    "2.1": ("clear", "rain", "fog"),
}


class Refused(Exception):
    """The game cannot load a file."""


def load_json(path: str) -> Any:
    with open(path, encoding="utf-8-sig") as file:
        text = file.read()
    kept = re.sub(r'("(?:[^"\\]|\\.)*")|//[^\n]*|/\*.*?\*/', lambda m: m[1] or "", text, flags=re.S)
    kept = re.sub(r",(\s*[}\]])", r"\1", kept)
    try:
        return json.loads(kept)
    except ValueError as error:
        raise Refused(f"it is damaged: {error}") from None


def load_program() -> dict[int, str]:
    with open(os.path.join(HERE, "version.txt")) as file:
        text = file.read()
    info = load_json(os.path.join(HERE, "build.json"))
    build = info.get("build")  # a build that was never released has none
    if not (build is None and "unreleased" in text) and (
        f"build {BUILD}" not in text or build != BUILD
    ):
        raise Refused(f"mixed builds: program {BUILD}, version.txt {text!r}, build.json {build}")
    missing = [name for name in info["files"] if not os.path.exists(os.path.join(HERE, name))]
    if missing:
        raise Refused(f"{len(missing)} program files are missing, such as {missing[0]}")
    return {
        harbour["id"]: harbour["name"]
        for harbour in load_json(os.path.join(HERE, "data", "harbours.json"))
    }


def load_voyage(path: str, harbours: dict[int, str]) -> str:
    voyage = load_json(path)
    number = voyage.get("format")
    if number not in CAN[BUILD]["voyage"]:
        raise Refused(f"voyage format {number}; build {BUILD} loads {CAN[BUILD]['voyage']}")
    for key, kind in KEYS[number].items():
        if not isinstance(voyage.get(key), kind):
            raise Refused(f"{key} is missing or of the wrong kind")
    if voyage.get("build", WRITES[number][0]) not in WRITES[number]:
        raise Refused(f"build {voyage['build']} never wrote format {number}")
    for where, names in FOREIGN[number].items():
        parts = voyage["crew"] if where == "crew" else [voyage.get(where, {}) if where else voyage]
        strange = [name for name in names for part in parts if name in part]
        if strange:
            raise Refused(f"it would strip {where or 'the voyage'} of {', '.join(strange)}")
    for hand in voyage["crew"]:
        if number > 3 and hand["home"] not in harbours:
            raise Refused(
                f"{hand['name']} comes from harbour {hand['home']}, which is not on the chart"
            )
        if number >= 5 and not 0 <= hand["morale"] <= 100:
            raise Refused(f"{hand['name']} has morale {hand['morale']}")
    ship = voyage["ship"]
    peat = ship["stores"]["peat"] if number >= 5 else ship["peat"]
    if voyage["weather"] not in WEATHER[BUILD]:
        raise Refused(f"weather {voyage['weather']!r} is unknown in {BUILD}")
    money = voyage.get("coins", voyage.get("purse", voyage.get("money")))
    hands = len(voyage["crew"])
    return f"{voyage['captain']} on the {ship['name']}, {money} coins, {peat} peat, crew of {hands}"


def load_settings(path: str) -> str:
    parser = configparser.ConfigParser(interpolation=None)
    parser.optionxform = str  # type: ignore[method-assign, assignment]
    with open(path, encoding="utf-8-sig") as file:
        parser.read_file(file)
    number = int(parser["General"]["SettingsFormat"])
    if number != CAN[BUILD]["settings"]:
        raise Refused(f"settings format {number}; build {BUILD} would throw your settings away")
    section, key = ("Display", "Quality") if number == 1 else ("Video", "Detail")
    foreign = ("Ambience",) if number == 1 else ("Midi",)
    if parser.has_section("Sound") and any(name in parser["Sound"] for name in foreign):
        raise Refused(f"it would strip the sound of {foreign[0]}")
    return f"{parser[section]['Width']} wide, {key.lower()} {parser[section][key]}"


def load_controls(path: str) -> str:
    controls = load_json(path)
    if controls["format"] != CAN[BUILD]["controls"]:
        raise Refused(f"controls format {controls['format']}; build {BUILD} would reset your keys")
    keys = controls["bindings"] if controls["format"] > 1 else controls["keys"]
    return f"{len(keys)} keys bound"


def read(path: str) -> Any:
    """Return what a file holds: a voyage or controls, or sections of settings."""
    if not path.endswith(".ini"):
        return load_json(path)
    parser = configparser.ConfigParser(interpolation=None)
    parser.optionxform = str  # type: ignore[method-assign, assignment]
    with open(path, encoding="utf-8-sig") as file:
        parser.read_file(file)
    return {name: dict(parser[name]) for name in parser.sections()}


def upgrade(path: str, to: int) -> Any:
    """Return what newer builds make of an older file; there is no way back in the game."""
    data = read(path)
    if path.endswith(".ini"):
        return upgrade_settings(data)
    if "keys" in data:
        bindings = {**data.pop("keys")}
        return {
            **data,
            "format": 2,
            "bindings": {**bindings, "signal": bindings.get("signal", "F")},
        }
    if data["format"] == 3 and to > 3:
        data["purse"] = data.pop("money")
        for hand in data["crew"]:
            hand.setdefault("home", 1)
        data["format"] = 4
    if data["format"] == 4 and to > 4:
        ship = data["ship"]
        if not ship["moored"]:
            raise Refused("the ship is at sea")
        data["coins"] = data.pop("purse")
        ship["stores"] = {"peat": ship.pop("peat")}
        ship.pop("lantern_glow", None)
        data["weather"] = dict(zip(WEATHER["1.4"], WEATHER["2.0"], strict=True))[data["weather"]]
        for hand in data["crew"]:
            hand["morale"] = 50
        data.get("scratch", {}).pop("seed_hash", None)
        data["format"], data["build"] = 5, "2.0"
    if data["format"] == 5 and to > 5:
        data["journal"] = data.pop("log")
        data["format"], data["build"] = 6, "2.1"
    return data


def upgrade_settings(data: dict[str, dict[str, str]]) -> dict[str, dict[str, str]]:
    video = data.pop("Display")
    video["Detail"] = str(("low", "medium", "high").index(video.pop("Quality").strip()) + 1)
    data["Video"] = video
    data["Sound"].pop("Midi", None)
    data["Sound"]["Ambience"] = "70"
    data["General"]["SettingsFormat"] = "2"
    return data


def load_mod(folder: str) -> str:
    """Load a mod: a pack, whose things lie in assets since 2.1."""
    mod = load_json(os.path.join(folder, "mod.json"))
    wanted = 2 if BUILD == "2.1" else 1
    if mod.get("pack", 1) != wanted:
        raise Refused(f"mods of pack {mod.get('pack', 1)}; build {BUILD} loads {wanted}")
    if mod.get("for") not in (("2.1",) if wanted == 2 else ("1.2", "1.3", "1.4", "2.0")):
        raise Refused(f"it is made for {mod.get('for')}, this is {BUILD}")
    if wanted == 2 and any(name.endswith(".cache") for name in os.listdir(folder)):
        raise Refused("what an older build made of it is still in it")
    things = os.path.join(folder, "assets") if wanted == 2 else folder
    if not os.path.isdir(things) or not any(n.endswith(".dat") for n in os.listdir(things)):
        raise Refused("nothing is in it")
    return str(mod["name"])


def check() -> int:
    print(f"Mossferry {BUILD}")
    try:
        harbours = load_program()
    except Refused as fault:
        print(f"  does not start: {fault}")
        return 1
    user = os.path.join(HERE, "userdata")
    saves = os.path.join(user, "saves")
    jobs: list[tuple[str, Callable[[str], str]]] = [
        ("settings.ini", load_settings),
        ("controls.json", load_controls),
    ]
    if os.path.isdir(saves):
        for name in sorted(os.listdir(saves)):
            jobs.append((f"saves/{name}", lambda path: load_voyage(path, harbours)))
    refused = 0
    for name, load in jobs:
        path = os.path.join(user, *name.split("/"))
        if not os.path.exists(path):
            continue
        try:
            print(f"  loaded   {name}: {load(path)}")
        except (Refused, KeyError) as fault:
            refused += 1
            print(f"  refused  {name}: {fault}")
    mods = os.path.join(HERE, "mods")
    for name in sorted(os.listdir(mods)) if os.path.isdir(mods) else ():
        print(f"  mod      {load_json(os.path.join(mods, name, 'mod.json'))['name']}")
    print("Everything loads." if not refused else f"{refused} files were refused.")
    return 1 if refused else 0


def run() -> int:
    """Stay open: watch the program's folder and warm the chart cache again when it changes."""
    cache = os.path.join(HERE, "data", "water", "charts.cache")
    with open(cache, "rb") as file:
        cold = file.read()
    closed = threading.Event()

    def wait_for_the_end() -> None:
        sys.stdin.read()
        closed.set()

    threading.Thread(target=wait_for_the_end, daemon=True).start()
    print(f"Mossferry {BUILD} is running", flush=True)
    seen, warmed = os.stat(HERE).st_mtime_ns, 0
    while not closed.is_set():
        now = os.stat(HERE).st_mtime_ns
        if now != seen:
            seen, warmed = now, warmed + 1
            with open(cache, "wb") as out:
                out.write(b"warm %d\n" % warmed + cold)
        time.sleep(0.001)
    with open(cache, "wb") as out:
        out.write(cold)
    return 0


if __name__ == "__main__":
    if sys.argv[1:2] in (["--read"], ["--upgrade"]):
        try:
            told = (
                read(sys.argv[2])
                if sys.argv[1] == "--read"
                else upgrade(sys.argv[2], int(sys.argv[3]))
            )
        except Refused as fault:
            sys.exit(f"refused: {fault}")
        print(json.dumps(told, indent=1))
        sys.exit(0)
    sys.exit(run() if "--run" in sys.argv[1:] else check())
