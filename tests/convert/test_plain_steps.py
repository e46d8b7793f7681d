"""Every kind of step, held against a plain implementation, losses and refusals included."""

from __future__ import annotations

import copy
import json
import unittest
from collections import Counter
from collections.abc import Callable
from decimal import Decimal, InvalidOperation
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.convert.converter import Converter
from kindred_ledger.errors import BooksUnbalanced, KindredError
from kindred_ledger.formats import format_path, parse_path
from kindred_ledger.versions import INTEGER
from tests.convert.test_convert import made
from tests.formats.plain import read_plain
from tests.formats.test_edits import told
from tests.support import law

Path = tuple[Any, ...]


class RefusedError(Exception):
    """The step cannot be done."""


class PlainSteps:
    """Steps over plain values; `losses` are the names of what is lost."""

    def __init__(self, value: Any) -> None:
        self.value = value
        self.losses: list[str] = []

    def find(self, pattern: Path) -> list[Path]:
        found: list[Path] = [()]
        for part in pattern:
            step: list[Path] = []
            for path in found:
                held = self.at(path)
                keys: list[Any] = []
                if isinstance(held, dict):
                    keys = list(held) if part == "*" else [part] if part in held else []
                elif isinstance(held, list):
                    rows = range(len(held))
                    keys = list(rows) if part == "*" else [part] if part in rows else []
                step += [(*path, key) for key in keys]
            found = step
        return found

    def at(self, path: Path) -> Any:
        held = self.value
        for part in path:
            held = held[part]
        return held

    def put(self, path: Path, value: Any) -> None:
        """Put a value at a path, with the mappings it needs."""
        held = self.value
        for part in path[:-1]:
            if isinstance(held, dict):
                held = held.setdefault(part, {})
            elif isinstance(held, list) and isinstance(part, int) and part < len(held):
                held = held[part]
            else:
                raise RefusedError
        if isinstance(held, dict) and isinstance(path[-1], str):
            held[path[-1]] = value
        elif isinstance(held, list) and isinstance(path[-1], int) and path[-1] <= len(held):
            held[path[-1] : path[-1] + 1] = [value]
        else:
            raise RefusedError

    def lose(self, path: Path) -> None:
        """Note every leaf at or below a path as lost."""
        held = self.at(path)
        if isinstance(held, (dict, list)) and held:
            for inner in self.find((*path, "*")):
                self.lose(inner)
        else:
            self.losses.append(format_path(path))

    def change(self, pattern: str, call: Callable[[Any], Any], loses: str = "") -> None:
        for path in self.find(parse_path(pattern)):
            old, new = self.at(path), call(self.at(path))
            nested = isinstance(old, (dict, list))
            if not nested and told(old, ordered=True) == told(new, ordered=True):
                continue
            if nested and old:
                self.lose(path)
            if loses:
                self.losses.append(format_path(path))
            self.put(path, new)

    # ---- verbs ---------------------------------------------------------------------------

    def do(self, row: dict[str, Any]) -> None:
        getattr(self, "do_" + next(iter(row)))(row)

    def do_rename(self, row: dict[str, Any]) -> None:
        path = parse_path(row["rename"])
        self.move(path, (*path[:-1], row["to"]))

    def do_move(self, row: dict[str, Any]) -> None:
        self.move(parse_path(row["move"]), parse_path(row["to"]))

    def move(self, pattern: Path, to: Path) -> None:
        for path in self.find(pattern):
            target = tuple(path[at] if part == "*" else part for at, part in enumerate(to))
            if self.find(target) or target[: len(path)] == path:
                raise RefusedError
            held, value = self.at(path[:-1]), self.at(path)
            if target[:-1] == path[:-1] and isinstance(held, dict):
                pairs = [(target[-1] if key == path[-1] else key, v) for key, v in held.items()]
                held.clear()
                held.update(pairs)
            else:
                self.put(target, value)
                del held[path[-1]]

    def name(self, path: Path, name: str) -> Any:
        """Return what a name means at a path: a value of the record, else of what is around it."""
        for end in range(len(path), -1, -1):
            held = self.at(path[:end])
            if isinstance(held, dict) and name in held:
                return held[name]
        raise RefusedError

    def has(self, path: Path, name: str) -> bool:
        try:
            self.name(path, name)
        except RefusedError:
            return False
        return True

    def number(self, path: Path, name: str) -> Any:
        value = self.name(path, name)
        if isinstance(value, bool) or not isinstance(value, (int, Decimal)):
            raise RefusedError
        return value

    def where(self, row: dict[str, Any], paths: list[Path], *, inside: bool = False) -> list[Path]:
        """Return the paths at which a condition holds."""
        if "where" not in row:
            return paths
        holds = CONDITIONS[row["where"]]
        return [path for path in paths if holds(self, path if inside else path[:-1])]

    def new(self, row: dict[str, Any], path: Path) -> Any:
        if "by" in row:
            return VALUES[row["by"]](self, path[:-1])
        return copy.deepcopy(exact(row["value"]))

    def do_set(self, row: dict[str, Any]) -> None:
        pattern = parse_path(row["set"])
        found = self.find(pattern)
        if "*" not in pattern and not found and "where" not in row:
            self.put(pattern, self.new(row, pattern))
        for path in self.where(row, found):
            new = self.new(row, path)
            self.change(format_path(path), lambda _, new=new: new, row.get("loses", ""))

    def do_default(self, row: dict[str, Any]) -> None:
        pattern = parse_path(row["default"])
        within = pattern[:-1]
        for record in self.find(within) if "*" in within else [within]:
            path = (*record, pattern[-1])
            if not self.find(path):
                self.put(path, self.new(row, path))

    def do_map(self, row: dict[str, Any]) -> None:
        def call(value: Any) -> Any:
            key = str(value).lower() if isinstance(value, bool) else str(value)
            if isinstance(value, (dict, list)):
                return value
            if key not in row["table"] and row.get("otherwise") == "fail":
                raise RefusedError
            return exact(row["table"].get(key, value))

        for path in self.find(parse_path(row["map"])):
            if not isinstance(self.at(path), (dict, list)):
                self.change(format_path(path), call, row.get("loses", ""))
            elif row.get("otherwise") == "fail":
                raise RefusedError

    def do_retype(self, row: dict[str, Any]) -> None:
        def call(value: Any) -> Any:
            if value is None or isinstance(value, (dict, list)):
                raise RefusedError
            word = str(value).lower() if isinstance(value, bool) else str(value).strip()
            if row["as"] == "truth":
                if word.lower() not in ("true", "1", "yes", "on", "false", "0", "no", "off"):
                    raise RefusedError
                return word.lower() in ("true", "1", "yes", "on")
            if row["as"] == "text":
                return str(value).lower() if isinstance(value, bool) else str(value)
            number = numeric(value)
            if row["as"] == "integer":
                if number != int(number) and not row.get("loses"):
                    raise RefusedError
                return round(number)
            return number

        self.change(row["retype"], call, row.get("loses", ""))

    def do_rescale(self, row: dict[str, Any]) -> None:
        def call(value: Any) -> Any:
            new = numeric(value) * exact(row["times"]) + row.get("plus", 0)
            return (
                round(new, row["round"])
                if row.get("round")
                else round(new)
                if "round" in row
                else new
            )

        self.change(row["rescale"], call, row.get("loses", ""))

    def do_split(self, row: dict[str, Any]) -> None:
        pattern = parse_path(row["split"])
        paths = self.find(pattern)
        for path in paths:
            value = self.at(path)
            if not isinstance(value, str) or value.count(" ") + 1 != len(row["into"]):
                raise RefusedError
        taken = [name for name in row["into"] if name != pattern[-1]]
        if paths and any(self.find((*pattern[:-1], name)) for name in taken):
            raise RefusedError
        for path in paths:
            for name, part in zip(row["into"], self.at(path).split(" "), strict=True):
                if name == pattern[-1]:
                    own = part
                else:
                    self.put((*path[:-1], name), part)
            if pattern[-1] in row["into"]:
                self.put(path, own)
            else:
                del self.at(path[:-1])[path[-1]]

    def do_join(self, row: dict[str, Any]) -> None:
        patterns = [parse_path(text) for text in row["join"]]
        into = parse_path(row["into"])
        if any(map(self.find, patterns)) and self.find(into) and into not in patterns:
            raise RefusedError
        for record in self.find(into[:-1]):
            there = [name for *_, name in patterns if self.find((*record, name))]
            if not there:
                continue
            parts = [self.at((*record, name)) for *_, name in patterns if name in there]
            bad = any(part is None or isinstance(part, (dict, list)) for part in parts)
            wanted = into not in patterns or into[-1] in there
            if wanted and (len(there) < len(patterns) or bad):
                raise RefusedError
            words = [str(p).lower() if isinstance(p, bool) else str(p) for p in parts]
            for name in there:
                if name != into[-1]:
                    del self.at(record)[name]
            if len(there) == len(patterns):
                self.put((*record, into[-1]), " ".join(words))

    def do_reorder(self, row: dict[str, Any]) -> None:
        for path in self.find(parse_path(row["reorder"])):
            held = self.at(path)
            if "by" in row:
                keys = [VALUES[row["by"]](self, (*path, at)) for at in range(len(held))]
                order = sorted(range(len(held)), key=keys.__getitem__, reverse="descending" in row)
                held[:] = [held[at] for at in order]
                continue
            if not isinstance(held, dict):
                raise RefusedError
            rank = {key: at for at, key in enumerate(row["keys"])}
            pairs = sorted(held.items(), key=lambda pair: rank.get(pair[0], len(rank)))
            held.clear()
            held.update(pairs)

    def do_renumber(self, row: dict[str, Any]) -> None:
        new = {name: number for number, name in enumerate(row["new"])}
        table = {str(n): new[name] for n, name in enumerate(row["old"]) if name in new}
        self.do_map({"map": row["renumber"], "table": table, "otherwise": "fail"})

    def do_drop(self, row: dict[str, Any]) -> None:
        pattern = parse_path(row["drop"])
        rows = pattern[-1] == "*"
        for path in reversed(self.where(row, self.find(pattern), inside=rows)):
            if not row.get("lossless"):
                self.lose(path)
            del self.at(path[:-1])[path[-1]]

    def do_require(self, row: dict[str, Any]) -> None:
        found = self.find(parse_path(row["require"]))
        if "holds" in row:
            if len(self.where({"where": row["holds"]}, found)) < len(found):
                raise RefusedError
            return
        if bool(found) == (row.get("exists") is False):
            raise RefusedError
        for path in found:
            value = self.at(path)
            if "equals" in row and not equal(value, row["equals"]):
                raise RefusedError
            if "one_of" in row and not any(equal(value, one) for one in row["one_of"]):
                raise RefusedError
            if "at_least" in row and isinstance(value, bool):
                raise RefusedError
            if "at_least" in row and not row["at_least"] <= numeric(value) <= row["at_most"]:
                raise RefusedError


