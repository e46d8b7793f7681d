"""`kindred migrate` at a terminal: it asks for the person's part, and believes no Enter."""

from __future__ import annotations

import json
import unittest

from tests.cli.screen import OnScreen, pty
from tests.support import PlayCase, kindred

_MOVE = (
    "migrate", "mossferry", "downloads/mossferry-2.0.zip", "--old", "downloads/mossferry-1.4.zip",
)  # fmt: skip
_FENS = ("migrate", "fens/game", "fens/releases/fens-2.0.zip", "--card", "fens/fens.card.toml")


@unittest.skipIf(pty is None, "needs a terminal")
class Asked(OnScreen, PlayCase):
    fens = True

    def status(self) -> dict[str, object]:
        told = kindred("migrate", "--json", folder=self.folder)
        found: dict[str, object] = json.loads(told.stdout)["migration"]
        return found

    def test_the_sign_off_part_by_part(self) -> None:
        """What was said before somebody leaves counts; the rest is asked the next time."""
        status, shown = self.converse(
            *_MOVE,
            prompts=("Begin, and allow these losses?", "it starts: ", "saves: ", "settings: "),
            answers=("y", "y", "y", "l"),
        )
        self.assertEqual(status, 3, shown)
        self.assertEqual({*self.status()["signed"]}, {"it starts", "saves"})  # type: ignore[misc]
        status, shown = self.converse(
            "migrate", "--resume", prompts=("settings: ", "mods: "), answers=("y", "y")
        )
        self.assertEqual(status, 0, shown)
        self.assertNotIn("it starts: ", shown)

    def test_nothing_before_yes(self) -> None:
        status, shown = self.converse(*_MOVE, answer="n")
        self.assertEqual(status, 3, shown)
        self.assertIn("Nothing was changed.", shown)
        self.assertIn("no migration", kindred("migrate", folder=self.folder).stderr)

    def test_enter_alone_shows_nothing(self) -> None:
        """What leaves evidence is looked for: Enter without it, and it is asked again."""
        allowed = ("--allow", "content-removed", "--allow", "content-replaced")
        status, shown = self.converse(
            *_FENS,
            *allowed,
            prompts=("[y/N]", "Enter once it is done", "Enter once it is done"),
            answers=("y", "", "l"),
        )
        self.assertEqual(status, 3, shown)
        self.assertEqual(shown.count("Enter once it is done"), 2)
        self.assertEqual(self.status()["next"], "count the bells")


if __name__ == "__main__":
    unittest.main()
