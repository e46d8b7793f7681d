"""Swapping library versions: values, positions and links stay; there and back gives the very file."""

from __future__ import annotations

import json
import random
import shutil
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

import kindred_ledger as kl
from tests.support import PEATBOG, Case, files_in, side_law, write

CARD = (
    PEATBOG
    + """
[projects.routes]
files = ["*.json"]
codec = "json"
libraries = { list = "libraries[*]" }
elements = [
  { list = "elements[*]", parameters = "set", links = "links" },
  { list = "makers[*]", parameters = "set", links = "reads", ordered = true },
]
notes = "notes"
[projects.routes.library]
codec = "json"
"""
)


def part(*was: str, **defaults: Any) -> dict[str, Any]:
    described = {k: v if isinstance(v, dict) else {"default": v} for k, v in defaults.items()}
    return {"was": list(was), "parameters": described}


OLD = {
    "jetty": part(length=1, lamp="none", planks=2),
    "post": part(height=1),
    "crane": part(),
    "maker": part(n=1),
}
NEW = {
    "jetty": part(length=1, boards={"default": 2, "was": ["planks"]}, rail=True),
    "bollard": part("post", height=1), "maker": part(n=1, bend=0),
}  # fmt: skip


def library(version: str, parts: dict[str, Any]) -> bytes:
    return json.dumps({"name": "piers", "version": version, "parts": parts}).encode()


def thing(
    id: str, part: str, links: list[str] | None = None, of: str = "piers-1", **values: Any
) -> dict[str, Any]:
    return {
        "id": id,
        "library": of,
        "part": part,
        "at": [1.50, 2],
        "set": values,
        "links": links or [],
    }


def maker(id: str, *reads: str) -> dict[str, Any]:
    return {"id": id, "library": "piers-1", "part": "maker", "set": {"n": 4}, "reads": list(reads)}


def project(elements: list[Any], makers: list[Any], **more: Any) -> dict[str, Any]:
    listed = [{"id": "piers-1", "name": "piers", "version": "1", "file": "../lib/1/piers.lib"}]
    return {"libraries": listed, "elements": elements, "makers": makers, **more}


class SwapCase(Case):
    def setUp(self) -> None:
        super().setUp()
        write(
            self.path("lib"), {"1/piers.lib": library("1", OLD), "2/piers.lib": library("2", NEW)}
        )
        write(self.folder, {"title.card.toml": CARD.encode()})
        self.card = kl.Card.load(self.path("title.card.toml"))

    def put(self, value: Any, *, indent: int | None = 1) -> None:
        shutil.rmtree(self.path("p"), ignore_errors=True)
        write(self.path("p"), {"a.json": json.dumps(value, indent=indent).encode()})

    def swap(self, old: str, version: str) -> Any:
        return kl.swap_library(
            self.path("p"),
            old,
            self.path("lib", version, "piers.lib"),
            card=self.card,
            ledger=self.ledger(),
        )

    def read(self) -> Any:
        return json.loads(files_in(self.path("p"))["a.json"])


