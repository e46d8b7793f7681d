"""Corrupted steps: whatever is wrong in a card's steps is caught, and it is told by what.

One line of the demo's steps is dropped, misspelt, given another value or the target of its
neighbour. The conversion with its books, the simulated game and card check look at it in turn.
"""

from __future__ import annotations

import os
import random
import re
import shutil
import types
from collections import Counter
from typing import Any

from kindred_ledger.cards import Card
from kindred_ledger.convert import Sample, check_card, convert_bytes, format_version
from kindred_ledger.demo.releases import build_release
from kindred_ledger.errors import BooksUnbalanced, CardError, KindredError
from kindred_ledger.places import read_bytes
from tests.support import LONG, PlayCase, write

CORRUPTIONS = 200 if LONG else 50
_VERBS = (
    "move_files|drop_files|require|rename|move|set|default|map|"
    "retype|rescale|split|join|reorder|renumber|drop"
)
_ROW = re.compile(rf"\{{ (?:{_VERBS}) = (?:[^{{}}]|\{{[^{{}}]*\}})*\}}")
_MAIN = re.compile(r"\{ \w+ = (\[?)\"([^\"]+)\"")
_NUMBER = re.compile(r"(?<=[= ])(\d+(?:\.\d+)?)(?=[ ,\"}])")


def program(name: str, source: bytes) -> types.ModuleType:
    """Return a simulated program, loaded beside the library."""
    module = types.ModuleType(name)
    module.__file__ = __file__
    exec(compile(source, name, "exec"), module.__dict__)
    return module


