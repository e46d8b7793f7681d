"""Describe a title nobody has described: saves with a directory, settings without a version, XML tables.

    python examples/describe_a_title.py [FOLDER]

Writes a made-up install of Quaywright into FOLDER, or a temporary one, and converts it to what build 2 reads.
"""

from __future__ import annotations

import os
import struct
import sys
import tempfile
import zlib

import kindred_ledger as kl

CARD = """
card = 1
title = "quaywright"
[program]
markers = ["quaywright.exe"]
[[detect]]
file = "version.txt"
pattern = "build {version}"
[categories.logs]
include = ["*.log"]
disposable = true

[formats.project]                       # the layout alone converts it
files = ["/program/projects/*.quay"]
codec = "layout"
layout = "project.layout"
builds = [{ builds = "<2", writes = "1", reads = ["1"] }, { builds = ">=2", writes = "2", reads = ["2"] }]

[formats.settings]                      # says its version nowhere: what is in it tells it
files = ["/program/settings.json"]
codec = "json"
version = { signs = { "1" = { has = "keys" }, "2" = { has = "bindings", lacks = "keys" } } }
builds = [{ builds = "<2", writes = "1", reads = ["1"] }, { builds = ">=2", writes = "2", reads = ["2"] }]
steps = [{ from = "1", to = "2", do = [{ rename = "keys", to = "bindings" }] }]

[formats.parts]
files = ["/program/parts/*.xml"]
codec = "xml"
version = { key = "@format" }
keys = { "part" = "@id" }
builds = [{ builds = "<2", writes = "1", reads = ["1"] }, { builds = ">=2", writes = "2", reads = ["2"] }]
steps = [{ from = "1", to = "2", do = [{ rename = "part[*].@len", to = "@length" }] }]
"""
LAYOUT = """
layout project
big endian
versions 1 to 2 from version
magic      bytes 4 = "QUAY"
version    u16
sections   u16
directory  table sections { tag bytes 4, at u32, size u32, raw u32 }
parts      each directory at at size size unpacked raw block to end zlib choice tag {
    "TITL" { name text u16, author text u8   since 2 default "" }
    "BERT" {
        count   u16 = (length(berths))
        berths  table u16 { id u16, depth f32, crane u8   since 2 default 1 }
        notes   block u32 zlib table u8 text u16
    }
    else bytes to end
}
check      crc32 of start to here
"""


def main(folder: str) -> None:
    """Tell the story in `folder`."""
    lines = len((CARD + LAYOUT).strip().splitlines())
    print(f"the card and the layout have {lines} lines")
    write(folder)
    card = kl.Card.load(os.path.join(folder, "quaywright.card.toml"))
    report = kl.check_card(card)
    print(f"checked: {report.conversions} conversions of made-up files, sound: {report.is_sound}")
    ledger = kl.Ledger.open(os.path.join(folder, "ledger"))
    install = card.open(os.path.join(folder, "quaywright"))
    entry = ledger.backup(install, note="before build 2")
    print(f"stored: {entry.files} files; {entry.findings[0].what}")
    change = kl.convert_install(install, "2.0", ledger=ledger)
    print(change.summary)
    done = change.apply(ledger, allow_loss=True)
    for statement in done.statements:
        print(
            f"  {statement.subject}: {statement.counted_before} before, {statement.counted_after} after"
        )
    with open(os.path.join(folder, "quaywright", "projects", "mill.quay"), "rb") as file:
        document = card.formats["project"].decode(file.read())
    print(f"berth 0 is now {document.get('parts[1].berths[0]')}")
    kl.undo(done, ledger=ledger).apply(ledger, allow_loss=True)
    print(f"undone: {kl.compare(ledger.place(entry), install.place).differences == ()}")


def write(folder: str) -> None:
    """Write the card, its layout, and an install of build 1."""
    files = {
        "quaywright.card.toml": CARD.encode(),
        "project.layout": LAYOUT.encode(),
        "quaywright/quaywright.exe": b"MZ",
        "quaywright/version.txt": b"build 1.4",
        "quaywright/run.log": b"started\\n",
        "quaywright/settings.json": b'{"keys": {"turn": "R"}, "volume": 0.8}',
        "quaywright/parts/bollards.xml": b'<parts format="1"><part id="b1" len="2.5"/></parts>',
        "quaywright/projects/mill.quay": project(),
    }
    for path, data in files.items():
        full = os.path.join(folder, *path.split("/"))
        os.makedirs(os.path.dirname(full), exist_ok=True)
        with open(full, "wb") as file:
            file.write(data)


def project() -> bytes:
    """Return a project as build 1 writes it."""
    notes = zlib.compress(b"\x01\x00\x05tight")
    berths = b"".join(struct.pack(">Hf", number, 2.5 + number) for number in range(3))
    bodies = [
        (b"TITL", b"\x00\x0cEelgate Mill"),
        (b"BERT", struct.pack(">HH", 3, 3) + berths + struct.pack(">I", len(notes)) + notes),
        (b"VIEW", bytes(16)),
    ]
    directory, parts, at = b"", b"", 8 + 16 * len(bodies)
    for tag, body in bodies:
        packed = zlib.compress(body)
        directory += tag + struct.pack(">III", at, len(packed), len(body))
        parts, at = parts + packed, at + len(packed)
    out = b"QUAY" + struct.pack(">HH", 1, len(bodies)) + directory + parts
    return out + struct.pack(">I", zlib.crc32(out))


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as temporary:
        main(sys.argv[1] if len(sys.argv) > 1 else temporary)
