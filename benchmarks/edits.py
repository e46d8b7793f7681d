"""What merging files that both sides edited takes, beside what people would write with general libraries.

python -m benchmarks.edits [WORK...] [--rounds 3] [--tenth]

In one process, in turn: ours and the other's, the other's parsing and writing included. Ours keeps the style
of theirs, sees conflicts, counts both sides and reads the result again; the other does none of this.
`--tenth` takes a tenth of the records: how the time grows with them.
"""

from __future__ import annotations

import argparse
import io
import json
import os
import random
import shutil
import statistics
import struct
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from typing import Any

from benchmarks.measure import timed
from kindred_ledger.formats import Layout, decode
from kindred_ledger.merge import How, Side, Three, merge_files, merge_trees
from kindred_ledger.places import FolderPlace, read_bytes, scan

Pair = tuple[Callable[[], Any], Callable[[], Any]]
_FIELDS = 30


@contextmanager
def xml(count: int) -> Iterator[Pair]:
    """Keyed elements, 1% edited on each side; lxml parses three and writes one."""
    from lxml import etree

    def text(edit: int | None) -> bytes:
        rows = []
        for n in range(count):
            pay = 1000 if edit is not None and n % 100 == edit else n % 97
            rows.append(f' <hand id="{n}" name="hand {n}" pay="{pay}" home="quay {n % 50}"/>\n')
        return ("<crew>\n" + "".join(rows) + "</crew>\n").encode()

    three = Three(text(None), text(0), text(50))
    how = How("crew.xml")

    def other() -> bytes:
        trees = [etree.fromstring(data) for data in three]
        return bytes(etree.tostring(trees[2]))

    yield lambda: merge_files(three, how), other


@contextmanager
def table(count: int) -> Iterator[Pair]:
    """Rows of 30 numbers in a binary table; pandas joins on the key and takes each side's with `where`."""
    import numpy as np
    import pandas as pd

    names = [f"f{n}" for n in range(_FIELDS - 1)]
    kind = np.dtype([("id", "<u4"), *((name, "<i4") for name in names)])
    layout = Layout.parse(
        "layout t\nlittle endian\nrows table u32 {\n id u32\n"
        + "".join(f" {n} i32\n" for n in names)
        + "}\n"
    )
    draw = np.random.default_rng(7)
    base = np.zeros(count, kind)
    base["id"] = np.arange(count)
    for name in names:
        base[name] = draw.integers(0, 1000, count)
    mine, theirs = base.copy(), base.copy()
    mine["f3"][::100] += 1
    theirs["f7"][50::100] += 1
    head = struct.pack("<I", count)
    three = Three(*(head + rows.tobytes() for rows in (base, mine, theirs)))
    how = How(
        "t.bin", decode=partial(decode, codec="layout", layout=layout), keys={("rows",): "id"}
    )

    def other() -> bytes:
        frames = [
            pd.DataFrame(np.frombuffer(data or b"", kind, offset=4)).set_index("id")
            for data in three
        ]
        old, own, new = (
            frames[0],
            frames[1].reindex(frames[0].index),
            frames[2].reindex(frames[0].index),
        )
        merged = new.where(own == old, own)
        return head + bytes(merged.astype("i4").to_records(column_dtypes="<i4").tobytes())

    yield lambda: merge_files(three, how), other


@contextmanager
def csv(count: int) -> Iterator[Pair]:
    """A CSV table of 12 columns; pandas reads three, merges and writes."""
    import pandas as pd

    def text(edit: int | None) -> bytes:
        out = ["id," + ",".join(f"c{n}" for n in range(11)) + "\n"]
        for n in range(count):
            pay = 1000 if edit is not None and n % 100 == edit else n % 97
            out.append(f"{n},{pay}," + ",".join(str((n * k) % 1009) for k in range(2, 12)) + "\n")
        return "".join(out).encode()

    three = Three(text(None), text(0), text(50))
    how = How("t.csv")

    def other() -> bytes:
        frames = [pd.read_csv(io.BytesIO(data or b"")).set_index("id") for data in three]
        old, own, new = frames
        merged = new.where(own.reindex(new.index) == old.reindex(new.index), own)
        return bytes(merged.to_csv().encode())

    yield lambda: merge_files(three, how), other


