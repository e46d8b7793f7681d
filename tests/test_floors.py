"""The house: which room may import which, what start-up may load, and that examples in docs run."""

from __future__ import annotations

import ast
import os
import subprocess
import sys
import unittest
from collections.abc import Mapping

import kindred_ledger
from tests.support import ROOT

SRC = os.path.join(ROOT, "src", "kindred_ledger")
# From the ground up; a room imports only from floors below it, and from itself.
FLOORS = (
    (
        "errors",
        "finding",
        "versions",
        "progress",
        "statement",
        "extensions",
        "os_names",
        "small_files",
        "notebook",
        "suggestions",
        "undisturbed",
        "wording",
    ),
    ("places", "formats"),
    ("merge",),
    ("ledger",),
    ("changes",),
    ("cards",),
    ("planning",),
    ("convert", "patches", "releases", "updates", "transfers", "edits", "mods", "worlds"),
    ("migrate", "operations", "testing"),
    ("report", "demo"),
    ("cli",),
    ("__main__",),
)
# Rooms of one floor that may lean on each other, with the reason.
SIDEWAYS = {
    ("transfers", "convert"): "what is carried must be brought into a form the other install reads",
    ("updates", "convert"): "which files a new build will not read is told beforehand",
    ("worlds", "convert"): "results are kept in one cache until they are in place",
    ("mods", "convert"): "a check fills what another converter left empty",
    ("edits", "convert"): "base and mine are brought into the format of the new original first",
    ("migrate", "operations"): "a step of a runbook is an operation by its kind",
    ("errors", "finding"): "an error names what was found",
    ("progress", "errors"): "the ground floor's own errors",
    ("versions", "errors"): "the ground floor's own errors",
    ("extensions", "errors"): "the ground floor's own errors",
    ("statement", "errors"): "the ground floor's own errors",
    ("wording", "versions"): "ranges of versions in words",
    ("statement", "notebook"): "a statement is shown as a table",
    ("notebook", "errors"): "the ground floor's own errors",
}
# Modules that `kindred --help` may load beyond what the bare interpreter has.
AT_START = {
    "__future__",
    "kindred_ledger",
    "kindred_ledger.cli",
    "kindred_ledger.cli.catalog",
    "kindred_ledger.cli.main",
}


def sources() -> list[str]:
    return [
        os.path.join(top, name)
        for top, _, names in os.walk(SRC)
        for name in names
        if name.endswith(".py")
    ]


def rooms_imported(path: str) -> set[str]:
    """Return the rooms a module imports from, also inside functions."""
    relative = os.path.relpath(path, SRC).split(os.sep)
    with open(path, encoding="utf-8") as file:
        tree = ast.parse(file.read())
    found = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.level:
            parts = relative[: len(relative) - node.level]
            full = [*parts, *(node.module or "").split(".")] if node.module else parts
            names = {alias.name for alias in node.names if not alias.name.startswith("__")}
            found |= {full[0]} if full and full[0] else names
        elif isinstance(node, ast.ImportFrom) and (node.module or "").startswith("kindred_ledger."):
            found.add((node.module or "").split(".")[1])
    return found


# What a command may name in a signature, and never makes: computing is the library's.
MADE_ELSEWHERE = {"Action", "Changeset", "Finding", "Line", "Statement"}
DECIDED_ELSEWHERE = {"balanced", "decide_path", "merge_files", "merge_trees"}


def computed(source: str) -> list[str]:
    """Return what a module does that is for the library to do."""
    found = []
    for node in ast.walk(ast.parse(source)):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
            found += [f"makes a {node.func.id}"] if node.func.id in MADE_ELSEWHERE else []
        if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name):
            found += ["makes a Finding"] if node.value.id == "Finding" else []
        names = [node.attr] if isinstance(node, ast.Attribute) else []
        names += [alias.name for alias in node.names] if isinstance(node, ast.ImportFrom) else []
        found += [f"uses {name}" for name in names if name in DECIDED_ELSEWHERE]
    return found


def _module(path: str) -> str:
    """Return the dotted name of a module below the package; "" is the package itself."""
    name = os.path.relpath(path, SRC).removesuffix(".py").replace(os.sep, ".")
    return name.removesuffix("__init__").removesuffix(".")


def _modules_imported(name: str, modules: Mapping[str, str]) -> set[str]:
    """Return the modules of the package that one imports, anywhere in it."""
    path = modules[name]
    with open(path, encoding="utf-8") as file:
        tree = ast.parse(file.read())
    own = name.split(".") if name else []
    folder = own if path.endswith("__init__.py") else own[:-1]
    found = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.level:
            base = folder[: len(folder) - node.level + 1]
            whole = ".".join([*base, *filter(None, (node.module or "").split("."))])
            inner = {f"{whole}.{alias.name}".lstrip(".") for alias in node.names}
            found |= (inner & modules.keys()) or {whole}
    return (found & modules.keys()) - {name}


