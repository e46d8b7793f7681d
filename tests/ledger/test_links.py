"""Links in the place of the ledger's own files and folders: named as damage, and never followed."""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Callable
from typing import Any

from kindred_ledger.changes import drill, recover, restore, undo
from kindred_ledger.errors import KindredError, LedgerDamaged
from kindred_ledger.ledger import Ledger, RetentionPolicy, heal, mirror, plan_retirement, verify
from tests.support import KeptCase, files_in, nothing_followed, snapshot

_COST = 1 << 10  # KiB


class Links(KeptCase):
    def everything(self, root: str) -> list[Callable[[Ledger], Any]]:
        place = self.place({"here": b"1"}, "place")
        return [
            lambda ledger: [ledger.columns(entry) for entry in ledger.all_entries()],
            lambda ledger: ledger.backup(place),
            lambda ledger: restore(ledger.entry("latest"), place, ledger=ledger).apply(
                ledger, allow_loss=True
            ),
            lambda ledger: undo(ledger=ledger).apply(ledger, allow_loss=True),
            lambda ledger: drill(ledger=ledger),
            recover,
            lambda ledger: mirror(Ledger.open(self.path("other")), ledger),
            lambda ledger: heal(ledger, mirrors=[Ledger.open(self.path("other"))]),
            lambda ledger: plan_retirement(ledger, RetentionPolicy(last=1)).carry_out(ledger),
        ]

    def test_each_in_turn(self) -> None:
        """Files and folders, each moved elsewhere with a link left: plain and encrypted."""
        mirror(self.ledger("other"), self.ledger())
        Ledger.create_encrypted(self.path("sealed"), "secret", cost=_COST)
        sealed = Ledger.open(
            self.path("sealed"), passphrase=lambda: "secret", local_cache=self.path("n")
        )
        mirror(sealed, self.ledger())
        for name in ("ledger", "sealed"):
            whole = self.path(name)
            inner = [os.path.relpath(os.path.join(top, n), whole)
                     for top, folders, files in os.walk(whole) for n in (*folders, *files)]  # fmt: skip
            for path in sorted(inner):
                if not path.endswith((".lock", ".sum")):
                    with self.subTest(ledger=name, path=path):
                        self.one(name, path)

    def one(self, name: str, path: str) -> None:
        root, outside = self.path("copy"), self.path("outside")
        for folder in (root, outside, self.path("near"), self.path("place")):
            shutil.rmtree(folder, ignore_errors=True)
        shutil.copytree(self.path(name), root, symlinks=True)
        os.mkdir(outside)
        aim = os.path.join(outside, os.path.basename(path))
        os.rename(os.path.join(root, path), aim)
        os.symlink(aim, os.path.join(root, path))
        before = snapshot(outside)

        def opened() -> Ledger:
            return Ledger.open(root, local_cache=self.path("near"), passphrase=lambda: "secret")

        with nothing_followed(self, root):
            try:
                ledger = opened()
                faults = {fault.where for fault in verify(ledger).findings}
                ledger.index.close()
            except LedgerDamaged as error:
                faults = {os.path.relpath(error.where, root)}
            named = {"keys" if fault.startswith("keys/") else fault for fault in faults}
            self.assertTrue(any(path.startswith(fault) for fault in named), faults)
            for act in self.everything(root):
                with contextlib.suppress(KindredError):
                    ledger = opened()
                    act(ledger)
                    ledger.index.close()
        self.assertEqual(snapshot(outside), before)
        self.assertTrue(files_in(outside) or os.path.isdir(aim))
