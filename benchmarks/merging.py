"""What merging a table of records takes, beside a script that does it record by record.

python -m benchmarks.merging [--rounds 5] [--records 20000]

In one process, one kind of file after another: 1% of the records changed on each side, one added on each.
The script reads the three files with the standard library, takes what either side changed, and writes them
anew: it keeps no style, sees no conflict, counts nothing and reads nothing back.
"""

from __future__ import annotations

import argparse
import csv
import io
import json
import statistics
import xml.etree.ElementTree as ElementTree
from typing import Any

from benchmarks.measure import timed
from kindred_ledger.merge import How, Three, merge_files

Rows = list[dict[str, str]]


def sides(count: int) -> tuple[Rows, Rows, Rows]:
    """Return the records of base, mine and theirs."""

    def rows() -> Rows:
        return [
            {"id": str(n), "name": f"hand {n}", "pay": str(n % 97), "home": f"quay {n % 50}"}
            for n in range(count)
        ]

    base, mine, theirs = rows(), rows(), rows()
    for n in range(0, count, 100):
        mine[n]["pay"] = "1000"
        theirs[n + 50]["home"] = "Moss Quay"
    mine.append({"id": "mine", "name": "m", "pay": "1", "home": "x"})
    theirs.insert(5, {"id": "theirs", "name": "t", "pay": "2", "home": "y"})
    return base, mine, theirs


def written(rows: Rows, kind: str) -> bytes:
    """Return records as a file of a kind."""
    if kind == "json":
        return json.dumps({"crew": rows}, indent=1).encode()
    if kind == "csv":
        out = io.StringIO()
        table = csv.DictWriter(out, list(rows[0]))
        table.writeheader()
        table.writerows(rows)
        return out.getvalue().encode()
    elements = (" ".join(f'{key}="{value}"' for key, value in row.items()) for row in rows)
    return ("<crew>\n" + "".join(f" <hand {each}/>\n" for each in elements) + "</crew>\n").encode()


def read(data: bytes, kind: str) -> dict[str, dict[str, Any]]:
    """Return records by their ids, as a script would read them."""
    if kind == "json":
        rows: Any = json.loads(data)["crew"]
    elif kind == "csv":
        rows = csv.DictReader(io.StringIO(data.decode()))
    else:
        rows = (element.attrib for element in ElementTree.fromstring(data))
    return {row["id"]: dict(row) for row in rows}


def by_hand(three: Three, kind: str) -> bytes:
    """Merge record by record."""
    assert three.base is not None
    base, mine, theirs = (read(data, kind) for data in three)  # type: ignore[arg-type]
    for id, own in mine.items():
        old, new = base.get(id), theirs.get(id)
        if new is None or old is None:
            theirs[id] = own
        else:
            new.update((key, value) for key, value in own.items() if value != old.get(key))
    return written(list(theirs.values()), kind)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--records", type=int, default=20_000)
    options = parser.parse_args()
    print(f"{'':8}{'MB':>6}{'ours : script':>16}{'lowest':>9}{'highest':>9}")
    for kind in ("json", "csv", "xml"):
        three = Three(*(written(rows, kind) for rows in sides(options.records)))
        how = How(f"crew.{kind}")
        ratios = [
            timed(lambda: merge_files(three, how))[0] / timed(lambda: by_hand(three, kind))[0]  # noqa: B023
            for _ in range(options.rounds)
        ]
        mb = len(three.mine) / 1e6
        low, middle, high = min(ratios), statistics.median(ratios), max(ratios)
        print(f"{kind:8}{mb:>6.1f}{middle:>16.1f}{low:>9.1f}{high:>9.1f}")


if __name__ == "__main__":
    main()