class Floors(unittest.TestCase):
    def test_rooms_import_only_from_floors_below(self) -> None:
        """Every import of every module goes down, or is excepted with its reason."""
        level = {room: height for height, rooms in enumerate(FLOORS) for room in rooms}
        faults = []
        for path in sources():
            room = os.path.relpath(path, SRC).split(os.sep)[0].removesuffix(".py")
            if room == "__init__":
                continue  # the public names, imported lazily
            for other in rooms_imported(path):
                goes_down = level.get(other, 99) < level[room]
                if other != room and not goes_down and (room, other) not in SIDEWAYS:
                    faults.append(f"{os.path.relpath(path, SRC)} imports {other}")
        self.assertEqual(faults, [])

    def test_no_circle_of_modules(self) -> None:
        """Wherever an import stands, in a function or for types only, it closes no circle."""
        modules = {_module(path): path for path in sources()}
        left = {name: _modules_imported(name, modules) for name in modules}
        while ends := {name for name, wanted in left.items() if not wanted & left.keys()}:
            left = {name: wanted for name, wanted in left.items() if name not in ends}
        self.assertEqual(sorted(left), [])

    def test_the_command_line_computes_nothing(self) -> None:
        """It makes no change, line or finding, balances no books, and decides between no sides."""
        faults = []
        for path in sources():
            if os.path.relpath(path, SRC).split(os.sep)[0] == "cli":
                with open(path, encoding="utf-8") as file:
                    faults += [f"{os.path.basename(path)}: {f}" for f in computed(file.read())]
        self.assertEqual(faults, [])
        for text, found in (
            ("Changeset(place=x)", "makes a Changeset"),
            ("Finding.note('x', 'y')", "makes a Finding"),
            ("one.balanced(a, b)", "uses balanced"),
            ("from ..merge import merge_trees", "uses merge_trees"),
            ("from ..changes import Changeset\ndef f(x: Changeset) -> None: ...", ""),
        ):
            self.assertEqual(computed(text), [found] if found else [])

    def test_the_check_sees_imports_in_functions(self) -> None:
        """And takes a name of a package for its module where it is one."""
        modules = {_module(path): path for path in sources()}
        self.assertIn("changes.remote", _modules_imported("changes.backends", modules))
        self.assertIn("ledger.settings", _modules_imported("ledger.storage", modules))

    def test_the_check_sees_a_wrong_import(self) -> None:
        """The reader of imports finds relative imports of any depth."""
        self.assertIn("changes", rooms_imported(os.path.join(SRC, "planning", "reverting.py")))
        self.assertIn("places", rooms_imported(os.path.join(SRC, "ledger", "ledger.py")))

    def test_the_simulated_game_shares_no_code(self) -> None:
        """The judge imports the standard library and nothing else."""
        for judge in ("game.py", "server.py", "boathouse.py"):
            with open(os.path.join(SRC, "demo", judge), encoding="utf-8") as file:
                tree = ast.parse(file.read())
            for node in ast.walk(tree):
                names = [a.name for a in node.names] if isinstance(node, ast.Import) else []
                if isinstance(node, ast.ImportFrom):
                    names = [node.module or "." * node.level]
                for name in names:
                    self.assertIn(name.split(".")[0], sys.stdlib_module_names)

    def test_modules_stay_readable(self) -> None:
        """No module grows past 600 lines."""
        for path in sources():
            with open(path, encoding="utf-8") as file:
                self.assertLess(len(file.readlines()), 600, path)


class StartUp(unittest.TestCase):
    def loaded(self, code: str) -> set[str]:
        bare, full = (
            set(
                subprocess.run(
                    [sys.executable, "-c", f"{part}; import sys; print(*sys.modules)"],
                    capture_output=True,
                    text=True,
                    check=True,
                ).stdout.split()
            )
            for part in ("pass", code)
        )
        return full - bare

    def test_help_loads_almost_nothing(self) -> None:
        """`kindred --help` loads its own table of commands and no other module."""
        code = (
            "import io, sys; sys.stdout = io.StringIO(); from kindred_ledger.cli.main import main; "
        )
        code += "main(['--help']); sys.stdout = sys.__stdout__"
        self.assertEqual(self.loaded(code), AT_START)

    def test_the_package_itself_loads_almost_nothing(self) -> None:
        """`import kindred_ledger` loads no room; its names arrive when used."""
        ours = {name for name in self.loaded("import kindred_ledger") if "kindred" in name}
        self.assertEqual(ours, {"kindred_ledger"})
        heavy = {"rich", "click", "numpy", "pathspec", "platformdirs", "filelock"}
        used = self.loaded("import kindred_ledger as k; k.Ledger; k.scan; k.Version; k.compare")
        self.assertEqual(used & heavy, set())

    def test_all_public_names_are_there(self) -> None:
        """Every name of __all__ can be fetched, and no room hides one."""
        for name in kindred_ledger.__all__:
            self.assertIsNotNone(getattr(kindred_ledger, name), name)
        with self.assertRaises(AttributeError):
            kindred_ledger.nothing  # noqa: B018