CONDITIONS: dict[str, Callable[[PlainSteps, Path], bool]] = {
    "rank > 2": lambda plain, at: plain.number(at, "rank") > 2,
    "has(flag) and rank != 1": lambda plain, at: (
        plain.has(at, "flag") and not equal(plain.name(at, "rank"), 1)
    ),
}
VALUES: dict[str, Callable[[PlainSteps, Path], Any]] = {
    "rank * 2 + 1": lambda plain, at: plain.number(at, "rank") * 2 + 1,
    'when(rank > 2, "high", rank)': lambda plain, at: (
        "high" if plain.number(at, "rank") > 2 else plain.name(at, "rank")
    ),
    "rank % 2": lambda plain, at: plain.number(at, "rank") % 2,
    "0 - rank": lambda plain, at: -plain.number(at, "rank"),
    "level": lambda plain, at: plain.name(at, "level"),
}


def equal(value: Any, wanted: Any) -> bool:
    wanted = exact(wanted)
    word = str(wanted).lower() if isinstance(wanted, bool) else str(wanted)
    return value == word or told(value, ordered=True) == told(wanted, ordered=True)


def exact(value: Any) -> Any:
    return Decimal(repr(value)) if isinstance(value, float) else value


def numeric(value: Any) -> Any:
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, (int, Decimal)):
        return value
    try:
        number = Decimal(value.strip())
    except (InvalidOperation, AttributeError) as error:
        raise RefusedError from error
    return number


