"""What holds for every world: nothing is lost, nothing scrambled, all is counted."""

from __future__ import annotations

import random
import shutil
import unittest
from collections import Counter

import kindred_ledger as kl
from kindred_ledger.errors import IdListError, LossNotAllowed, UsageError
from tests.worlds.support import NAMES, WorldCase, flat, ids, list_json, world_files

_WORLDS = 12


class Laws(WorldCase):
    def each(self) -> list[random.Random]:
        """Return chances, each on a folder without worlds."""
        return [random.Random(f"mire {n}") for n in range(_WORLDS)]

    def fresh(self, rng: random.Random) -> None:
        shutil.rmtree(self.path("mire", "user"), ignore_errors=True)
        self.put(world_files(self.old, rng))

    def shuffled(self, rng: random.Random, most: int = 400) -> dict[str, int]:
        numbers = rng.sample(range(1, most), len(self.old))
        return dict(zip(self.old, numbers, strict=True))

    def test_there_and_back_gives_the_very_bytes(self) -> None:
        """Tiles, blocks of any compression, rows, JSON, scripts and the world's own list."""
        ledger = self.ledger()
        for rng in self.each():
            self.fresh(rng)
            before, new = self.world(), self.shuffled(rng)
            kl.remap(self.install(), {"ids": ids(new)}, ledger=ledger).apply(ledger)
            between = self.world()
            self.assertEqual(between["other.bin"], before["other.bin"])
            kl.remap(self.install(), {"ids": ids(self.old)}, ledger=ledger).apply(ledger)
            self.assertEqual(self.world(), before)

    def test_every_id_becomes_what_its_name_says(self) -> None:
        """Held against a count that was made here, of both sides."""
        ledger = self.ledger()
        for rng in self.each():
            self.fresh(rng)
            before, new = self.counted(self.world()), self.shuffled(rng)
            change = kl.remap(self.install(), {"ids": ids(new)}, ledger=ledger)
            change.apply(ledger)
            names = {number: name for name, number in self.old.items()}
            wanted = Counter(
                {(kind, new[names[n]] if n else 0): many for (kind, n), many in before.items()}
            )
            self.assertEqual(self.counted(self.world()), wanted)
            self.assertEqual(change.statements[0].counted_before, sum(before.values()) + 1)

    def test_what_vanishes_is_counted_and_located(self) -> None:
        """Every id of every kind, with the files it stands in; and removed it is gone, and nothing else."""
        ledger = self.ledger()
        for rng in self.each():
            self.fresh(rng)
            gone = rng.sample([name for name in NAMES if name.startswith("mod:")], 2)
            new = {name: n for name, n in self.shuffled(rng).items() if name not in gone}
            files = self.world()
            told = kl.forecast(kl.open_world(self.install()), {"ids": ids(new)})
            before = self.counted(files)
            for each in told.vanishing:
                here = {
                    kind: many for (kind, n), many in before.items() if n == self.old[each.name]
                }
                named = sum(each.by_kind.get(kind, 0) for kind in ("names",))
                self.assertEqual(each.cells, sum(here.values()) + named)
                at = {
                    name for name, data in files.items()
                    if any(n == self.old[each.name] for _, n in self.counted({name: data}))
                }  # fmt: skip
                self.assertLessEqual(at, set(each.by_file))
            kinds = {kind for each in told.vanishing for kind in each.by_kind}
            if kinds & {"lines", "names"}:  # a line of text is not removed
                continue
            choices = kl.ContentChoices(remove=tuple(each.name for each in told.vanishing))
            change = kl.remap(self.install(), {"ids": ids(new)}, ledger=ledger, choices=choices)
            if told.vanishing:
                with self.assertRaises(LossNotAllowed):
                    change.apply(ledger)
            change.apply(ledger, allow_loss=True)
            after = self.counted(self.world())
            removed = sum(each.by_kind.get("tiles", 0) for each in told.vanishing)
            self.assertEqual(
                after["tiles", new["plain:air"]], before["tiles", self.old["plain:air"]] + removed
            )
            rows = Counter({k: m for k, m in before.items() if k[0] in ("things", "goods")})
            names = {number: name for name, number in self.old.items()}
            for (kind, number), many in rows.items():
                name = names.get(number, "")
                if number and name not in gone:
                    self.assertEqual(after[kind, new[name]], many)

    def test_inert_content_is_reinstated_where_it_still_is(self) -> None:
        """Through another renumbering; what was built over since is left alone, and counted."""
        for at, rng in enumerate(self.each()[:6]):
            ledger = self.ledger(f"ledger {at}")
            self.fresh(rng)
            self.put({"9.9.flat": flat([self.old["mod:bell"]] * 3 + [self.old["plain:peat"]])})
            before = self.counted(self.world())
            bells = [key for key in before if key[1] == self.old["mod:bell"]]
            without = {n: m for n, m in self.shuffled(rng).items() if n != "mod:bell"}
            choices = kl.ContentChoices(inert=("mod:bell",))
            kl.remap(self.install(), {"ids": ids(without)}, ledger=ledger, choices=choices).apply(
                ledger, allow_loss=True
            )
            stone = without["plain:stone"]
            self.put({"9.9.flat": flat([stone, without["plain:grass"], stone, stone])})
            again = self.shuffled(rng)
            kl.remap(self.install(), {"ids": ids(again)}, ledger=ledger).apply(ledger)
            change = kl.reinstate(self.install(), ledger=ledger)
            change.apply(ledger)
            after = self.counted(self.world())
            for kind, number in bells:
                lost = 1 if kind == "tiles" else 0  # grass grows over one
                self.assertEqual(after[kind, again["mod:bell"]], before[kind, number] - lost)
            self.assertEqual([f.code for f in change.findings], ["inert-elsewhere"])
            none = kl.reinstate(self.install(), ledger=ledger)
            self.assertEqual(none.actions, ())

    def test_what_was_deleted_is_not_reinstated(self) -> None:
        """If the entry of before is gone, that is said, and nothing is guessed."""
        ledger, bell = self.ledger(), self.old["mod:bell"]
        self.put({"0.0.flat": flat([bell] * 9), "ids.json": list_json(self.old)})
        without = {name: n for name, n in self.old.items() if name != "mod:bell"}
        choices = kl.ContentChoices(inert=("mod:bell",))
        change = kl.remap(self.install(), {"ids": ids(without)}, ledger=ledger, choices=choices)
        done = change.apply(ledger, allow_loss=True)
        kl.confirm(done.record.id, ledger=ledger)
        kl.remap(self.install(), {"ids": ids(self.old)}, ledger=ledger).apply(ledger)
        ledger.backup(self.install())
        kl.plan_retirement(ledger, kl.RetentionPolicy(last=1)).carry_out(ledger)
        self.assertTrue(ledger.is_retired(done.record.entry))
        change = kl.reinstate(self.install(), ledger=ledger)
        self.assertEqual([each.code for each in change.findings], ["inert-not-kept"])
        self.assertEqual(change.actions, ())

    def test_another_world_of_the_same_name(self) -> None:
        """What waited in the old one is not put into the new one, unless somebody says so."""
        ledger, bell = self.ledger(), self.old["mod:bell"]
        self.put({"0.0.flat": flat([bell] * 9), "ids.json": list_json(self.old)})
        without = {name: n for name, n in self.old.items() if name != "mod:bell"}
        choices = kl.ContentChoices(inert=("mod:bell",))
        kl.remap(self.install(), {"ids": ids(without)}, ledger=ledger, choices=choices).apply(
            ledger, allow_loss=True
        )
        stone = self.old["plain:stone"]
        self.put({"0.0.flat": flat([stone, *[1] * 8]), "ids.json": list_json(self.old)})
        change = kl.reinstate(self.install(), ledger=ledger)
        self.assertEqual([each.code for each in change.conflicts], ["inert-mostly-gone"])
        self.assertEqual(change.actions, ())
        kl.reinstate(self.install(), ledger=ledger, anyway=True).apply(ledger)
        later = kl.reinstate(self.install(), ledger=ledger, anyway=True)
        self.assertEqual(later.actions, ())
        self.assertEqual(self.counted(self.world())["tiles", bell], 1)


