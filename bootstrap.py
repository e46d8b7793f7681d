#!/usr/bin/env python3
"""Set up and run everything from a fresh machine with nothing but Python.

    python3 bootstrap.py demo  [--quick] [--dir DIR]    install and tell the story
    python3 bootstrap.py test  [-k WORD]                install with the test extras, run the suite
    python3 bootstrap.py check                          the same: lint, types, the API reference

Standard library only. Each makes the environment it needs in .venv beside this file, and is quick
the second time. Further arguments are passed on. Works on Linux, macOS and Windows.
"""

from __future__ import annotations

import hashlib
import os
import subprocess
import sys

HERE = os.path.dirname(os.path.abspath(__file__))
VENV = os.path.join(HERE, ".venv")
OLDEST = (3, 11)
EXTRAS = {"demo": "[demo]", "test": "[test]", "check": "[check]"}


def main(argv: list[str]) -> int:
    """Run one of the three; return its exit status."""
    if not argv or argv[0] not in EXTRAS:
        print(__doc__)
        return 0 if argv[:1] in (["--help"], ["-h"]) else 2
    if sys.version_info < OLDEST:
        print(
            f"This needs Python {OLDEST[0]}.{OLDEST[1]} or newer; this is {sys.version.split()[0]}."
        )
        return 2
    name, rest = argv[0], argv[1:]
    python = environment()
    install(python, name)
    commands = {
        "demo": [["-m", "kindred_ledger.cli.main", "demo", *rest]],
        "test": [[os.path.join("tests", "run.py"), *rest]],
        "check": [
            ["-m", "ruff", "check", "."],
            ["-m", "ruff", "format", "--check", "."],
            ["-m", "mypy", *rest],
            [os.path.join("tools", "api_reference.py")],
        ],
    }
    statuses = [
        subprocess.run([python, *command], cwd=HERE, check=False).returncode
        for command in commands[name]
    ]
    return max(map(abs, statuses))


def environment() -> str:
    """Make the virtual environment if it is not there; return its interpreter."""
    folder, program = ("Scripts", "python.exe") if os.name == "nt" else ("bin", "python")
    python = os.path.join(VENV, folder, program)
    if not os.path.exists(python):
        print(f"Making an environment in {VENV} …", flush=True)
        done = subprocess.run([sys.executable, "-m", "venv", VENV], check=False)
        if done.returncode:
            print("This Python cannot make environments; on Debian: apt-get install python3-venv")
            sys.exit(done.returncode)
    return python


def install(python: str, name: str) -> None:
    """Install the package with the extras that `name` needs, unless that was done already."""
    with open(os.path.join(HERE, "pyproject.toml"), "rb") as file:
        state = hashlib.sha256(file.read() + sys.version.encode()).hexdigest()
    stamp = os.path.join(VENV, f"installed-{name}")
    if os.path.exists(stamp):
        with open(stamp) as text:
            if text.read() == state:
                return
    print("Installing …", flush=True)
    quiet = ["--quiet", "--disable-pip-version-check", "--no-input"]
    done = subprocess.run(
        [python, "-m", "pip", "install", *quiet, "-e", f".{EXTRAS[name]}"],
        cwd=HERE,
        stdin=subprocess.DEVNULL,
        check=False,
    )
    if done.returncode:
        print("The packages could not be installed; is there a way to the Python package index?")
        sys.exit(done.returncode)
    with open(stamp, "w") as text:
        text.write(state)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
