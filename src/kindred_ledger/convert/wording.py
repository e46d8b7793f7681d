"""Wording: what a hop between two versions does, step by step, in words."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from msgspec import Struct

from ..cards import Format
from ..formats import changes_between, format_path
from .routes import Hop

__all__ = ["StepDescription", "describe_step"]

_MOST = 4  # values of a table that are shown


class StepDescription(Struct, frozen=True):
    """One thing a hop does, and whether it loses something; or a condition of it."""

    text: str
    loses: bool = False
    is_condition: bool = False


def describe_step(format: Format, hop: Hop) -> list[StepDescription]:
    """Return what a hop does: the steps of the card, then what the layout does by itself."""
    out = []
    taken: set[str] = set()  # what steps take away, each with a line of its own if that is a loss
    made: set[str] = set()
    if hop.number >= 0:
        for row in format.table.steps[hop.number].do:
            verb = next(name for name in row if name in _WORDS)
            loses = (verb in ("drop", "drop_files") and not row.get("lossless")) or bool(
                row.get("loses")
            )
            lost = f", which loses {row['loses']}" if row.get("loses") else ""
            out.append(StepDescription(_WORDS[verb](row) + lost, loses, verb == "require"))
            taken |= _taken(verb, row)
            made |= _made(verb, row)
    if format.layout is not None:
        for each in changes_between(format.layout, int(hop.source.text), int(hop.target.text)):
            name = format_path(each.path)
            if each.derived or any(_lies_in(name, at) for at in (made if each.comes else taken)):
                continue
            if each.comes:
                out.append(StepDescription(f"{name} is new: {_value(each.default)}"))
            else:
                out.append(
                    StepDescription(f"{name} goes: format {hop.target} has none", loses=True)
                )
    return out


def _taken(verb: str, row: Mapping[str, Any]) -> set[str]:
    """Return the paths that a step takes away."""
    if verb in ("rename", "move", "drop", "split"):
        return {str(row[verb])}
    return {*map(str, row["join"])} if verb == "join" else set()


def _made(verb: str, row: Mapping[str, Any]) -> set[str]:
    """Return the paths that a step makes."""
    if verb in ("set", "default"):
        return {str(row[verb])}
    beside = str(row[verb]).rpartition(".")[0] if isinstance(row[verb], str) else ""
    if verb == "rename":
        return {f"{beside}.{row['to']}".lstrip(".")}
    if verb == "split":
        return {f"{beside}.{name}".lstrip(".") for name in row["into"]}
    return {str(row[key]) for key in ("to", "into") if isinstance(row.get(key), str)}


def _lies_in(name: str, path: str) -> bool:
    return name == path or name.startswith((path + ".", path + "["))


def _require(row: Mapping[str, Any]) -> str:
    name = row["require"]
    conditions: dict[str, Callable[[Any], str]] = {
        "equals": lambda v: f"is {_value(v)}", "one_of": lambda v: f"is one of {', '.join(map(_value, v))}",
        "at_least": lambda v: f"is at least {v}", "at_most": lambda v: f"is at most {v}",
        "holds": lambda v: f"fits {v}", "exists": lambda v: "is there" if v else "is not there",
    }  # fmt: skip
    told = [words(row[key]) for key, words in conditions.items() if key in row]
    return f"only if {name} {' and '.join(told) or 'is there'}"


def _becomes(row: Mapping[str, Any]) -> str:
    where = f" where {row['where']}" if "where" in row else ""
    return f"{row['set']} becomes {row.get('by') or _value(row.get('value'))}{where}"


def _default(row: Mapping[str, Any]) -> str:
    return f"{row['default']} is {row.get('by') or _value(row.get('value'))} where it is missing"


def _map(row: Mapping[str, Any]) -> str:
    table = row["table"]
    if not isinstance(table, dict):
        return f"{row['map']} is translated by the table {table}"
    pairs = [f"{old} to {_value(new)}" for old, new in list(table.items())[:_MOST]]
    more = f" and {len(table) - _MOST} more" if len(table) > _MOST else ""
    return f"{row['map']} goes from {', '.join(pairs)}{more}"


def _rescale(row: Mapping[str, Any]) -> str:
    plus = f" plus {row['plus']}" if row.get("plus") else ""
    digits = row.get("round")
    rounded = (
        "" if digits is None else ", to whole numbers" if not digits else f", to {digits} digits"
    )
    return f"{row['rescale']} is times {row.get('times', 1)}{plus}{rounded}"


def _split(row: Mapping[str, Any]) -> str:
    return f"{row['split']} is split into {' and '.join(row['into'])}"


def _join(row: Mapping[str, Any]) -> str:
    return f"{' and '.join(row['join'])} are joined into {row['into']}"


def _reorder(row: Mapping[str, Any]) -> str:
    return f"{row['reorder']} is ordered by {row.get('by') or ', '.join(row.get('keys', ()))}"


def _drop(row: Mapping[str, Any]) -> str:
    where = f" where {row['where']}" if "where" in row else ""
    return f"{row['drop']}{where} goes: {row['reason']}"


_WORDS: dict[str, Callable[[Mapping[str, Any]], str]] = {
    "require": _require,
    "rename": lambda row: f"{row['rename']} is called {row['to']}",
    "move": lambda row: f"{row['move']} goes to {row['to']}",
    "set": _becomes,
    "default": _default,
    "map": _map,
    "retype": lambda row: f"{row['retype']} is {row['as']} now",
    "rescale": _rescale,
    "split": _split,
    "join": _join,
    "reorder": _reorder,
    "renumber": lambda row: f"{row['renumber']} is renumbered by name",
    "drop": _drop,
    "move_files": lambda row: f"files {row['move_files']} go to {row['to']}",
    "drop_files": lambda row: f"files {row['drop_files']} go: {row['reason']}",
    "hook": lambda row: f"{row['reason']}, by {row['hook']} of an installed package",
}


def _value(value: Any) -> str:
    return (
        {True: "true", False: "false"}.get(value, str(value))
        if isinstance(value, bool)
        else str(value)
    )
