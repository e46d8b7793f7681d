"""The ferry house of a Mossferry server, made up: it loads its tables and says whether it can run on them.

    python3 ferryhouse.py        # status 0 and what it loaded, or 1 and what is wrong

Written apart from what changes its files, so that it can judge them.
"""

import configparser
import os
import struct
import sys
import xml.etree.ElementTree as tree

HERE = os.path.dirname(os.path.abspath(__file__))


class Refused(Exception):
    """A file the program cannot run on."""


def tables(folder: str, build: tuple[int, ...]) -> tuple[int, int]:
    """Load quays and goods."""
    price = "toll" if build >= (2, 0) else "fare"
    wanted = "2" if build >= (2, 0) else "1"
    quays = tree.parse(os.path.join(folder, "tables", "quays.xml")).getroot()
    goods = tree.parse(os.path.join(folder, "tables", "goods.xml")).getroot()
    for root in (quays, goods):
        if root.get("format") != wanted:
            raise Refused(f"a table is of format {root.get('format')}, {wanted} is needed")
    ids = [quay.get("id") for quay in quays.findall("quay")]
    if len(set(ids)) < len(ids):
        raise Refused("two quays have one id")
    if int(quays.get("quays", 0)) != len(ids):
        raise Refused(f"the head says {quays.get('quays')} quays, there are {len(ids)}")
    for quay in quays.findall("quay"):
        if not quay.get(price, "").isdigit():
            raise Refused(f"quay {quay.get('id')} has no {price}")
    for good in goods.findall("good"):
        if good.get("at") not in ids:
            raise Refused(f"{good.get('id')} is sold at a quay that is not there")
        if float(good.get("price", 0)) <= 0:
            raise Refused(f"{good.get('id')} costs nothing")
    return len(ids), len(goods.findall("good"))


def currents(folder: str) -> int:
    """Load the currents."""
    with open(os.path.join(folder, "data", "currents.bin"), "rb") as file:
        data = file.read()
    magic, form, count = struct.unpack_from("<4sHH", data)
    if magic != b"MFCU" or form != 1:
        raise Refused("these are no currents")
    at = 8
    for _ in range(count):
        at += 2
        at += 1 + data[at]
        pull, _depth = struct.unpack_from("<fH", data, at)
        if not 0 <= pull < 20:
            raise Refused("a current pulls more than any ferry")
        at += 6
    if at != len(data):
        raise Refused("there is more behind the currents")
    return int(count)


def main() -> int:
    """Load all, and say what was loaded."""
    with open(os.path.join(HERE, "version.txt"), encoding="utf-8") as file:
        version = file.read().split()[-1]
    build = tuple(map(int, version.split(".")))
    config = configparser.ConfigParser()
    config.read(os.path.join(HERE, "config", "house.ini"))
    try:
        quays, goods = tables(HERE, build)
        reaches = currents(HERE)
        slots = int(config["house"]["slots"])
        with open(os.path.join(HERE, "notice.txt"), encoding="utf-8") as file:
            lines = len(file.read().splitlines())
    except (Refused, KeyError, ValueError, struct.error, OSError, tree.ParseError) as error:
        print(f"the ferry house {version} does not open: {error}")
        return 1
    print(
        f"the ferry house {version} opens: {quays} quays, {goods} goods, {reaches} reaches, {slots} berths, "
        f"{lines} lines of notice"
    )
    return 0


if __name__ == "__main__":
    sys.exit(main())