_names = st.sampled_from(("name", "coins", "level", "flag", "word", "none", "s", "e"))
_fields = st.one_of(
    _names,
    st.sampled_from(
        ("crew[*].name", "crew[*].rank", "crew[*].pay", "crew[*].flag", "s.a", "s.t.u")
    ),
)
_new = st.sampled_from(("x", "first", "name", "rank", "pay"))
_simple = st.sampled_from((7, 0, 0.5, True, "fog", "Ada Reed", ""))
_loses = st.sampled_from(({}, {}, {"loses": "what it said"}))
_where = st.sampled_from(({}, *({"where": text} for text in CONDITIONS)))
_by = st.sampled_from(tuple(VALUES))
_in_rows = st.sampled_from(("crew[*].name", "crew[*].rank", "crew[*].pay", "crew[*].flag"))
_rows = st.one_of(
    st.builds(lambda p, v, where: {"set": p, "by": v, **where}, _in_rows, _by, _where),
    st.builds(lambda p, v, where: {"set": p, "value": v, **where}, _in_rows, _simple, _where),
    st.builds(lambda p, v: {"default": p, "by": v}, _in_rows, _by),
    st.builds(
        lambda p, more, where: {"drop": p, "reason": "none is kept", **more, **where},
        st.one_of(st.just("crew[*]"), _in_rows),
        st.sampled_from(({}, {"lossless": True})),
        _where,
    ),
    st.builds(
        lambda v, more: {"reorder": "crew", "by": v, **more},
        st.sampled_from(("rank % 2", "0 - rank")),
        st.sampled_from(({}, {"descending": True})),
    ),
    st.builds(
        lambda p, v: {"require": p, "holds": v, "otherwise": "x"}, _in_rows, st.just("rank > 2")
    ),
    st.builds(
        lambda p, more: {"require": p, "otherwise": "play on", **more},
        _fields,
        st.sampled_from(
            ({"exists": False}, {"one_of": [3, "Ada", True]}, {"at_least": 1, "at_most": 7})
        ),
    ),
    st.builds(
        lambda p, t, n, more: {"rescale": p, "times": t, "plus": 1, "round": n, **more},
        _fields,
        st.sampled_from((2, 0.25)),
        st.integers(0, 1),
        _loses,
    ),
    st.builds(lambda p, t: {"rename": p, "to": t}, _fields, _new),
    st.builds(
        lambda p, t: {"move": p, "to": t},
        _names,
        st.sampled_from(("s.x", "e.y.z", "new.v", "coins")),
    ),
    st.just({"move": "crew[*].name", "to": "crew[*].who.name"}),
    st.builds(lambda p, v, more: {"set": p, "value": v, **more}, _fields, _simple, _loses),
    st.builds(
        lambda p, v: {"default": p, "value": v},
        _fields,
        st.one_of(_simple, st.sampled_from(([], {}, [1]))),
    ),
    st.builds(
        lambda p, v: {"default": p, "value": v},
        st.just("crew[*].new"),
        st.sampled_from(([], {"a": 1}, 3)),
    ),
    st.builds(
        lambda p, m: {"map": p, "table": {"Ada": "Bo", "3": 4, "true": "yes", "0": 1}, **m},
        _fields,
        st.sampled_from(({}, {"otherwise": "fail"}, {"loses": "x"})),
    ),
    st.builds(
        lambda p, k, m: {"retype": p, "as": k, **m},
        _fields,
        st.sampled_from(("integer", "number", "text", "truth")),
        _loses,
    ),
    st.builds(lambda p, t: {"rescale": p, "times": t}, _fields, st.sampled_from((2, 0.5, 0))),
    st.builds(
        lambda p, into: {"split": p, "into": into},
        _fields,
        st.sampled_from((["first", "last"], ["name", "rest"], ["a", "b", "c"])),
    ),
    st.sampled_from(
        (
            {"join": ["name", "word"], "into": "title"},
            {"join": ["name", "coins"], "into": "coins"},
            {"join": ["name", "word"], "into": "level"},
            {"join": ["crew[*].name", "crew[*].rank"], "into": "crew[*].title"},
            {"join": ["crew[*].name", "crew[*].rank"], "into": "crew[*].pay"},
        )
    ),
    st.just({"reorder": "s", "keys": ["b", "a"]}),
    st.just(
        {
            "renumber": "crew[*].rank",
            "old": ["none", "hand", "mate", "master"],
            "new": ["hand", "none", "master"],
        }
    ),
    st.builds(
        lambda p, m: {"drop": p, "reason": "none is kept", **m},
        _fields,
        st.sampled_from(({}, {"lossless": True})),
    ),
    st.builds(lambda p, v: {"require": p, "equals": v, "otherwise": "play on"}, _fields, _simple),
)
_texts = ("Ada", "Ada Reed", "a b c", "", "3", "2.7", "true", "maybe", " on ")
_held = st.sampled_from((*_texts, 3, 0, 7, True, False, None, Decimal("2.7"), Decimal("2.0")))
_files = st.fixed_dictionaries(
    {"name": _held, "coins": _held, "level": _held, "flag": _held,
     "s": st.sampled_from(({}, {"a": 1, "b": 2}, {"a": [], "t": {"u": 1}})), "e": st.just({}),
     "crew": st.lists(st.fixed_dictionaries({"name": _held, "rank": st.integers(0, 4), "pay": _held},
                                            optional={"flag": _held}), max_size=3)},
    optional={"word": _held, "none": st.none()},
)  # fmt: skip


