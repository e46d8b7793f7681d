"""No text from outside reaches a terminal raw: hostile names in every field, in every command."""

from __future__ import annotations

import json
import os
import re
import shlex
import unittest

from kindred_ledger.cli.catalog import COMMANDS, command_in, groups
from kindred_ledger.cli.visible import escaped, one_line, visible
from tests.cli.screen import OnScreen, pty
from tests.support import Case, kindred, write

BAD = "\x1b]0;owned\x07\x1b[2J\x9b31m\u202egnp\x08\x7f\u2066"
RAW = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069]")
# On a terminal there are orders of our own: colours, and what bars and lines need.
RAW_ON_A_TERMINAL = re.compile("\x1b\\]|\x07|\x1b\\[2J|\x9b|\u202e|\u2066|\x08|\x7f")

CARD = """card = 1
title = "hostile"
name = NAME
[program]
markers = ["run"]
[[detect]]
file = "run"
pattern = "build {version}"
[categories.saves]
include = ["/program/saves/"]
[formats.save]
files = ["*.sav"]
codec = "json"
version = { key = "format" }
builds = [{ builds = "*", writes = "2", reads = ["2"] }]
[[formats.save.steps]]
from = "1"
to = "2"
note = NAME
do = [{ drop = "gone", reason = NAME }, { require = "moored", equals = true, otherwise = NAME }]
[[symptoms]]
name = NAME
why = NAME
remedies = [{ say = NAME }]
[[runbooks]]
name = NAME
from = "*"
to = "*"
note = NAME
steps = [{ do = "wait", name = NAME, say = NAME }, { do = "sign off", parts = [NAME] }]
"""
BAD_CARD = "card = 1\ntitle = X\nname = X\n[X]\nX = 1\n"
_NOT_TRIED = {"demo", "redo", "shelf remove", "card layout draft", "file patch apply"}
COMMANDS_TRIED = """
scan game
file identify saves.sav
file identify game
backup game --note NOTE
backup plain --note NOTE --title NOTE
backup other --build NOTE
entries
entries --title NOTE
show latest --files
compare latest plain
compare plain game
restore latest --into new --dry-run --lines
restore latest --into NOTE --yes
ledger export latest NOTE.zip
ledger export latest out.tar.zst
ledger import plain --note NOTE
ledger verify
ledger drill
ledger mirror NOTE
ledger heal --mirror NOTE
ledger confirm latest --note NOTE
ledger retire --last 1 --dry-run
shelf add plain --note NOTE
shelf list
shelf fetch 2.0 --index NOTE
update game plain --dry-run
update plain other --dry-run --lines
shelf assemble plain other --into both --dry-run --lines
switch NOTE
carry plain other --dry-run --lines --only NOTE
carry plain other --yes
sync meet NOTE
edits take plain --old other --out e.toml --by NOTE --note NOTE
edits show e.toml
edits put e.toml other --dry-run --lines
edits combine e.toml e.toml --out NOTE.toml
edits drop e.toml NOTE
reapply plain other --old other --dry-run --lines
reapply plain other --old other --mine NOTE --dry-run
file table saves.sav
file table saves.sav NOTE
convert game --build 2.0 --dry-run --lines
convert game --build 2.0 --prove
convert game --build 2.0 --yes
file rescue saves.sav NOTE
mod check plain
mod check plain --for NOTE
mod check --explain NOTE
mod trim plain other --dry-run --lines
mod relink plain other --choose NOTE=NOTE
mod relink plain other --dry-run --lines
mod users plain other --called NOTE
mod swap plain NOTE NOTE
mod test plain game --at NOTE
mod suspects NOTE
card symptoms game --card hostile.card.toml
card symptoms game NOTE --card hostile.card.toml --try 1 --dry-run
card learn NOTE game
card learn latest game --card hostile.card.toml
migrate game NOTE --card hostile.card.toml --build 1
migrate game other --card hostile.card.toml --build 1 --to 2 --dry-run
migrate game other --card hostile.card.toml --build 1 --runbook NOTE
migrate game other --card hostile.card.toml --build 1 --to 2 --yes
migrate
migrate --resume --done NOTE
migrate --sign NOTE --by NOTE
migrate --back --yes
world forecast game NOTE
world remap game NOTE --inert NOTE
world reinstate game --world NOTE
world census game --landmark NOTE
world helper game NOTE --skip NOTE
world baked game plain --save NOTE
world transplant game plain --without NOTE
world bundle game NOTE
world started game --save NOTE
file patch identify NOTE NOTE
file patch make saves.sav run --out NOTE.patches
card route --card hostile.card.toml save
file dump NOTE
card layout check NOTE NOTE
card new plain
card check bad/x.card.toml
card check hostile.card.toml game
history
undo --yes
undo NOTE
recover
sync watch NOTE --times 1
ledger passphrase
NOTE
"""


