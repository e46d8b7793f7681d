"""Previews: asked once, by name, and only behind a way back that was proven."""

from __future__ import annotations

import os
import unittest

from kindred_ledger.demo.releases import build_release
from kindred_ledger.ledger import ReleaseTag
from kindred_ledger.migrate import (
    Migration,
    MigrationConsents,
    ResultState,
    choose_migration,
    run_migration,
)
from kindred_ledger.planning.context import Context
from kindred_ledger.releases import shelve
from kindred_ledger.versions import Version
from tests.migrate.support import context_of
from tests.support import PlayCase, snapshot, write

_AGREED = MigrationConsents(allow=("preview",), allow_loss=True)


class Previews(PlayCase):
    def setUp(self) -> None:
        super().setUp()
        self.game = self.path("second", "mossferry")  # of 2.0
        self.new = self.path("downloads", "mossferry-2.1")
        write(self.new, build_release("2.1"))

    def shelved(self, context: Context, channel: str) -> None:
        label = ReleaseTag(channel=channel)
        shelve(self.new, context.cards[0], ledger=context.ledger, label=label)

    def begun(self, context: Context, consents: MigrationConsents) -> Migration:
        choice = choose_migration(context, self.game, self.new)
        return Migration.begin(
            choice.install, choice.release, choice.to, choice.runbook, context=context,
            consents=consents,
        )  # fmt: skip

    def test_known_by_what_the_shelf_says_of_the_build(self) -> None:
        """Also where the folder is named, and not the release on the shelf."""
        for channel, wanted in (("", False), ("stable", False), ("preview", True)):
            with context_of(self.folder, "mossferry", f"ledger-{channel}") as context:
                if channel:
                    self.shelved(context, channel)
                for name in (self.new, *(["release:mossferry@2.1"] if channel else [])):
                    choice = choose_migration(context, self.game, name)
                    self.assertEqual(choice.is_preview, wanted, (channel, name))
                    steps = [step.kind for step in choice.runbook.steps]
                    self.assertEqual("prove" in steps, wanted)

    def test_known_by_its_version(self) -> None:
        for text, wanted in (
            ("2.1-beta2", True), ("2.1 nightly", True), ("2.1rc1", True), ("2.1b3", True),
            ("2.1", False), ("2.1b", False), ("2.1-hotfix2", False), ("2026-05-01", False),
        ):  # fmt: skip
            self.assertEqual(Version.parse(text).is_early, wanted, text)

    def test_nothing_before_it_is_agreed_to(self) -> None:
        """Consent to all losses is none to this."""
        before = snapshot(self.game)
        with context_of(self.folder, "mossferry") as context:
            self.shelved(context, "preview")
            migration = self.begun(context, MigrationConsents(allow_loss=True))
            done = run_migration(migration, context)
            assert done.last is not None
            self.assertEqual((done.last.step, done.last.state), ("preview", ResultState.DECIDE))
            self.assertFalse([e for e in context.ledger.entries() if not e.reason])
            done = run_migration(migration, context, _AGREED)
            self.assertEqual(done.status.next, "sign off")
            steps = [each.step for each in done.results]
            self.assertEqual(steps[:4], ["preview", "store", "prove", "shelve"])
            migration.go_back(context)
        self.assertEqual(snapshot(self.game), before)

    def test_not_when_the_way_back_does_not_hold(self) -> None:
        """What was stored is damaged on the disk: nothing of the install is changed."""
        before = snapshot(self.game)
        with context_of(self.folder, "mossferry") as context:
            self.shelved(context, "preview")
            migration = self.begun(context, _AGREED)
            for _ in ("look", "preview", "store"):
                migration.advance(context, _AGREED)
            self.damage()
            done = run_migration(migration, context, _AGREED)
            assert done.last is not None
            self.assertEqual((done.last.step, done.last.state), ("prove", ResultState.FAILED))
            self.assertEqual(done.status.ended, "taken back")
            self.assertFalse(context.ledger.records())
        self.assertEqual(snapshot(self.game), before)

    def damage(self) -> None:
        """Change bytes in the middle of every pack."""
        for top, _, names in os.walk(self.path("ledger", "packs")):
            for name in names:
                path = os.path.join(top, name)
                os.chmod(path, 0o600)
                with open(path, "r+b") as file:
                    size = os.path.getsize(path)
                    file.seek(size // 2)
                    file.write(bytes(min(4000, size // 4)))


if __name__ == "__main__":
    unittest.main()