class Corrupted(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        game = build_release("1.4")["mossferry.py"]
        self.games = {}
        for build in ("1.4", "2.0", "2.1"):
            source = game.replace(b'BUILD = "1.4"', f'BUILD = "{build}"'.encode())
            self.games[build] = program(f"game {build}", source)
        with open(self.path("server", "mossferry_server.py"), "rb") as file:
            self.server = program("server", file.read())
        with open(self.path("mossferry.card.toml"), encoding="utf-8") as file:
            self.text = file.read()
        programs = (*self.games.values(), self.server)
        self.refusals = tuple(each.Refused for each in programs)
        self.samples = self._samples()

    def _samples(self) -> dict[str, list[tuple[str, Any]]]:
        """Return the files of each format that has steps; newer ones are made by the sound card."""
        place = self.install().place
        read = {
            f"{n}.voyage": read_bytes(place, f"user/saves/{n}.voyage")
            for n in ("midwinter", "eel-season", "long-way-round", "first-crossing")
        }
        at_sea = read["midwinter.voyage"].replace(b'"moored": true', b'"moored": false')
        mod = {name: read_bytes(place, f"program/mods/reedlight/{name}") for name in MOD}
        out: dict[str, list[tuple[str, Any]]] = {
            "voyage": [*read.items(), ("at-sea.voyage", at_sea)],
            "settings": [("settings.ini", read_bytes(place, "user/settings.ini"))],
            "controls": [("controls.json", read_bytes(place, "user/controls.json"))],
            "mod": [("mods/reedlight", mod)],
            "tables": [],
            "pocket": [],
            "server-voyage": [],
        }
        for folder, name, kind in (
            ("handheld", ".pocket", "pocket"),
            ("server/voyages", ".mfsv", "server-voyage"),
            ("server", "tables.xml", "tables"),
        ):
            for file in sorted(os.listdir(self.path(*folder.split("/")))):
                if file.endswith(name):
                    with open(self.path(*folder.split("/"), file), "rb") as opened:
                        out[kind].append((file, opened.read()))
        for low in ("low", "medium"):
            text = out["settings"][0][1].replace(b"high", low.encode())
            out["settings"].append((f"{low}/settings.ini", text))
        pocket = out["pocket"][0][1]
        out["pocket"].append(("bad.pocket", pocket.replace(b"\x6241", b"\x62-3")))
        for kind, newer in NEWER:
            format = self.card.formats[kind]
            for name, data in list(out[kind]):
                try:
                    now = format_version(data, format)
                    made = convert_bytes(
                        data, format, format.scheme.parse(newer), name=name, source=now
                    )
                except KindredError:
                    continue
                out[kind].append((f"newer{newer}/{name}", made.data))
        return out

    def test_each_corruption_is_caught(self) -> None:
        """By the card's reader, by card check, by the books, or by the game that loads the result."""
        rng = random.Random(6)
        caught: Counter[str] = Counter()
        missed: list[str] = []
        seen: set[str] = set()
        for _ in range(100 * CORRUPTIONS):
            told, text = self._corrupted(rng)
            if text == self.text or told in seen or len(seen) == CORRUPTIONS:
                continue
            seen.add(told)
            by = self._caught_by(text, told.partition(" ")[0])
            caught[by or "nobody"] += 1
            if not by:
                missed.append(told)
        self.assertEqual(len(seen), CORRUPTIONS)
        self.assertEqual(missed, [], dict(caught))
        self.assertLessEqual({"card check", "the game"}, {*caught})
        print(f"{CORRUPTIONS} corruptions: {dict(caught)}")
        self.assertEqual(self._caught_by(self.text, "all"), "")

    # ---- corrupting ----------------------------------------------------------------------

    def _corrupted(self, rng: random.Random) -> tuple[str, str]:
        """Return what was done, beginning with the format, and the card's text with it."""
        rows = list(_ROW.finditer(self.text))
        row = rng.choice(rows)
        kind = self.text.rfind("[[formats.", 0, row.start())
        name = self.text[kind:].partition(".")[2].partition(".")[0]
        way = rng.choice(("drop", "misspell", "value", "swap", "swap"))
        old, new = row[0], row[0]
        if way == "drop":
            new = ""
        elif way == "misspell":
            path = _MAIN.match(old)
            new = old.replace(f'"{path[2]}"', f'"{path[2]}e"', 1) if path else ""
        elif way == "value" and not old.startswith(("{ require", "{ drop")):
            new = self._other_value(old, rng)
        elif way == "swap":
            return self._swapped(name, rows, row)
        begin, end = row.span()
        text = self.text[:begin] + new + self.text[end:].removeprefix("," if not new else "\0")
        return f"{name} {way}: {old[:90]} -> {new[:90]}", text

    def _other_value(self, row: str, rng: random.Random) -> str:
        numbers = list(_NUMBER.finditer(row))
        if numbers and rng.random() < 0.7:
            one = rng.choice(numbers)
            return (
                row[: one.start()]
                + str(float(one[0]) + rng.randint(1, 9)).removesuffix(".0")
                + row[one.end() :]
            )
        quoted = list(re.finditer(r'(?<=value = )"[^"]+"|(?<== )"[a-z]+"(?= \})', row))
        if row.startswith("{ map") and row.count(" = ") > 3:  # its values change places
            parts = re.findall(r'= "([^"]+)"(?=[, ])', row)[1:]
            return (
                row.replace(f'= "{parts[0]}"', "= \0")
                .replace(f'= "{parts[1]}"', f'= "{parts[0]}"')
                .replace("\0", f'"{parts[1]}"')
                if len(parts) > 1
                else row
            )
        if quoted and row.startswith(("{ set", "{ default")):
            one = rng.choice(quoted)
            return row[: one.start()] + '"9.9"' + row[one.end() :]
        return row

    def _swapped(self, name: str, rows: list[Any], row: Any) -> tuple[str, str]:
        """Give two neighbours of one step each other's first path."""
        at = rows.index(row)
        other = rows[at + 1] if at + 1 < len(rows) else None
        if other is None or "]]" in self.text[row.end() : other.start()]:
            return "", self.text
        one, two = (_MAIN.match(each[0]) for each in (row, other))
        drops = row[0].startswith("{ drop") and other[0].startswith("{ drop")
        if one is None or two is None or one[1] or two[1] or drops:
            return "", self.text
        first = row[0].replace(f'"{one[2]}"', f'"{two[2]}"', 1)
        second = other[0].replace(f'"{two[2]}"', f'"{one[2]}"', 1)
        between = self.text[row.end() : other.start()]
        text = self.text[: row.start()] + first + between + second + self.text[other.end() :]
        return f"{name} swap: {row[0][:60]} with {other[0][:60]}", text

    # ---- catching ------------------------------------------------------------------------

    def _caught_by(self, text: str, kind: str) -> str:
        """Return who caught it first, "" if nobody did."""
        write(self.folder, {"mossferry.card.toml": text.encode()})
        try:
            card = Card.load(self.path("mossferry.card.toml"))
        except CardError:
            return "the card's reader"
        by = ""
        for name in self.samples if kind == "all" else [kind]:
            by = by or self._in_format(card, name)
        return by

    def _in_format(self, card: Card, kind: str) -> str:
        format = card.formats[kind]
        found = ""
        for name, data in self.samples[kind]:
            for target in ("1", "2", "3", "4", "5", "6"):
                try:
                    version = format.scheme.parse(target)
                    now = format_version(data, format)
                    done = convert_bytes(data, format, version, name=name, source=now)
                except BooksUnbalanced:
                    return "the books"
                except KindredError as error:
                    refused = error.exit_status != 2 and "no route" not in error.what
                    if refused and self._goes(kind, name, data, int(target)):
                        found = found or "the conversion, which stops"
                    continue
                if done.source != done.target and not self._agrees(
                    kind, name, data, done.data, int(target)
                ):
                    found = "the game"
        samples = [Sample(name, data) for name, data in self.samples[kind]]
        report = check_card(card, samples, only=kind, invented=3)
        return found if found and report.is_sound else "card check" if not report.is_sound else ""

    def _mod_loads(self, made: dict[str, bytes], target: int) -> bool:
        """Let the game load a mod; its picture must be in it, under its name."""
        shutil.rmtree(self.path("new"), ignore_errors=True)
        write(self.folder, {f"new/{name}": data for name, data in made.items()})
        try:
            self.games["2.1" if target == 2 else "2.0"].load_mod(self.path("new"))
        except self.refusals:
            return False
        return ("assets/" if target == 2 else "") + "reeds.dat" in made

    def _goes(self, kind: str, name: str, data: Any, target: int) -> bool:
        """Tell whether the sound card converts a file."""
        try:
            convert_bytes(
                data,
                self.card.formats[kind],
                self.card.formats[kind].scheme.parse(str(target)),
                name=name,
            )
        except KindredError:
            return False
        return True

    def _agrees(self, kind: str, name: str, data: Any, made: Any, target: int) -> bool:
        """Let the game, the server or the handheld say what it makes of a result."""
        suffix = name.rpartition("/")[2]
        if kind == "mod":
            return self._mod_loads(made, target)
        write(self.folder, {f"old/{suffix}": data, f"new/{suffix}": made})
        old, new = self.path("old", suffix), self.path("new", suffix)
        game = self.games["1.4"]
        try:
            if kind == "server-voyage":
                return bool(self.server.read(new)["format"] == target)
            if kind == "tables":
                weather = made.count(b'weather="clear"') == (target == 2)
                return bool(self.server.read(old) == self.server.read(new)) and weather
            if kind == "pocket":
                older, newer = (old, new) if target > 2 else (new, old)
                return bool(
                    self.server.upgrade_pocket(self.server.read(older)) == self.server.read(newer)
                )
            was = number(kind, game.read(old))
            older, newer = (old, new) if target > was else (new, old)
            loads = self.games[
                "1.4" if target < {"voyage": 5}.get(kind, 2) else "2.1" if target > 5 else "2.0"
            ]
            load = {"voyage": lambda path: loads.load_voyage(path, dict.fromkeys(range(1, 9), ""))}
            load.get(kind, getattr(loads, f"load_{kind}", None))(new)
            if target == 3:  # what 1.2 does not know is lost
                return bool(without_homes(game.upgrade(new, was)) == without_homes(game.read(old)))
            return bool(game.upgrade(older, max(was, target)) == game.read(newer))
        except (*self.refusals, KeyError, ValueError, TypeError, AttributeError):
            return False


NEWER = (("voyage", "5"), ("voyage", "6"), ("settings", "2"), ("controls", "2"), ("pocket", "3"),
         ("mod", "2"), ("tables", "2"))  # fmt: skip
MOD = ("mod.json", "reeds.dat", "reeds.cache")


def without_homes(voyage: Any) -> Any:
    """Return a voyage without what is lost on the way to format 3, and without its build."""
    crew = [{key: hand[key] for key in hand if key != "home"} for hand in voyage["crew"]]
    return {**voyage, "crew": crew, "build": ""}


def number(kind: str, data: Any) -> int:
    """Return the format a file of the game says it is in."""
    return int(data["General"]["SettingsFormat"]) if kind == "settings" else int(data["format"])
