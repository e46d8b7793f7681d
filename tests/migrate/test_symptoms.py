"""Symptoms and their remedies; settings that are reset, with single values that stay."""

from __future__ import annotations

import os
import shutil
import unittest

from kindred_ledger.cards import Card
from kindred_ledger.errors import CardError, LossNotAllowed, UsageError
from kindred_ledger.migrate import symptom, symptoms_of
from kindred_ledger.planning.context import Context
from kindred_ledger.updates import reset_settings
from tests.support import PlayCase, snapshot


class Reset(PlayCase):
    """What was named stays, as it was written; all else goes, and comes back with undo."""

    def test_single_values_stay(self) -> None:
        path = self.path("mossferry", "userdata", "settings.ini")
        with open(path, "rb") as file:
            before = file.read()
        kept = self.ledger()
        change = reset_settings(
            self.install(), ledger=kept, only="settings.ini", keep=["Display.Width", "General.*"]
        )
        with self.assertRaises(LossNotAllowed):
            change.apply(kept)
        change.apply(kept, allow_loss=["reset"])
        with open(path, "rb") as file:
            after = file.read()
        for text in (b"Width = 2560", b"SettingsFormat = 1", b"Language = en", b"; the long table"):
            self.assertIn(text, after)
        for text in (b"Height", b"Volume", b"Midi", b"Quality"):
            self.assertNotIn(text, after)
        self.assertEqual(
            [line for line in after.splitlines() if line not in before.splitlines()], []
        )

    def test_a_file_without_anything_to_keep_goes(self) -> None:
        """And the settings of another file are no reason to keep it."""
        change = reset_settings(self.install(), ledger=self.ledger(), keep=["keys.moor"])
        told = {action.path: str(action.outcome) for action in change.actions}
        self.assertEqual(told, {"user/controls.json": "changed", "user/settings.ini": "removed"})

    def test_a_name_that_fits_nothing(self) -> None:
        with self.assertRaisesRegex(UsageError, "(?s)no file has a value 'Display.Widht'.*Width"):
            reset_settings(self.install(), ledger=self.ledger(), keep=["Display.Widht"])
        with self.assertRaises(UsageError):
            reset_settings(self.install(), ["setings"], ledger=self.ledger())

    def test_a_file_that_cannot_be_read_is_not_guessed(self) -> None:
        """Values of a damaged file cannot be kept: nothing is made, and the file is named."""
        with open(self.path("mossferry", "userdata", "controls.json"), "wb") as file:
            file.write(b"{ broken")
        with self.assertRaisesRegex(Exception, "controls.json|JSON|json"):
            reset_settings(self.install(), ledger=self.ledger(), keep=["keys.moor"])


class Remedies(PlayCase):
    def test_the_remedies_of_the_demo(self) -> None:
        """Each that can be done now changes something, and is taken back to the byte."""
        kept = self.ledger()
        kept.backup(self.install())
        self.kindred("shelf", "add", "downloads/mossferry-1.4.zip")
        controls = self.path("mossferry", "userdata", "controls.json")
        shutil.copy(self.path("second", "mossferry", "userdata", "controls.json"), controls)
        tides = self.path("mossferry", "data", "harbours.json")
        os.remove(tides)
        before = snapshot(self.path("mossferry"))
        done = 0
        with Context(kept, cards=[self.card]) as context:
            for each in symptoms_of(self.install()):
                for remedy in each.remedies:
                    if remedy.step is None:
                        with self.assertRaisesRegex(UsageError, "yours to do"):
                            remedy.change(context, self.install())
                        continue
                    change = remedy.change(context, self.install())
                    self.assertTrue(change.actions, remedy)
                    change.apply(kept, allow_loss=True)
                    self.kindred("undo", "--yes")
                    self.assertEqual(snapshot(self.path("mossferry")), before)
                    done += 1
        self.assertEqual(done, 4)

    def test_by_a_part_of_its_name(self) -> None:
        self.assertEqual(symptom(self.install(), "BLACK").name, "the window is black")
        for text, told in (("e", "several"), ("blakc", "black")):
            with self.assertRaisesRegex(UsageError, told):
                symptom(self.install(), text)

    def test_what_a_card_says_wrongly(self) -> None:
        """A remedy that is none is named, with its place; the card itself says what is no remedy at all."""
        with open(self.path("mossferry.card.toml"), encoding="utf-8") as file:
            text = file.read()
        for old, new, told in (
            (
                'do = "reset settings", why = "all keys',
                'do = "reset setings", why = "all keys',
                "reset settings",
            ),
            (
                'do = "update", why = "the program',
                'do = "store", why = "the program',
                "no operation",
            ),
        ):
            path = self.path("other.card.toml")
            with open(path, "w", encoding="utf-8") as file:
                file.write(text.replace(old, new))
            card = Card.load(path)
            with self.assertRaisesRegex(CardError, told):
                symptoms_of(card.open(self.path("mossferry")))
        with open(path, "w", encoding="utf-8") as file:
            file.write(text.replace('{ say = "Start it', '{ do = "undo", say = "Start it'))
        with self.assertRaisesRegex(CardError, "one of `do` and `say`"):
            Card.load(path)


if __name__ == "__main__":
    unittest.main()