class Refused(WorldCase):
    def remapped(self, new: dict[str, int], **more: object) -> kl.Changeset:
        return kl.remap(self.install(), {"ids": ids(new)}, ledger=self.ledger(), **more)  # type: ignore[arg-type]

    def test_lists_without_a_name_in_common(self) -> None:
        """Numbers alone say nothing."""
        self.put(world_files(self.old, random.Random(1)))
        with self.assertRaisesRegex(IdListError, "no name in common"):
            self.remapped({f"other:{n}": n for n in range(1, 8)})

    def test_a_number_that_no_list_has(self) -> None:
        """It is told with its place and stands for a decision; it is never carried as what it would mean."""
        self.put(
            {
                "0.0.flat": flat([1, 2, 417]),
                "ids.json": world_files(self.old, random.Random(1))["ids.json"],
            }
        )
        change = self.remapped({**self.old, "new:thing": 417})
        self.assertEqual(
            [(f.code, f.where) for f in change.conflicts], [("content-undecided", "#417")]
        )
        choices = kl.ContentChoices(inert=("#417",))
        change = self.remapped({**self.old, "new:thing": 417}, choices=choices)
        change.apply(self.ledger(), allow_loss=True)
        self.assertEqual(self.counted(self.world())["tiles", self.old["plain:stone"]], 2)

    def test_choices_that_fit_nothing(self) -> None:
        """A typed name that does not vanish is an error with the nearest match."""
        self.put(world_files(self.old, random.Random(1)))
        new = {name: n for name, n in self.old.items() if name != "mod:bell"}
        for choices, words in (
            (kl.ContentChoices(remove=("mod:bel",)), "mod:bell"),
            (kl.ContentChoices(inert=("plain:peat",)), "stays"),
            (kl.ContentChoices(inert=("mod:bell",), remove=("mod:bell",)), "two choices"),
            (kl.ContentChoices(substitutes={"mod:bell": "mod:bull"}), "does not have it"),
            (kl.ContentChoices(renames={"mod:bell": "plain:pet"}), "plain:peat"),
            (kl.ContentChoices(renames={"mod:lamp": "plain:peat"}), "was not renamed"),
        ):
            with self.subTest(words), self.assertRaises(UsageError) as caught:
                self.remapped(new, choices=choices)
            self.assertIn(words, str(caught.exception))

    def test_more_names_than_the_width_holds(self) -> None:
        """The card says how wide numbers are."""
        self.put(world_files(self.old, random.Random(1)))
        with self.assertRaisesRegex(IdListError, "more than 16 bits"):
            self.remapped({**self.old, "plain:peat": 70_000})

    def test_a_list_with_a_number_far_above_all_others(self) -> None:
        """A table with a row for each number up to it would take 32 GB; only what stands there matters."""
        with open(self.path("mire.card.toml"), encoding="utf-8") as file:
            text = file.read()
        with open(self.path("mire.card.toml"), "w", encoding="utf-8") as file:
            file.write(text.replace("bits = 16", "bits = 32"))
        self.card = kl.Card.load(self.path("mire.card.toml"))
        far = {"mod:far": 4_000_000_000}
        self.put(
            {
                "0.0.flat": flat([1, 2, 2]),
                "ids.json": list_json({**self.old, **far}),
            }
        )
        new = {**{name: number + 300 for name, number in self.old.items()}, **far}
        before = self.counted(self.world())
        self.remapped(new).apply(self.ledger())
        self.assertEqual(
            self.counted(self.world()),
            Counter({(kind, number + 300): many for (kind, number), many in before.items()}),
        )

    def test_names_that_are_merely_alike(self) -> None:
        """Another case, another Unicode form: proposed, and not taken."""
        self.put(world_files(self.old, random.Random(3)))
        new = {("Mod:Bell" if name == "mod:bell" else name): n for name, n in self.old.items()}
        told = kl.forecast(kl.open_world(self.install()), {"ids": ids(new)})
        self.assertEqual([each.perhaps for each in told.vanishing], [("Mod:Bell",)])
        self.assertTrue(told.undecided)

    def test_consent_covers_what_was_shown_and_no_more(self) -> None:
        """A file or an id of before is refused once the world would lose anything else."""
        self.put(world_files(self.old, random.Random(3)))
        new = {name: n for name, n in self.old.items() if name != "mod:bell"}
        told = kl.forecast(kl.open_world(self.install()), {"ids": ids(new)})
        said = kl.consent_text(told).replace('becomes = ""', 'becomes = "inert"')
        consent = kl.read_consent(said)
        agreed = {"choices": consent.choices, "agreed": consent.forecast}
        self.assertEqual(self.remapped(new, **agreed).losses, ())
        self.assertEqual(self.remapped(new, **agreed).conflicts, ())
        files = self.world()
        self.put({"0.0.flat": flat([self.old["mod:bell"]])})
        codes = [finding.code for finding in self.remapped(new, **agreed).conflicts]
        self.assertEqual(codes, ["forecast-changed"])
        self.put({"0.0.flat": files["0.0.flat"]})
        self.assertEqual(self.remapped(new, **agreed).conflicts, ())
        with self.assertRaisesRegex(UsageError, "nothing is said"):
            kl.read_consent(kl.consent_text(told))


if __name__ == "__main__":
    unittest.main()
