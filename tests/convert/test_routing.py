"""The routes of the files of an install, a folder or a pack: each said once."""

from __future__ import annotations

import os

import kindred_ledger as kl
from kindred_ledger.errors import UsageError
from tests.support import PlayCase, write


class Routes(PlayCase):
    def told(self, *args: object, **options: str) -> list[tuple[str, str, str, int, int]]:
        """Return format, versions, number of files and hops of each route."""
        return [
            (r.format.name, str(r.source), str(r.target), len(r.files), len(r.hops))
            for r in kl.routes_in(*args, **options)  # type: ignore[arg-type]
        ]

    def test_of_an_install_a_folder_and_a_pack(self) -> None:
        """Files of one format and version are one route; what is there already has no hops."""
        install = self.install()
        told = self.told(install, self.card, "2.0")
        self.assertIn(("voyage", "4", "5", 3, 1), told)
        self.assertIn(("mod", "1", "1", 1, 0), told)
        saves = self.path("mossferry", "userdata", "saves")
        self.assertEqual([each[3] for each in self.told(saves, self.card, "2.0")], [3, 1])
        self.assertEqual({each[2] for each in self.told(saves, self.card, version="6")}, {"6"})
        mod = self.path("mossferry", "mods", "reedlight")
        self.assertEqual(self.told(mod, self.card, version="2"), [("mod", "1", "2", 1, 1)])

    def test_what_cannot_be_said(self) -> None:
        """A version that nothing tells, a damaged file, a folder of nothing: each with its reason."""
        write(self.path("loose"), {"a.voyage": b'{"purse": 1}', "b.voyage": b"{", "c.txt": b""})
        found = kl.routes_in(self.path("loose"), self.card, "2.0")
        self.assertEqual([(each.source, len(each.files)) for each in found], [(None, 1), (None, 1)])
        self.assertIn("does not say which format", found[0].fault)
        said = kl.routes_in(self.path("loose"), self.card, "2.0", source="3")
        self.assertEqual((str(said[0].source), len(said[0].hops)), ("3", 2))
        os.makedirs(self.path("empty"))
        for subject, options in ((self.path("empty"), {"version": "5"}), (self.install(), {})):
            with self.assertRaises(UsageError):
                kl.routes_in(subject, self.card, **options)

    def test_the_command(self) -> None:
        """An install is shown for its own build without a target; a loose folder needs one."""
        told = self.kindred("card", "route", "mossferry")
        self.assertEqual(told["title"], "mossferry")
        voyages = [each for each in told["routes"] if each["format"] == "voyage"]
        self.assertEqual(
            [(v["from"], v["to"], len(v["files"])) for v in voyages], [("4", "4", 3), ("3", "4", 1)]
        )
        write(self.path("loose"), {"b.voyage": b"{"})
        told = self.kindred("card", "route", "loose", "--to", "2.0", status=1)
        self.assertIsNone(told["routes"][0]["from"])
        self.kindred("card", "route", "loose", status=2)
