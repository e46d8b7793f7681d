"""Measure the public functions: what they say they raise, which errors have a remedy, and their signatures.

    python3 tools/measure_api.py [--list NAME]

NAME is one of the figures; then what falls short of it is listed, a line each.
"""

from __future__ import annotations

import argparse
import ast
import os
import re
from collections.abc import Iterator
from typing import NamedTuple

SRC = os.path.join(os.path.dirname(os.path.dirname(os.path.abspath(__file__))), "src")
POSITIONAL = 3  # arguments that may be given by position
EXPLAINED = ("remedy", "choices")
_RAISES = re.compile(r"Raises:|\b[Rr]aises? `|`\w+` is raised")
_BASES = (
    "Storage",
    "Step",
    "Operation",
)  # classes whose methods others override without saying it again
_COMMANDS = os.path.join("kindred_ledger", "cli")  # which nobody calls


class Found(NamedTuple):
    """One thing that was counted: where it is, and whether it is as it should be."""

    figure: str
    place: str
    good: bool


def main() -> None:
    """Print each figure, or what falls short of one."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--list", dest="figure", default="")
    chosen = parser.parse_args().figure
    found = [one for path in _sources() for one in _measured(path)]
    for figure in dict.fromkeys(one.figure for one in found):
        those = [one for one in found if one.figure == figure]
        good = sum(one.good for one in those)
        if not chosen:
            print(f"{figure:<14} {good:5d} of {len(those):5d}   {100 * good / len(those):5.1f} %")
        elif chosen == figure:
            print("\n".join(one.place for one in those if not one.good))


def _tells(node: ast.FunctionDef) -> bool:
    """Tell whether a function says what it raises, or what it carries out says it for all that do."""
    told = ast.get_docstring(node)
    if told is None:
        return node.name in _TOLD_BY_INTERFACE
    return _RAISES.search(told) is not None


def _told_by_interface() -> frozenset[str]:
    """Return the names of methods for which a protocol, or what is inherited, says what they raise."""
    found = set()
    for path in _sources():
        with open(path, encoding="utf-8") as file:
            tree = ast.parse(file.read())
        for one in ast.walk(tree):
            if not isinstance(one, ast.ClassDef):
                continue
            if one.name not in _BASES and not any(
                _text(base).split("[")[0] in ("Protocol", "ABC") for base in one.bases
            ):
                continue
            for inner in one.body:
                if isinstance(inner, ast.FunctionDef):
                    told = ast.get_docstring(inner) or ""
                    found |= {inner.name} if _RAISES.search(told) else set()
    return frozenset(found)


def _sources() -> Iterator[str]:
    for top, _, names in os.walk(SRC):
        yield from (os.path.join(top, name) for name in sorted(names) if name.endswith(".py"))


def _measured(path: str) -> Iterator[Found]:
    with open(path, encoding="utf-8") as file:
        tree = ast.parse(file.read())
    where = os.path.relpath(path, SRC)
    for node, public in _functions(tree, public=True):
        place = f"{where}:{node.lineno} {node.name}"
        if public:
            yield from _signature(node, place)
            if _raises(node) and not where.startswith(_COMMANDS):
                yield Found("raises-told", place, _tells(node))
    for one in ast.walk(tree):
        if isinstance(one, ast.Raise) and (name := _error_of(one)):
            given = {keyword.arg for keyword in one.exc.keywords}  # type: ignore[union-attr]
            good = name in _USUALLY_EXPLAINED or not given.isdisjoint(EXPLAINED)
            yield Found("remedies", f"{where}:{one.lineno} {name}", good)


def _functions(node: ast.AST, *, public: bool) -> Iterator[tuple[ast.FunctionDef, bool]]:
    """Yield the functions of a module or class, each with whether others may call it."""
    for inner in ast.iter_child_nodes(node):
        if isinstance(inner, ast.FunctionDef):
            yield inner, public and not inner.name.startswith("_")
        elif isinstance(inner, ast.ClassDef):
            yield from _functions(inner, public=public and not inner.name.startswith("_"))


def _signature(node: ast.FunctionDef, place: str) -> Iterator[Found]:
    given = [arg for arg in node.args.args if arg.arg not in ("self", "cls")]
    every = given + node.args.kwonlyargs
    if len(every) > POSITIONAL:
        yield Found("keyword-only", place, len(given) <= POSITIONAL)
    for arg in given:
        if _text(arg.annotation) == "bool":
            yield Found("bools-named", f"{place}({arg.arg})", good=False)
    for arg in node.args.kwonlyargs:
        if _text(arg.annotation) == "bool":
            yield Found("bools-named", f"{place}({arg.arg})", good=True)
    told = " ".join(_text(part) for part in (*(a.annotation for a in every), node.returns))
    yield Found("typed", place, "Any" not in told.replace("[", " ").replace("]", " ").split())


def _raises(node: ast.FunctionDef) -> bool:
    """Tell whether a function raises an error of its own, and not only in functions within it."""
    inside = [inner for inner in ast.walk(node) if isinstance(inner, ast.FunctionDef)][1:]
    hidden = {id(one) for inner in inside for one in ast.walk(inner)}
    return any(
        isinstance(one, ast.Raise) and one.exc is not None and id(one) not in hidden
        for one in ast.walk(node)
    )


def _error_of(node: ast.Raise) -> str:
    """Return the name of the error of ours that is made here; empty if it is another."""
    made = node.exc
    if not isinstance(made, ast.Call) or not isinstance(made.func, ast.Name):
        return ""
    name = made.func.id
    return name if name in _ERRORS else ""


def _text(node: ast.expr | None) -> str:
    return ast.unparse(node) if node is not None else ""


def _own_errors() -> tuple[frozenset[str], frozenset[str]]:
    """Return the names of our errors, and of those that say what usually helps."""
    with open(os.path.join(SRC, "kindred_ledger", "errors.py"), encoding="utf-8") as file:
        tree = ast.parse(file.read())
    explained = {"KindredError": False}
    for node in tree.body:
        if isinstance(node, ast.ClassDef):
            above = any(explained.get(_text(base), False) for base in node.bases)
            own = any(
                isinstance(line, ast.Assign) and _text(line.targets[0]) == "usual_remedy"
                for line in node.body
            )
            explained[node.name] = above or (own and node.name != "KindredError")
    return frozenset(explained), frozenset(name for name, good in explained.items() if good)


_ERRORS, _USUALLY_EXPLAINED = _own_errors()
_TOLD_BY_INTERFACE = _told_by_interface()


if __name__ == "__main__":
    main()