class Hostile(Case):
    def setUp(self) -> None:
        super().setUp()
        bad, quoted = BAD.replace("/", ""), json.dumps(BAD)
        save = {"format": 1, "moored": False, "gone": BAD, BAD: {BAD: 1}}
        fit = {**save, "moored": True}
        write(
            self.folder,
            {
                "hostile.card.toml": CARD.replace("NAME", quoted).encode(),
                "bad/x.card.toml": BAD_CARD.replace("X", quoted).encode(),
                "saves.sav": json.dumps(save).encode(),
                "run": b"other",
                "game/run": f"build {BAD}".encode(),
                f"game/saves/{bad}.sav": json.dumps(save).encode(),
                f"game/saves/2{bad}.sav": json.dumps(fit).encode(),
                f"game/{bad}/x": b"1",
                f"plain/{bad}": b"1",
                f"plain/saves/{bad}": b"1",
                f"other/{bad}": b"2",
            },
        )
        os.symlink(bad, self.path("plain", "link"))

    def commands(self) -> list[list[str]]:
        return [
            [BAD if word == "NOTE" else word.replace("NOTE", BAD) for word in shlex.split(line)]
            for line in COMMANDS_TRIED.strip().splitlines()
        ]

    def test_commands(self) -> None:
        """As text and as JSON, on both outputs; the JSON says the same to a program."""
        tried = set()
        for args in self.commands():
            for more in ([], ["--json"]):
                done = kindred(*args, *more, folder=self.folder)
                for stream in (done.stdout, done.stderr):
                    found = RAW.search(stream)
                    self.assertIsNone(found, (args, found, stream))
                    self.assertNotIn("Traceback", stream, args)
                if more and done.stdout:
                    json.loads(done.stdout)
                tried.add(command_in(args))
        self.assertEqual(set(COMMANDS) - groups() - tried, _NOT_TRIED)
        told = json.loads(kindred("show", "latest", "--files", "--json", folder=self.folder).stdout)
        self.assertEqual(told["entry"]["note"], BAD)


class Words(unittest.TestCase):
    def test_the_words(self) -> None:
        self.assertIsNone(RAW.search(visible(BAD)))
        self.assertEqual(one_line("a\nb\tc\x1b"), "a\\nb\\tc\\x1b")
        self.assertEqual(visible("moss\n\tü ok"), "moss\n\tü ok")
        self.assertEqual(json.loads(escaped(json.dumps(BAD, ensure_ascii=False))), BAD)


@unittest.skipIf(pty is None, "needs a terminal")
class Terminal(OnScreen, Hostile):
    """The same on a terminal, where lines are styled."""

    def test_commands(self) -> None:
        for args in self.commands():
            if "passphrase" in args:  # it would ask for one
                continue
            _, shown = self.converse(*args, answer="n")
            found = RAW_ON_A_TERMINAL.search(shown)
            self.assertIsNone(found, (args, found, shown))
