"""Write a step for a format of your own, and let the card be checked.

    python examples/write_a_step.py

Quaywright 3 counts the planks of a quay where 2 measured it in feet, and keeps its name in two
parts. The first try forgets that quays may have neither; `check_card` says so, with the place.
"""

from __future__ import annotations

import os
import tempfile

import kindred_ledger as kl
from kindred_ledger.convert import Sample, check_card

CARD = """card = 1
title = "quaywright"
[program]
markers = ["quaywright.exe"]
[formats.quay]
files = ["*.quay"]
codec = "json"
version = {{ key = "format" }}
builds = [
  {{ builds = ">=2,<3", writes = "2", reads = ["2"] }},
  {{ builds = ">=3", writes = "3", reads = ["2", "3"] }},
]
[[formats.quay.steps]]
from = "2"
to = "3"
do = [
  {{ rename = "feet", to = "planks" }},
  {step},
  {{ split = "name", into = ["name", "kind"] }},
]
"""
SAMPLES = (
    Sample("ashwater.quay", b'{"format": 2, "name": "Ashwater Quay", "feet": 42}'),
    Sample("nowhere.quay", b'{"format": 2, "name": "Nowhere Stage", "feet": null}'),
)
FIRST = '{ set = "planks", by = "ceil(value / 1.5)" }'
SECOND = '{ set = "planks", by = "ceil(value / 1.5)", where = "value != none" }'


def main(folder: str) -> None:
    """Check a card with a mistake and without, and convert the samples by the second."""
    for step in (FIRST, SECOND):
        path = os.path.join(folder, "quaywright.card.toml")
        with open(path, "w", encoding="utf-8") as file:
            file.write(CARD.format(step=step))
        card = kl.Card.load(path)
        report = check_card(card, SAMPLES)
        print("sound" if report.is_sound else "not sound yet:")
        for finding in report.findings:
            if finding.severity == "error":
                print(f"  {finding}\n{finding.remedy}")
    quay = card.formats["quay"]
    for sample in SAMPLES:
        done = kl.convert_bytes(sample.data, quay, quay.scheme.parse("3"), name=sample.path)
        print(done.data.decode())


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        main(scratch)
