"""Boathouse, simulated: it loads the mods of Mossferry, and shares no code with the library.

It stands in for the part of a game that mods go through, and is the independent judge of what the library
did to them: it loads what its build can load, in the order of its list, and names each fault.

    python boathouse.py             load the mods that are on; status 1 if one is refused
    python boathouse.py --all DIR   load every mod of a folder, whatever the list says
    python boathouse.py --tidy      what its launcher does: delete the mods that have no cover
"""

import json
import os
import re
import shutil
import sys
from typing import Any

HERE = os.path.dirname(os.path.abspath(__file__))
PACKS = {"1.4": (3,), "2.0": (3, 4)}


class Refused(Exception):
    """A mod cannot be loaded."""


def build() -> str:
    with open(os.path.join(HERE, "version.txt")) as file:
        return file.read().split()[-1]


def number(text: str) -> tuple[int, ...]:
    return tuple(int(part) for part in text.strip().split("."))


def is_for(said: Any, wanted: str) -> bool:
    """Read what a mod says of builds: a list, `1.4 - 2.0`, `1.4+` or `>=1.4,<2.0`."""
    this = number(wanted)
    if isinstance(said, list):
        return any(is_for(each, wanted) for each in said)
    if match := re.fullmatch(r"([\d.]+) - ([\d.]+)", said):
        return number(match[1]) <= this <= number(match[2])
    if match := re.fullmatch(r"([\d.]+)\+", said):
        return number(match[1]) <= this
    if match := re.fullmatch(r">=([\d.]+),<([\d.]+)", said):
        return number(match[1]) <= this < number(match[2])
    if re.fullmatch(r"[\d.]+", said):
        return number(said) == this
    raise Refused(f"nobody knows what {said!r} means")


def load(folder: str, wanted: str) -> dict[str, Any]:
    """Load one mod by itself."""
    name = os.path.basename(folder)
    if not os.path.isdir(folder):
        raise Refused("it is no folder")
    if "mod.json" not in os.listdir(folder):
        raise Refused("there is no mod.json in it")
    try:
        with open(os.path.join(folder, "mod.json"), encoding="utf-8") as file:
            mod: dict[str, Any] = json.load(file)
    except ValueError as error:
        raise Refused(f"its mod.json is damaged: {error}") from None
    if mod["id"] != name:
        raise Refused(f"it calls itself {mod['id']}")
    if type(mod.get("pack")) is not int or mod["pack"] not in PACKS[wanted]:
        raise Refused(f"its pack is {mod.get('pack')!r}; {wanted} loads {PACKS[wanted]}")
    if "builds" in mod and not is_for(mod["builds"], wanted):
        raise Refused(f"it is made for {mod['builds']}")
    for part in mod.get("parts", ()):
        if part not in os.listdir(folder):
            raise Refused(f"{part} is missing")
    if not any(each.endswith(".dat") for each in os.listdir(folder)):
        raise Refused("nothing is in it")
    return mod


def main(arguments: list[str]) -> int:
    wanted = build()
    print(f"Boathouse for Mossferry build {wanted}")
    mods = os.path.join(HERE, "mods")
    if arguments[:1] == ["--tidy"]:
        for name in sorted(os.listdir(mods)):
            if "cover.png" not in os.listdir(os.path.join(mods, name)):
                shutil.rmtree(os.path.join(mods, name))
                print(f"  deleted  {name}, which has no cover")
        return 0
    if arguments[:1] == ["--all"]:
        mods = arguments[1]
        names = sorted(os.listdir(mods))
    else:
        with open(os.path.join(HERE, "mods.json"), encoding="utf-8") as file:
            names = json.load(file)["on"]
    loaded: dict[str, dict[str, Any]] = {}
    refused = 0
    for name in names:
        try:
            mod = load(os.path.join(mods, name), wanted)
            for need in mod.get("needs", ()):
                if need.split()[0] not in loaded and arguments[:1] != ["--all"]:
                    raise Refused(f"{need} is not loaded before it")
            for other in mod.get("conflicts", ()):
                if other in loaded:
                    raise Refused(f"it does not work with {other}")
        except (Refused, KeyError, OSError) as fault:
            refused += 1
            print(f"  refused  {name}: {fault}")
        else:
            loaded[name] = mod
            print(f"  loaded   {mod['name']} {mod['version']}")
    print("Everything loads." if not refused else f"{refused} mods were refused.")
    return 1 if refused else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