# After these a name is another than in the file, or what is lost was never in it.
_MOVING = {"rename", "move", "split", "join", "reorder", "drop", "default", "set"}


class Steps(unittest.TestCase):
    def test_as_in_plain_values(self) -> None:
        """The same values and the same losses, one by one and by columns; or both refuse."""
        count: Counter[str] = Counter()

        @law
        @given(_files, st.lists(_rows, min_size=1, max_size=3))
        def hold(file: dict[str, Any], do: list[dict[str, Any]]) -> None:
            count[self.hold(file, do)] += 1

        hold()
        self.assertGreater(count["done"] * 5, count["refused"])
        self.assertGreater(count["lost"] * 20, count["refused"])

    def hold(self, file: dict[str, Any], do: list[dict[str, Any]]) -> str:
        """Return what became of a file."""
        data = json.dumps({"format": 1, **file}, default=float).encode()
        plain = PlainSteps(read_plain(data, "json"))
        try:
            for row in do:
                plain.do(row)
            plain.value["format"] = 2
        except RefusedError:
            plain.losses = ["refused"]
        for column_threshold in (1 << 40, 1):
            try:
                done = Converter(made("json", do), column_threshold=column_threshold)(
                    data, INTEGER.parse("2"), name="f"
                )
            except BooksUnbalanced:
                raise
            except KindredError as error:
                self.assertEqual(plain.losses, ["refused"], (data, do, error))
                continue
            self.assertNotEqual(plain.losses, ["refused"], (data, do, done.data))
            self.assertEqual(
                told(read_plain(done.data, "json"), ordered=True),
                told(plain.value, ordered=True),
                (data, do),
            )
            if column_threshold > 1:
                listed = [loss.field for loss in done.losses]  # by the names in the file as it was
                if all(_MOVING.isdisjoint(row) for row in do[:-1]):
                    self.assertEqual(Counter(listed), Counter(plain.losses), (data, do))
                elif not any(row.keys() & {"default", "set"} for row in do[:-1]):
                    self.assertEqual(len(listed), len(plain.losses), (data, do, listed))
            else:
                self.assertEqual(bool(done.losses), bool(plain.losses), (data, do, done.losses))
        return "refused" if plain.losses == ["refused"] else "lost" if plain.losses else "done"
