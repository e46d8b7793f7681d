"""Edits made by a script in consecutive releases of real packages: is each found again, and none invented?

python -m benchmarks.real_trees OLD NEW [OLD NEW ...] [--rounds 8]

OLD and NEW are folders with two releases of something written in text, such as `pip install --no-deps
--target FOLDER NAME==VERSION` makes. In each round ten files of the old one get one to three edits each;
the edits are taken, and brought to the new one. Each merged file is held against that of `git merge-file`.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import subprocess
import tempfile
from collections import Counter

import kindred_ledger as kl
from kindred_ledger.places import read_bytes

_LEFT_OUT = shutil.ignore_patterns("__pycache__", "*.dist-info", "bin")


def edit(folder: str, draw: random.Random) -> list[tuple[str, str]]:
    """Edit ten programs in a folder; return the path and the mark of each edit that is there then."""
    programs = sorted(
        os.path.relpath(os.path.join(top, name), folder)
        for top, _, names in os.walk(folder)
        for name in names
        if name.endswith(".py")
    )
    made = []
    for path in draw.sample(programs, min(10, len(programs))):
        full = os.path.join(folder, path)
        with open(full, encoding="utf-8", newline="") as file:
            lines = file.read().split("\n")
        marks = []
        for _ in range(draw.randrange(1, 4)):
            at, mark = draw.randrange(len(lines)), f"# edit {draw.random()}"
            match draw.randrange(3):
                case 0:
                    lines.insert(at, mark)
                case 1:
                    lines[at] += f"  {mark}"
                case _:
                    lines[at] = mark
            marks.append(mark)
        text = "\n".join(lines)
        with open(full, "w", encoding="utf-8", newline="") as file:
            file.write(text)
        made += [(path, mark) for mark in marks if mark in text]
    return made


def one_round(old: str, new: str, seed: int, work: str) -> Counter[str]:
    """Edit, take, reapply; return what came of it."""
    told: Counter[str] = Counter()
    base, mine, theirs = (os.path.join(work, name) for name in ("base", "mine", "theirs"))
    for source, target in ((old, base), (old, mine), (new, theirs)):
        shutil.copytree(source, target, ignore=_LEFT_OUT)
    made = edit(mine, random.Random(seed))
    touched = {path for path, _ in made}
    with kl.Ledger.open(os.path.join(work, "ledger")) as ledger:
        edits = kl.take_edits(mine, ledger=ledger, old=base)
        lines = "\n".join(line for each in edits.lines for line in each.after)
        told["edits made"] = len(made)
        told["edits found"] = sum(mark in lines for _, mark in made)
        told["files invented"] = len({each.file for each in edits.files} - touched)
        change = kl.reapply(
            mine, theirs, ledger=ledger, old=base, into=os.path.join(work, "result")
        )
        open_ones = {each.where for each in change.conflicts}
        for action in change.actions:
            if action.path not in touched or action.source is None:
                continue
            sides = [os.path.join(side, action.path) for side in (mine, base, theirs)]
            done = subprocess.run(
                ["git", "merge-file", "-p", "--quiet", *sides], stdout=subprocess.PIPE, check=False
            )
            conflict = bool(done.returncode), action.path in open_ones
            if conflict == (False, False):
                data = read_bytes(action.source, action.source_path or action.path)
                told[
                    "clean in both, " + ("the same" if data == done.stdout else "other") + " bytes"
                ] += 1
            else:
                told[{(True, True): "conflict in both"}.get(conflict, "conflict in one")] += 1
    return told


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folders", nargs="+")
    parser.add_argument("--rounds", type=int, default=8)
    options = parser.parse_args()
    told: Counter[str] = Counter()
    for old, new in zip(options.folders[::2], options.folders[1::2], strict=True):
        for seed in range(options.rounds):
            with tempfile.TemporaryDirectory() as work:
                told += one_round(old, new, seed, work)
    for what, number in sorted(told.items()):
        print(f"{number:>7,}  {what}")


if __name__ == "__main__":
    main()
