"""Quaywright, simulated: the route editor of Mossferry; it shares no code with the library.

It is the independent judge of what the library did to projects: it opens one only if every library is where
the project says, every element is a part of its library, every parameter is known, and every link leads
somewhere.

    python quaywright.py PROJECT...   open projects; status 1 if one is refused
"""

import json
import os
import sys
from typing import Any


class Refused(Exception):
    """A project cannot be opened."""


def load(path: str) -> Any:
    try:
        with open(path, encoding="utf-8") as file:
            return json.load(file)
    except (OSError, ValueError) as error:
        raise Refused(f"{path}: {error}") from None


def open_project(path: str) -> str:
    project = load(path)
    libraries: dict[str, dict[str, Any]] = {}
    for entry in project["libraries"]:
        library = load(os.path.join(os.path.dirname(path), *entry["file"].split("/")))
        if (library["name"], library["version"]) != (entry["name"], entry["version"]):
            raise Refused(f"{entry['id']} is {library['name']} {library['version']}")
        libraries[entry["id"]] = library["parts"]
    things = [*project["elements"], *project["generators"]]
    ids = [thing["id"] for thing in things]
    if len(set(ids)) < len(ids):
        raise Refused("an id is there twice")
    for thing in things:
        if thing["library"] not in libraries:
            raise Refused(f"{thing['id']} is of {thing['library']}, which the project does not use")
        part = libraries[thing["library"]].get(thing["part"])
        if part is None:
            raise Refused(f"{thing['id']}: {thing['library']} has no {thing['part']}")
        for name, value in thing["set"].items():
            if name not in part["parameters"]:
                raise Refused(f"{thing['id']}: {thing['part']} has no {name}")
            if type(value) is not type(part["parameters"][name]["default"]):
                raise Refused(f"{thing['id']}: {name} is {value!r}")
        for link in thing.get("links", thing.get("reads", ())):
            if link not in ids:
                raise Refused(f"{thing['id']} leads to {link}, which is not there")
    used = {thing["library"] for thing in things}
    if idle := libraries.keys() - used:
        raise Refused(f"nothing is of {sorted(idle)[0]}")
    return f"{len(things)} things of {', '.join(sorted(libraries))}"


def main(paths: list[str]) -> int:
    refused = 0
    for path in paths:
        try:
            print(f"  opened   {os.path.basename(path)}: {open_project(path)}")
        except (Refused, KeyError) as fault:
            refused += 1
            print(f"  refused  {os.path.basename(path)}: {fault}")
    return 1 if refused else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
