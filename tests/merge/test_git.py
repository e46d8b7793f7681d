"""Line merges beside those of `git merge-file`: the same bytes, and conflicts in the same texts."""

from __future__ import annotations

import random
import shutil
import subprocess
import unittest
from collections import Counter

from kindred_ledger.merge import How, Three, merge_files, merge_lines
from tests.support import Case, write

_UNIQUE, _REPEATING = 150, 150  # triples


def edited(lines: list[str], draw: random.Random, pool: list[str]) -> list[str]:
    out = list(lines)
    for _ in range(draw.randrange(5)):
        at = draw.randrange(len(out) + 1)
        match draw.randrange(4):
            case 1 if at < len(out):
                del out[at]
            case 2 if at < len(out):
                out[at] = draw.choice(pool)
            case 3:
                out[at:at] = [draw.choice(pool) for _ in range(draw.randrange(1, 4))]
            case _:
                out.insert(at, draw.choice(pool))
    return out


@unittest.skipIf(shutil.which("git") is None, "needs git")
class BesideGit(Case):
    def outcome(self, three: Three) -> str:
        """Return how both end: alike, or in what way apart."""
        sides = {"mine": three.mine, "base": three.base, "theirs": three.theirs}
        write(self.folder, sides)
        done = subprocess.run(
            ["git", "merge-file", "-p", "--quiet", *(self.path(name) for name in sides)],
            stdout=subprocess.PIPE,
            check=False,
        )
        ours = merge_lines(three.base or b"", three.mine, three.theirs)
        if bool(done.returncode) != bool(ours.conflicts):
            return "only one conflicts"
        same = bool(ours.conflicts) or ours.data == done.stdout
        return "alike" if same else "another order"

    def triple(self, seed: int, *, unique: bool) -> Three:
        draw = random.Random(seed)
        pool = [f"line {n}" for n in range(1000)] if unique else list("abcd")
        size = draw.randrange(40)
        base = [f"text {n}" if unique else draw.choice(pool) for n in range(size)]
        sides = (base, edited(base, draw, pool), edited(base, draw, pool))
        return Three(*("".join(f"{line}\n" for line in side).encode() for side in sides))

    def test_lines_that_differ(self) -> None:
        """Where lines can be told from each other, every outcome is the same."""
        for seed in range(_UNIQUE):
            self.assertEqual(self.outcome(self.triple(seed, unique=True)), "alike", seed)

    def test_lines_that_repeat(self) -> None:
        """Of four lines again and again, which one was kept is a choice: alike in nine of ten at least."""
        told = Counter(self.outcome(self.triple(seed, unique=False)) for seed in range(_REPEATING))
        self.assertGreaterEqual(told["alike"], 0.9 * _REPEATING, told)

    def test_programs_are_texts(self) -> None:
        """What looks like settings in places is merged by its lines where its name says it is a program."""
        base = b"[table]\nfare = 3\ntoll = 4\n# where\nquay = 5\nboat = 6\n"
        mine = base.replace(b"# where", b"# where it lands")
        theirs = base.replace(b"fare = 3", b"fare = 9")
        for name in ("ferry.py", "ferry.lua", "ferry.sh"):
            merged = merge_files(Three(base, mine, theirs), How(name))
            self.assertEqual(merged.data, mine.replace(b"fare = 3", b"fare = 9"))
            self.assertEqual((merged.statement.unit, merged.lost), ("lines", ()))
        settings = merge_files(Three(base, mine, theirs), How("ferry.dat"))
        self.assertEqual(settings.statement.unit, "fields")


if __name__ == "__main__":
    unittest.main()
