"""The files of Quaywright: projects whose part library moved, changed its version and lost a parameter.

modding/quaywright/quaywright.py            the editor
modding/quaywright/libraries/               part libraries: piers 1.2 and 2.0, ropes
modding/quaywright/projects/                three projects; the libraries were in `parts` when they were made
"""

from __future__ import annotations

from importlib import resources
from typing import Any

from .releases import json

__all__ = ["quaywright_files"]


def _part(*, was: tuple[str, ...] = (), **parameters: Any) -> dict[str, Any]:
    told = {
        name: value if isinstance(value, dict) else {"default": value}
        for name, value in parameters.items()
    }
    return {"was": list(was), "parameters": told} if was else {"parameters": told}


_PIERS = {
    "jetty": _part(length=10, lamp="none", planks=12),
    "mooring post": _part(height=2.5),
    "crane": _part(reach=6),
    "rail maker": _part(spacing=1.5),
    "lamp maker": _part(every=4),
}
# 2.0 calls the post a bollard and planks boards, has no lamps on jetties, and no crane.
_NEWER = {
    "jetty": _part(length=10, boards={"default": 12, "was": ["planks"]}, handrail=True),
    "bollard": _part(was=("mooring post",), height=2.5),
    "rail maker": _part(spacing=1.5, bend=0),
    "lamp maker": _part(every=4),
}
_ROPES = {"hawser": _part(length=20)}


def quaywright_files() -> dict[str, bytes]:
    """Return all of `modding/quaywright`, and its card, by path."""
    own = resources.files(__package__)
    files = {
        "quaywright.card.toml": own.joinpath("quaywright.card.toml").read_bytes(),
        "quaywright/quaywright.py": own.joinpath("quaywright.py").read_bytes(),
        "quaywright/about.ini": b"[About]\nproduct = Quaywright\nversion = 1.1\n",
    }
    for name, version, parts in (
        ("piers", "1.2", _PIERS),
        ("piers", "2.0", _NEWER),
        ("ropes", "1.0", _ROPES),
    ):
        told = {"name": name, "version": version, "parts": parts}
        files[f"quaywright/libraries/{name}-{version}/{name}.parts"] = json(told)
    for name, project in (("delta", _delta()), ("mill", _mill()), ("old-quay", _old_quay())):
        files[f"quaywright/projects/{name}/{name}.route"] = json(project)
    files["quaywright/projects/delta/README.txt"] = (
        b"The route through the delta.\r\n"
        b"Piers are from ..\\..\\parts\\piers-1.2\\piers.parts and nowhere else.\r\n"
    )
    return files


def _project(
    libraries: tuple[tuple[str, str], ...], elements: list[Any], generators: list[Any]
) -> dict[str, Any]:
    return {
        "format": 1,
        "libraries": [
            {
                "id": f"{name}-{version}",
                "name": name,
                "version": version,
                "file": f"../../parts/{name}-{version}/{name}.parts",
            }
            for name, version in libraries
        ],
        "elements": elements,
        "generators": generators,
        "notes": [],
    }


def _thing(id: str, library: str, part: str, links: list[str], **values: Any) -> dict[str, Any]:
    at = [len(id) * 7.5, 12.0, 0.25]
    return {"id": id, "library": library, "part": part, "at": at, "set": values, "links": links}


def _generator(id: str, part: str, reads: list[str], **values: Any) -> dict[str, Any]:
    return {"id": id, "library": "piers-1.2", "part": part, "set": values, "reads": reads}


def _delta() -> dict[str, Any]:
    piers = "piers-1.2"
    return _project(
        (("piers", "1.2"), ("ropes", "1.0")),
        [
            _thing("north jetty", piers, "jetty", ["post 1"], length=14, lamp="oil", planks=16),
            _thing("post 1", piers, "mooring post", ["hawser"], height=3.25),
            _thing("the crane", piers, "crane", [], reach=9),
            _thing("hawser", "ropes-1.0", "hawser", ["north jetty"], length=25),
        ],
        [
            _generator("lamps", "lamp maker", ["rails"], every=6),
            _generator("rails", "rail maker", ["north jetty"], spacing=1.25),
        ],
    )


def _mill() -> dict[str, Any]:
    return _project(
        (("piers", "1.2"),),
        [_thing("mill stage", "piers-1.2", "jetty", [], length=8, planks=10)],
        [_generator("mill rails", "rail maker", ["mill stage"], spacing=1.5)],
    )


def _old_quay() -> dict[str, Any]:
    return _project((("ropes", "1.0"),), [_thing("line", "ropes-1.0", "hawser", [], length=5)], [])