@contextmanager
def json_list(count: int) -> Iterator[Pair]:
    """A list of records; loads three, dicts by hand, dumps."""

    def rows(edit: int | None) -> bytes:
        made = [
            {
                "id": n,
                "name": f"hand {n}",
                "pay": 1000 if n % 100 == edit else n % 97,
                "home": n % 50,
            }
            for n in range(count)
        ]
        return json.dumps(made, indent=1).encode()

    three = Three(rows(None), rows(0), rows(50))
    how = How("t.json")

    def other() -> bytes:
        old, own, new = ({row["id"]: row for row in json.loads(data or b"")} for data in three)
        for key, row in own.items():
            if key not in old or key not in new:
                new[key] = row
            else:
                new[key].update((k, v) for k, v in row.items() if v != old[key].get(k))
        return json.dumps(list(new.values()), indent=1).encode()

    yield lambda: merge_files(three, how), other


@contextmanager
def text(count: int) -> Iterator[Pair]:
    """Lines, 200 edits a side, as `git merge-file` merges them."""
    draw = random.Random(7)
    lines = [f"line {n} {draw.random()}\n" for n in range(count)]
    sides = [list(lines), list(lines)]
    step = count // 200
    for side, start in zip(sides, (0, step // 2), strict=True):
        for n in range(start, count, step):
            side[n] = f"edited {n}\n"
    three = Three(*("".join(each).encode() for each in (lines, *sides)))
    with tempfile.TemporaryDirectory() as folder:
        paths = [os.path.join(folder, name) for name in ("mine", "base", "theirs")]
        for path, data in zip(paths, (three.mine, three.base or b"", three.theirs), strict=True):
            with open(path, "wb") as file:
                file.write(data)
        command = ["git", "merge-file", "-p", *paths]
        how = How("t.txt")
        yield (
            lambda: merge_files(three, how),
            lambda: subprocess.run(command, check=True, stdout=subprocess.PIPE),
        )


@contextmanager
def trees(count: int) -> Iterator[Pair]:
    """Trees of files, 100 edited on each side; against reading all of one of them."""
    with tempfile.TemporaryDirectory() as folder:
        base = os.path.join(folder, "base")
        for n in range(count):
            path = os.path.join(base, str(n % 100), f"{n}.ini")
            os.makedirs(os.path.dirname(path), exist_ok=True)
            with open(path, "wb") as made:
                made.write(f"[a]\nn = {n}\nm = 1\nk = 2\n".encode() + b"; padding\n" * 100)
        for name, mark in (("mine", b"n = 7"), ("theirs", b"k = 9")):
            shutil.copytree(base, os.path.join(folder, name))
            for n in range(0, 100):
                path = os.path.join(folder, name, str(n % 100), f"{n}.ini")
                with open(path, "rb") as file:
                    lines = file.read().split(b"\n")
                lines[1 if mark[0] == 110 else 3] = mark
                with open(path, "wb") as out:
                    out.write(b"\n".join(lines))
        places = [FolderPlace(os.path.join(folder, name)) for name in ("base", "mine", "theirs")]
        found = [scan(place) for place in places]

        def ours() -> None:
            for each in merge_trees(*found):
                if each.changed_by is Side.BOTH and each.choice is None:
                    three = Three(*(read_bytes(place, each.path) for place in places))
                    merge_files(three, How(each.path))

        def other() -> None:
            for path in found[0].files:
                read_bytes(places[0], path)

        yield ours, other


WORKS: dict[str, tuple[Callable[[int], Any], int]] = {
    "xml": (xml, 100_000),
    "table": (table, 1_000_000),
    "csv": (csv, 1_000_000),
    "json": (json_list, 200_000),
    "text": (text, 50_000),
    "trees": (trees, 10_000),
}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("works", nargs="*", default=[*WORKS])
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--tenth", action="store_true")
    options = parser.parse_args()
    print(
        f"{'':8}{'records':>10}{'ours : other':>14}{'lowest':>9}{'highest':>9}{'ours s':>9}{'other s':>9}"
    )
    for name in options.works:
        make, count = WORKS[name]
        count = count // 10 if options.tenth else count
        with make(count) as (ours, other):
            times = [(timed(ours)[0], timed(other)[0]) for _ in range(options.rounds)]
        ratios = [one / two for one, two in times]
        low, middle, high = min(ratios), statistics.median(ratios), max(ratios)
        seconds = [statistics.median(column) for column in zip(*times, strict=True)]
        print(
            f"{name:8}{count:>10,}{middle:>14.2f}{low:>9.2f}{high:>9.2f}{seconds[0]:>9.2f}{seconds[1]:>9.2f}"
        )


if __name__ == "__main__":
    main()
