"""Encrypted ledgers: nothing to read for who has the files, everything for who has the passphrase."""

from __future__ import annotations

import contextlib
import os
import random
import re
import subprocess
import sys

from blake3 import blake3

from kindred_ledger.changes import restore
from kindred_ledger.errors import (
    KindredError,
    LedgerDamaged,
    LedgerError,
    UsageError,
    WrongPassphrase,
)
from kindred_ledger.ledger import Ledger, RetentionPolicy, heal, mirror, plan_retirement, verify
from kindred_ledger.ledger.encryption import Encrypted, is_whole_slot, new_slot, opened_slot
from kindred_ledger.ledger.manifest import decode, encode
from kindred_ledger.places import FolderPlace
from kindred_ledger.places.remotes import connect
from tests.ledger.test_remote import _Flaky
from tests.support import EXAMPLES, ROOT, Case, kindred, snapshot, write

_FLIPS = 40 if EXAMPLES < 10_000 else 500
_CHEAP = 1 << 10  # a passphrase is tried often here
_SECRET = "peat-and-moss-71"


class Hidden(Case):
    def setUp(self) -> None:
        super().setUp()
        Ledger.create_encrypted(self.path("ledger"), _SECRET, cost=_CHEAP)
        self.sealed = self.opened()
        self.world = b"the captain's account 123456 " * 4000
        self.kept = self.place({"captain-name": self.world, "b": b"b" * 600_000, "c": b""})
        self.entry = self.sealed.backup(self.kept, note="a private note")

    def opened(self, passphrase: str = _SECRET, cache: str = "near") -> Ledger:
        ledger = Ledger.open(
            self.path("ledger"), local_cache=self.path(cache), passphrase=lambda: passphrase
        )
        self.addCleanup(ledger.index.close)
        return ledger

    def files(self) -> list[str]:
        return [
            os.path.join(top, name)
            for top, _, names in os.walk(self.path("ledger"))
            for name in names
        ]

    def test_who_has_the_files_reads_nothing(self) -> None:
        """No name, note, content or digest of one; and packs are Zstandard streams still."""
        digest = blake3(self.world).digest()
        hidden = (
            b"captain",
            b"private",
            b"account",
            digest,
            digest.hex().encode(),
            _SECRET.encode(),
        )
        for path in self.files():
            with open(path, "rb") as file:
                data = file.read()
            for word in hidden:
                self.assertNotIn(word, data, path)
            if path.endswith(".pack.zst"):
                from kindred_ledger.places.zstandard import zstd

                self.assertEqual(zstd.decompress(data), b"")
        self.assertEqual(self.sealed.check(self.entry), [])
        copy = self.place({}, "copy")
        restore(self.entry, copy, ledger=self.opened(cache="elsewhere")).apply(
            self.ledger("scratch")
        )
        self.assertEqual(snapshot(copy.root)["captain-name"][1], self.world)

    def test_a_wrong_passphrase_opens_nothing(self) -> None:
        for wrong in ("", "Peat-and-moss-71", _SECRET + " "):
            with self.assertRaisesRegex(WrongPassphrase, "does not open"):
                self.opened(wrong)
        with self.assertRaisesRegex(WrongPassphrase, "no terminal"):
            Ledger.open(self.path("ledger"), local_cache=self.path("near"))
        with self.assertRaises(LedgerError):
            Ledger.create_encrypted(self.path("ledger"), "another")
        with self.assertRaises(UsageError):
            Ledger.create_encrypted(self.path("new"), "")

    def test_forged_keys(self) -> None:
        """Costs that are none or without end, salts that are no hex, no TOML: damage, and no traceback."""
        slot = new_slot(bytes(32), "x", cost=_CHEAP)
        text = slot[: slot.rindex(b"check = ")].decode()
        scrypt = f"scrypt = [{_CHEAP}, 8, 1]"
        costs = (
            "[0, 8, 1]",
            "[-2, 8, 1]",
            "[3, 8, 1]",
            "[1073741824, 8, 1]",
            "[2, 0, 1]",
            "[2, 8]",
        )
        for new in (*costs, "[2, 8, 1073741824]", '["2", 8, 1]', "[true, 8, 1]", "7", '"a"'):
            self.refuse(text.replace(scrypt, f"scrypt = {new}"))
        for name in ("salt", "key"):
            for new in ('"zz"', "5", '""', "[]"):
                self.refuse(re.sub(f"{name} = .*", f"{name} = {new}", text))
        self.refuse("a = \xff\n")
        self.refuse("[" * 5000 + "\n")
        for cost in (0, 1, 3, -4, 1 << 40):
            with self.assertRaises(UsageError):
                new_slot(bytes(32), "x", cost=cost)

    def refuse(self, text: str) -> None:
        data = text.encode("latin-1")
        slot = data + f'check = "{blake3(data).hexdigest()[:16]}"\n'.encode()
        self.assertTrue(is_whole_slot(slot))
        with contextlib.suppress(LedgerError, LedgerDamaged):
            self.assertIsNone(opened_slot(slot, "x", where="here"), text)

    def test_lost_keys_or_settings_do_not_make_it_plain_or_new(self) -> None:
        """Else contents would be written for all to read, or the keys of what is there deleted."""
        os.rename(self.path("ledger", "ledger.toml"), self.path("ledger.toml"))
        with self.assertRaisesRegex(LedgerError, "already"):
            Ledger.create_encrypted(self.path("ledger"), "another", cost=_CHEAP)
        self.assertEqual(self.opened().check(self.entry), [])
        os.rename(self.path("ledger.toml"), self.path("ledger", "ledger.toml"))
        before = snapshot(self.path("ledger", "packs"))
        for name in os.listdir(self.path("ledger", "keys")):
            os.remove(self.path("ledger", "keys", name))
        with self.assertRaisesRegex(LedgerDamaged, "its keys are gone"):
            self.opened().backup(self.kept)
        self.assertEqual(snapshot(self.path("ledger", "packs")), before)

    def test_changing_the_passphrase_rewrites_no_pack(self) -> None:
        """Cut off at any request, the old or the new one opens it; doing it again ends that."""
        packs = snapshot(self.path("ledger", "packs"))
        url = f"file://{self.path('ledger')}"
        opening, word = 0, _SECRET
        for point in range(1, 40):
            new = f"word {point}"
            flaky = _Flaky(connect(url), 10_000, point % 2 == 0)
            ledger = Ledger.open(flaky, local_cache=self.path("near"), passphrase=lambda: word)  # noqa: B023
            flaky._left = point // 2 + 1
            try:
                ledger.change_passphrase(new, cost=_CHEAP)
            except KindredError:
                opening += 1
            still = self.opens(word)
            opened = self.opened(word if still else new)  # one of them does
            if still:
                opened.change_passphrase(new, cost=_CHEAP)
                self.assertFalse(self.opens(word))
            word = new
            if flaky._left > 0:
                break
        self.assertGreater(opening, 8)
        self.assertLess(point, 39)
        self.assertEqual(snapshot(self.path("ledger", "packs")), packs)

    def opens(self, passphrase: str) -> bool:
        try:
            self.opened(passphrase)
        except WrongPassphrase:
            return False
        return True

    def test_any_flipped_byte_is_found_and_mended(self) -> None:
        """From a mirror that is not encrypted, and by the copies of the key."""
        plain = self.ledger("plain")
        self.assertEqual(mirror(self.sealed, plain).not_copied, ())
        chance = random.Random(7)
        for turn in range(_FLIPS):
            path = chance.choice(self.files())
            with open(path, "rb") as file:
                before = file.read()
            at = chance.randrange(len(before))
            with open(path, "wb") as file:
                file.write(
                    before[:at] + bytes([before[at] ^ 1 << chance.randrange(8)]) + before[at + 1 :]
                )
            found = verify(self.opened())
            name = os.path.relpath(path, self.path("ledger"))
            self.assertEqual([fault.where for fault in found.findings], [name])
            near = (
                "near" if chance.random() < 0.5 else f"near {turn}"
            )  # with copies near by, or none
            healed = heal(self.opened(cache=near), mirrors=[plain], places=[])
            self.assertEqual((healed.after.findings, healed.after.costs), ((), ()), path)
        self.assertEqual(self.opened(cache="fresh").check(self.entry), [])

    def test_no_frame_passes_for_another(self) -> None:
        """What a frame is for is under its seal, as is the key."""
        one, other = Encrypted(bytes(32)), Encrypted(b"1" * 32)
        data = encode({"id": "x"}, {"paths": []}, one)
        self.assertEqual(decode(data, where="", encryption=one), ({"id": "x"}, {"paths": []}))
        with self.assertRaisesRegex(LedgerDamaged, "another key"):
            decode(data, where="", encryption=other)
        frame = one.wrapped(b"", b"header")
        with self.assertRaises(LedgerDamaged):
            one.content(frame, b"body")
        for cut in range(len(frame)):
            with self.assertRaises(LedgerDamaged):
                one.content(frame[:cut], b"header")

    def test_all_that_is_done_with_a_ledger(self) -> None:
        """A change of a place, thinning, mirrors to and from plain and encrypted ledgers."""
        write(self.kept.root, {"captain-name": b"new"})
        second = self.sealed.backup(self.kept)
        restore(self.entry, self.kept, ledger=self.sealed).apply(self.sealed, allow_loss=True)
        Ledger.create_encrypted(self.path("other"), "another", cost=_CHEAP)
        other = Ledger.open(
            self.path("other"), local_cache=self.path("near other"), passphrase=lambda: "another"
        )
        self.addCleanup(other.index.close)
        plain = self.ledger("plain")
        for source, target in ((self.sealed, plain), (plain, other), (other, self.sealed)):
            self.assertEqual(mirror(source, target).not_copied, ())
            self.assertEqual((verify(target).findings, verify(target).costs), ((), ()))
            self.assertEqual(target.check(target.entry(second.id)), [])
            self.assertEqual(len(target.records()), 1)
        plan_retirement(self.sealed, RetentionPolicy(last=1)).carry_out(self.sealed)
        self.assertEqual((verify(self.sealed).findings, verify(self.sealed).costs), ((), ()))

    def test_the_command_line(self) -> None:
        """Made, used, changed; the passphrase comes from the environment and goes nowhere."""
        home = {"XDG_DATA_HOME": self.path("home"), "KINDRED_LEDGER": "hidden"}
        asked = kindred("ledger", "passphrase", folder=self.folder, environment=home)
        self.assertEqual(asked.returncode, 3)
        new = {**home, "KINDRED_NEW_PASSPHRASE": _SECRET}
        self.assertEqual(
            kindred("ledger", "passphrase", folder=self.folder, environment=new).returncode, 0
        )
        known = {**home, "KINDRED_PASSPHRASE": _SECRET}
        done = kindred("backup", "place", folder=self.folder, environment=known)
        self.assertEqual(done.returncode, 0, done.stderr)
        refused = kindred("entries", folder=self.folder, environment=home)
        self.assertEqual(refused.returncode, 2)
        self.assertIn("KINDRED_PASSPHRASE", refused.stderr)
        for top, _, names in os.walk(self.folder):
            for name in names:
                with open(os.path.join(top, name), "rb") as file:
                    self.assertNotIn(_SECRET.encode(), file.read())

    def test_the_recipe_opens_an_encrypted_ledger(self) -> None:
        """The program in the documentation needs the standard library and Zstandard, no more."""
        with open(os.path.join(ROOT, "docs", "ledger-format.md"), encoding="utf-8") as file:
            recipe = re.search(r"```python\n(.*?)```", file.read(), re.S)
        assert recipe is not None
        script = self.path("restore_one.py")
        module = "import sys, backports.zstd; sys.modules['compression'] = backports\n"
        with open(script, "w", encoding="utf-8") as file:
            file.write((module if sys.version_info < (3, 14) else "") + recipe[1])
        small = FolderPlace(self.path("small"))
        write(small.root, {"save.json": b'{"purse": 12}' * 40})
        entry = self.sealed.backup(small)
        self.sealed.manifest_stores["entries"].remove([self.entry.id])
        plan_retirement(self.sealed, RetentionPolicy(last=1)).carry_out(
            self.sealed
        )  # little to decrypt
        done = subprocess.run(
            [
                sys.executable,
                "-I",
                script,
                self.path("ledger"),
                entry.id,
                "save.json",
                self.path("out"),
            ],
            env={"PATH": os.environ["PATH"], "PASSPHRASE": _SECRET},
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        with open(self.path("out"), "rb") as file:
            self.assertEqual(file.read(), b'{"purse": 12}' * 40)
