#!/usr/bin/env python3
"""Write the API reference as static pages, made from the docstrings of the public names.

    python3 bootstrap.py check                           # installs pdoc with the check extras
    .venv/bin/python tools/api_reference.py [--out build/api]

Every public name has a page section; a name without a docstring ends it with status 1.
"""

from __future__ import annotations

import argparse
import inspect
import os
import sys
from pathlib import Path

import pdoc

import kindred_ledger

ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))


def main() -> int:
    """Write the pages; return 1 if a public name says nothing."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--out", default=os.path.join(ROOT, "build", "api"))
    options = parser.parse_args()
    silent = []
    for name in kindred_ledger.__all__:
        value = getattr(kindred_ledger, name)
        setattr(kindred_ledger, name, value)  # the package fetches its names when they are used
        if (inspect.isclass(value) or inspect.isfunction(value)) and not inspect.getdoc(value):
            silent.append(name)
    pdoc.render.configure(docformat="google", show_source=False, search=True)
    modules = ["kindred_ledger", "kindred_ledger.operations", "kindred_ledger.testing"]
    pdoc.pdoc(*modules, output_directory=Path(options.out))
    with open(os.path.join(options.out, "kindred_ledger.html"), encoding="utf-8") as file:
        page = file.read()
    missing = [name for name in kindred_ledger.__all__ if f'id="{name}"' not in page]
    for name in silent:
        print(f"{name} has no docstring")
    for name in missing:
        print(f"{name} is not on the page")
    print(f"{len(kindred_ledger.__all__)} public names: {os.path.join(options.out, 'index.html')}")
    return int(bool(silent or missing))


if __name__ == "__main__":
    sys.exit(main())