class Swapped(SwapCase):
    def test_parts_parameters_and_links(self) -> None:
        """Names follow, values stay, what is lost is noted, new ones are told, the rest is untouched."""
        elements = [
            thing("a", "jetty", ["b"], length=9, lamp="oil", planks=3),
            thing("b", "post", ["a"], height=2),
        ]
        self.put(project(elements, [maker("m", "n"), maker("n")], other={"x": 1.10}))
        change = self.swap("piers-1", "2")
        self.assertEqual([each.code for each in change.findings], ["parameter-noted"])
        self.assertEqual(change.statements[0].totals()["changed"], 4)
        order = [line.item.split(" ")[0] for line in change.statements[0].lines]
        self.assertEqual(order, ["a", "b", "m", "n"])
        reasons = "; ".join(line.reason for line in change.statements[0].lines)
        for told in (
            "planks is boards now",
            "'oil' is noted",
            "rail is at its default, true",
            "post is bollard now",
        ):
            self.assertIn(told, reasons)
        change.apply(self.ledger())
        found = self.read()
        self.assertEqual(found["elements"][0]["set"], {"length": 9, "boards": 3})
        self.assertEqual(found["elements"][1]["part"], "bollard")
        self.assertEqual([one["links"] for one in found["elements"]], [["b"], ["a"]])
        self.assertEqual(found["libraries"], [
            {"id": "piers-2", "name": "piers", "version": "2", "file": "../lib/2/piers.lib"}
        ])  # fmt: skip
        self.assertEqual(found["notes"][0]["lost"], {"lamp": "oil"})
        self.assertEqual(found["other"], {"x": 1.10})

    def test_what_has_no_successor_is_held(self) -> None:
        """With what depends on it; both libraries stay listed until nothing is of the old one."""
        self.put(
            project(
                [thing("a", "crane"), thing("b", "post")],
                [maker("m", "k"), maker("k", "a"), maker("x")],
            )
        )
        change = self.swap("piers-1", "2")
        held = [each.what for each in change.findings if each.code == "element-held"]
        self.assertEqual(len(held), 3)
        self.assertIn("it depends on a, which is held", " ".join(held))
        change.apply(self.ledger())
        found = self.read()
        self.assertEqual([one["library"] for one in found["elements"]], ["piers-1", "piers-2"])
        self.assertEqual(
            [one["library"] for one in found["makers"]], ["piers-1", "piers-1", "piers-2"]
        )
        self.assertEqual([one["id"] for one in found["libraries"]], ["piers-1", "piers-2"])

    def test_doubt_and_damage(self) -> None:
        """Two successors, a value of another kind, another library, cycles, ids that are there twice."""
        doubtful = {**NEW, "pile": part("post")}
        write(self.path("lib"), {"3/piers.lib": library("3", doubtful)})
        self.put(project([thing("b", "post", height=1)], []))
        change = self.swap("piers-1", "3")
        self.assertIn("may be one of several in 3: bollard, pile", change.findings[0].what)
        taken = {**NEW, "post": part(height=1)}  # another thing by the old name
        write(self.path("lib"), {"5/piers.lib": library("5", taken)})
        change = self.swap("piers-1", "5")
        self.assertIn("may be one of several in 5: bollard, post", change.findings[0].what)
        self.put(project([thing("b", "post", height="tall")], []))
        self.assertEqual(
            [each.code for each in self.swap("piers-1", "2").findings], ["parameter-kind"]
        )
        write(self.path("lib"), {"4/piers.lib": library("2", NEW).replace(b"piers", b"ropes")})
        with self.assertRaisesRegex(kl.UsageError, "this is another library: ropes"):
            self.swap("piers-1", "4")
        with self.assertRaisesRegex(kl.UsageError, "Did you mean piers-1"):
            self.swap("pier-1", "2")
        self.put(project([], [maker("m", "n"), maker("n", "m")]))
        with self.assertRaisesRegex(kl.FormatError, "wait for one another: "):
            self.swap("piers-1", "2")
        self.put(project([thing("a", "post"), thing("a", "post")], []))
        with self.assertRaisesRegex(kl.FormatError, "'a' is the id of two elements"):
            self.swap("piers-1", "2")

    def test_without_a_place_for_notes(self) -> None:
        """What would be lost needs consent then."""
        write(self.folder, {"title.card.toml": CARD.replace('notes = "notes"', "").encode()})
        self.card = kl.Card.load(self.path("title.card.toml"))
        self.put(project([thing("a", "jetty", lamp="oil")], []))
        change = self.swap("piers-1", "2")
        self.assertEqual([each.code for each in change.losses], ["parameter-lost"])
        with self.assertRaises(kl.LossNotAllowed):
            change.apply(self.ledger())

    def test_there_and_back(self) -> None:
        """A random project swapped to the other version, and back, is the very file."""

        @side_law
        @given(st.integers(0, 1 << 30))
        def holds(seed: int) -> None:
            rng = random.Random(seed)
            case = SwapCase("put")
            case.setUp()
            try:
                elements, makers = [], []
                for number in range(rng.randrange(1, 6)):
                    name = rng.choice(("jetty", "post", "crane"))
                    known = {
                        "jetty": ("length", "lamp", "planks"),
                        "post": ("height",),
                        "crane": (),
                    }[name]
                    keys = rng.sample(known, rng.randrange(0, len(known) + 1))
                    values = {key: "oil" if key == "lamp" else rng.randrange(9) for key in keys}
                    elements.append(thing(f"e{number}", name, **values))
                for number in range(rng.randrange(0, 4)):
                    makers.append(maker(f"m{number}", *rng.sample([e["id"] for e in elements], 1)))
                more: dict[str, Any] = rng.choice(({}, {"notes": []}, {"notes": ["mine"]}))
                if all(one["part"] == "crane" for one in elements):
                    elements.append(thing("last", "post"))
                case.put(project(elements, makers, **more), indent=rng.choice((None, 1, 4)))
                before = files_in(case.path("p"))
                case.swap("piers-1", "2").apply(case.ledger())
                case.assertNotEqual(files_in(case.path("p")), before)
                case.swap("piers-2", "1").apply(case.ledger())
                case.assertEqual(files_in(case.path("p")), before)
            finally:
                case.doCleanups()

        holds()


if __name__ == "__main__":
    unittest.main()
