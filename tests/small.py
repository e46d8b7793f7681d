"""A small made-up title for tests of updating: releases, an install with somebody's work in it, a card.

What must come out is computed here from the plain contents, without any code of ours.
"""

from __future__ import annotations

from typing import Any

from kindred_ledger.cards import Card
from tests.support import Case, write

OLD = {
    "quill.bin": b"quill 1.0",
    "version.txt": b"build 1.0\n",
    "data/edition.txt": b"edition 1.0\n",
    "data/both.ini": b"a = 1\n",
    "data/edited.ini": b"b = 1\n",
    "data/plain.dat": b"plain 1",
    "data/same.dat": b"the same",
    "data/gone.dat": b"only in 1.0",
    "data/gone-edited.dat": b"only in 1.0, too",
    "data/draw.cache": b"cold",
    "tunes/air.tone": b"air 1",
}
NEW = {
    "quill.bin": b"quill 2.0",
    "version.txt": b"build 2.0\n",
    "data/edition.txt": b"edition 2.0.1\n",
    "data/both.ini": b"a = 2\n",
    "data/edited.ini": b"b = 1\n",
    "data/plain.dat": b"plain 2",
    "data/same.dat": b"the same",
    "data/new/added.dat": b"new in 2.0",
    "data/draw.cache": b"colder",
    "tunes/air.tone": b"air 2",
    "bells/one.tone": b"bell 1",
}
MINE = {
    **OLD,
    "data/both.ini": b"a = 7\n",
    "data/edited.ini": b"b = 7\n",
    "data/gone-edited.dat": b"mine",
    "data/draw.cache": b"warm",
    "data/own.dat": b"put there by me",
    "mods/reeds/mod.json": b"{}",
    "notes.txt": b"my notes",
}
CARD = """
card = 1
title = "quill"
[versions]
names = { "First Draft" = "1.0", "Second Draft" = "2.0" }
[program]
markers = ["quill.bin", "version.txt"]
[[detect]]
file = "version.txt"
pattern = "build {version}"
[[detect]]
folder = "quill-{version}"
[categories.mods]
include = ["/program/mods/"]
protect = true
[axes.data]
detect = [{ file = "data/edition.txt", pattern = "edition {version}" }]
[[together]]
same = ["program", "data"]
[components.tunes]
names = ["The Airs"]
include = ["/program/tunes/"]
[components.bells]
include = ["/program/bells/"]
names = ["Quill Bells"]
optional = true
builds = ">=2.0"
[update]
keep = ["/program/mods/", "/program/data/both.ini"]
overwrite = ["*.cache"]
markers = { "alone.txt" = "yes" }
"""


class SmallCase(Case):
    """A test with the title's releases as folders, an install, its card, and an open ledger."""

    def setUp(self) -> None:
        super().setUp()
        for name, contents in (("old", OLD), ("new", NEW), ("games/quill", MINE)):
            write(self.path(*name.split("/")), contents)
        self.kept = self.ledger()
        self.set_card("")

    def set_card(self, more: str, *, without: str = "") -> None:
        """Use the card with some lines more, or less."""
        text = CARD.replace(without, "") if without else CARD
        write(self.folder, {"quill.card.toml": (text + more).encode()})
        self.card = Card.load(self.path("quill.card.toml"))

    @property
    def install(self) -> Any:
        return self.card.open(self.path("games", "quill"))


def size_of(files: dict[str, bytes]) -> int:
    """Return how many bytes files have together."""
    return sum(map(len, files.values()))
