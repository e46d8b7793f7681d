"""Retiring: what a policy keeps, what is protected, and that space comes back at nobody's cost."""

from __future__ import annotations

import os
import threading
import time
from datetime import UTC, datetime

from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from kindred_ledger.changes import CHECKS, confirm, undo
from kindred_ledger.errors import LedgerDamaged, PlaceBusy, UsageError
from kindred_ledger.ledger import (
    CONFIRMED,
    Entry,
    Ledger,
    RetentionPolicy,
    Tag,
    confirmable,
    mirror,
    plan_retirement,
    verify,
)
from kindred_ledger.ledger.entries import RETIRED
from kindred_ledger.ledger.reclaiming import reclaim
from kindred_ledger.ledger.retention import outcomes
from kindred_ledger.places import FolderPlace
from kindred_ledger.progress import Progress
from kindred_ledger.statement import Outcome
from tests.support import Case, KeptCase, change_to, law, write

_QUIET = Progress()
_ENTRIES = st.lists(
    st.builds(
        lambda day, hour, version, root, reason, complete, pinned: Entry(
            id="",
            when=datetime.fromtimestamp(86_400 * day + 3600 * hour, UTC).strftime(
                "%Y-%m-%dT%H:%M:%SZ"
            ),
            tag=Tag("mossferry", version),
            roots={"": root},
            files=1,
            size_bytes=1,
            reason=reason,
            complete=complete,
            pinned=pinned,
        ),
        st.integers(18_000, 18_090),
        st.integers(0, 23),
        st.sampled_from(("1.4", "2.0")),
        st.sampled_from(("/a", "/b")),
        st.sampled_from(("asked", "asked", "before update")),
        st.booleans(),
        st.sampled_from((False, False, False, True)),
    ),
    max_size=25,
)
_POLICIES = st.builds(
    RetentionPolicy,
    last=st.integers(0, 4),
    per_version=st.booleans(),
    daily=st.integers(0, 5),
    weekly=st.integers(0, 4),
    monthly=st.integers(0, 3),
).filter(str)


def _numbered(entries: list[Entry]) -> list[Entry]:
    ordered = sorted(entries, key=lambda entry: entry.when)
    return [replace(entry, id=f"e{number:02}") for number, entry in enumerate(ordered)]


class Policies(Case):
    @law
    @given(_ENTRIES, _POLICIES, st.data())
    def test_what_is_never_retired(
        self, some: list[Entry], policy: RetentionPolicy, data: st.DataObject
    ) -> None:
        """Pinned, protected, and the newest of each version, whole if any is; a line for each entry."""
        entries = _numbered(some)
        chosen = data.draw(st.sets(st.sampled_from([e.id for e in entries]))) if entries else ()
        lines = outcomes(entries, policy, protected=dict.fromkeys(chosen, "asked"))
        self.assertEqual([line.item for line in lines], [entry.id for entry in entries])
        kept = {line.item for line in lines if line.outcome is Outcome.UNCHANGED}
        self.assertLessEqual({*chosen} | {e.id for e in entries if e.pinned}, kept)
        for name in {entry.name for entry in entries}:
            of_it = [entry for entry in entries if entry.name == name]
            newest = max(of_it, key=lambda entry: (entry.complete, entry.id))
            self.assertIn(newest.id, kept)
        asked = [entry for entry in reversed(entries) if entry.reason == "asked"]
        for root in ("/a", "/b"):
            here = [entry for entry in asked if entry.roots[""] == root]
            self.assertLessEqual({entry.id for entry in here[: policy.last]}, kept)
            for entry in here[: policy.daily]:  # so many days at least are reached
                day = [other for other in here if other.when[:10] == entry.when[:10]]
                self.assertIn(day[0].id, kept)

    @law
    @given(_ENTRIES, _POLICIES, _POLICIES)
    def test_keeping_more_keeps_no_less(
        self, some: list[Entry], one: RetentionPolicy, two: RetentionPolicy
    ) -> None:
        """And what is kept is all that would be kept of it again."""
        entries = _numbered(some)

        def kept(of: list[Entry], policy: RetentionPolicy) -> set[str]:
            lines = outcomes(of, policy, protected={})
            return {line.item for line in lines if line.outcome is Outcome.UNCHANGED}

        both = RetentionPolicy(
            last=max(one.last, two.last),
            per_version=one.per_version or two.per_version,
            daily=max(one.daily, two.daily),
            weekly=max(one.weekly, two.weekly),
            monthly=max(one.monthly, two.monthly),
        )
        self.assertGreaterEqual(kept(entries, both), kept(entries, one) | kept(entries, two))
        left = [entry for entry in entries if entry.id in kept(entries, one)]
        self.assertEqual(kept(left, one), {entry.id for entry in left})

    def test_a_policy_that_says_nothing_is_none(self) -> None:
        for policy in (RetentionPolicy(), RetentionPolicy(last=-1, daily=3)):
            with self.assertRaises(UsageError):
                outcomes([], policy, protected={})


class Retiring(KeptCase):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.ledger()

    def contents(self, ledger: Ledger) -> dict[str, dict[str, bytes]]:
        """Read all that every entry holds, verified."""
        return {
            entry.id: {
                path: b"".join(blocks)
                for path, blocks in ledger.place(entry).read(ledger.tree(entry).files)
            }
            for entry in ledger.entries()
        }

    def test_what_stays_is_whole_and_what_goes_gives_its_space_back(self) -> None:
        """Entries by recipes and differences among them; doing it again does nothing."""
        place = FolderPlace(self.path("place"))
        for number in range(6):
            world = bytearray(os.urandom(1 << 20))
            write(place.root, {"world": bytes(world), f"{number}.txt": b"new %d" % number})
            self.kept.backup(place)
            world[::5000] = bytes(len(world[::5000]))
            write(place.root, {"world": bytes(world)})
            self.kept.backup(place, pinned=number % 2 == 0)
        before, size = self.contents(self.kept), _size(self.path("ledger", "packs"))
        plan = plan_retirement(self.kept, RetentionPolicy(last=1))
        self.assertEqual(_size(self.path("ledger", "packs")), size)
        done = plan.carry_out(self.kept)
        gone = {entry.id for entry in plan.going}
        self.assertGreater(len(gone), 6)
        self.assertEqual(done.books.counted_before, len(before))
        self.assertEqual(done.books.counted_after, len(before) - len(gone))
        given = size - _size(self.path("ledger", "packs"))
        self.assertEqual(given, done.space.size_bytes)
        self.assertGreater(given, 2 << 20)
        self.assertLess(abs(given - plan.space.size_bytes), given / 10)  # "about", as the plan says
        self.assertGreater(done.space.written, 0)
        for ledger in (self.kept, Ledger.open(self.copied())):
            after = self.contents(ledger)
            self.assertEqual(after, {id: before[id] for id in before.keys() - gone})
            self.assertEqual((verify(ledger).findings, verify(ledger).costs), ((), ()))
            self.assertEqual({entry.id for entry in ledger.retired()}, gone)
        again = plan_retirement(self.kept, RetentionPolicy(last=1)).carry_out(self.kept)
        self.assertEqual((again.space.deleted, again.space.size_bytes), (0, 0))
        self.assertEqual(self.contents(self.kept), after)
        ledger.index.close()

    def test_what_was_kept_before_a_change_waits_until_that_is_confirmed(self) -> None:
        """By somebody's word, or by checks; then it may go, and the change can no longer be undone."""
        (record,) = self.kept.records()
        policy = RetentionPolicy(last=1)
        self.assertNotIn(record.entry, [e.id for e in plan_retirement(self.kept, policy).going])
        self.assertEqual([r.id for r in confirmable(self.kept)], [record.id])
        write(self.path("place"), {"noise": b"spoilt"})
        found = confirm("latest", ledger=self.kept, checks=CHECKS)
        self.assertEqual((found.mark, len(found.findings)), (None, 1))
        self.assertIn("noise: ", str(found.findings[0]))
        self.assertEqual(self.kept.marks(CONFIRMED), [])
        self.assertNotEqual(confirm(record.id, ledger=self.kept, note="I looked").mark, None)
        plan = plan_retirement(self.kept, policy)
        self.assertIn(record.entry, [entry.id for entry in plan.going])
        plan.carry_out(self.kept)
        with self.assertRaisesRegex(UsageError, "retired"):
            undo(ledger=self.kept)
        with self.assertRaisesRegex(UsageError, "is retired"):
            self.kept.entry(record.entry)

    def test_a_change_that_was_taken_back_is_decided_about(self) -> None:
        """What the undo replaced waits, as it may be wanted again; so does nothing that is old enough."""
        back = undo(ledger=self.kept).apply(self.kept).record
        waiting = {r.id for r in confirmable(self.kept)}
        self.assertEqual(waiting, {back.id})
        aged = RetentionPolicy(last=1, confirmed_after_days=1)
        self.assertNotIn(back.entry, [each.id for each in plan_retirement(self.kept, aged).going])
        later = Ledger.open(self.kept.root, clock=lambda: time.time() + 2 * 86_400)
        self.addCleanup(later.index.close)
        self.assertIn(back.entry, [each.id for each in plan_retirement(later, aged).going])
        self.assertTrue(confirm(back.id, ledger=self.kept, checks=CHECKS).mark)
        self.assertEqual(confirmable(self.kept), [])

    def test_a_mirror_does_not_bring_back_what_was_retired(self) -> None:
        other = self.ledger("other")
        mirror(self.kept, other)
        confirm("latest", ledger=self.kept)
        plan = plan_retirement(self.kept, RetentionPolicy(last=1))
        plan.carry_out(self.kept)
        before = [entry.id for entry in self.kept.entries()]
        self.assertGreater(len(plan.going), 0)
        back = mirror(other, self.kept)
        self.assertEqual((back.entries, back.not_copied), (0, ()))
        self.assertEqual([entry.id for entry in self.kept.entries()], before)
        self.assertEqual(len(other.entries()), len(before) + len(plan.going))

    def test_damage_stops_it_before_anything_goes(self) -> None:
        """What cannot be read may be needed: an entry, or a pack."""
        confirm("latest", ledger=self.kept)
        for kind in ("entries", "packs"):
            folder = self.path("ledger", kind)
            path = max(entry.path for entry in os.scandir(folder))  # the newest, of entries
            with open(path, "rb") as file:
                whole = file.read()
            for name in os.listdir(folder) if kind == "packs" else [path]:
                os.truncate(os.path.join(folder, name), 100)
            ledger = Ledger.open(self.copied())
            there = os.listdir(ledger.folder("packs")), os.listdir(ledger.folder("entries"))
            with self.assertRaises(LedgerDamaged) as caught:
                plan_retirement(ledger, RetentionPolicy(last=1)).carry_out(ledger)
            self.assertIn("kindred ledger heal", str(caught.exception))
            now = os.listdir(ledger.folder("packs")), os.listdir(ledger.folder("entries"))
            self.assertEqual(now, there)
            ledger.index.close()
            with open(path, "wb") as file:
                file.write(whole)

    def test_one_retires_at_a_time(self) -> None:
        plan = plan_retirement(self.kept, RetentionPolicy(last=1))
        with Ledger.open(self.path("ledger")).storage.deleting(), self.assertRaises(PlaceBusy):
            plan.carry_out(self.kept)


class BesideWriters(Case):
    """What a writer that is at work relies on is not deleted, whoever comes first."""

    def setUp(self) -> None:
        super().setUp()
        self.old = self.place({"a": os.urandom(9000), "b": os.urandom(9000)}, "old")
        self.new = self.place({"c": b"another"}, "new")
        self.here = self.ledger()
        self.entry = self.here.backup(self.old)
        self.here.backup(self.new)
        self.there = Ledger.open(self.path("ledger"))
        self.addCleanup(self.there.index.close)
        self.there.mark(RETIRED, "a test", entries=[self.entry])
        self.there.manifest_stores["entries"].remove(
            [self.entry.id]
        )  # nothing needs its pack any more

    def test_a_writer_that_began_before_is_waited_for(self) -> None:
        """It found its contents in the pack that is to go, and enters them while it is waited for."""
        with self.here.storing.session() as again:
            self.assertTrue(again())
            stored = self.here.storing.store(self.old, self.here.scan(self.old), None, _QUIET)
            self.assertFalse(again())
            first = reclaim(self.there, patience_seconds=0)
            self.assertEqual((first.deleted, first.waiting), (0, 1))
            entry = self.here._enter(self.old, Tag(), stored.tree, complete=True)
            waiting = threading.Thread(target=reclaim, args=[self.there])
            waiting.start()
            waiting.join(0.3)
            self.assertTrue(waiting.is_alive())
        waiting.join()
        self.assertEqual(self.here.sessions.condemned(), frozenset())
        self.assertEqual(self.here.check(entry), [])

    def test_a_writer_that_sees_it_in_time_keeps_its_contents_again(self) -> None:
        with self.here.storing.session() as again:
            while again():
                stored = self.here.storing.store(self.old, self.here.scan(self.old), None, _QUIET)
                if not self.here.sessions.condemned():
                    self.assertEqual(reclaim(self.there, patience_seconds=0).waiting, 1)
            entry = self.here._enter(self.old, Tag(), stored.tree, complete=True)
        done = reclaim(self.there)
        self.assertEqual((done.deleted, done.waiting), (1, 0))
        self.assertEqual(self.here.check(entry), [])

    def test_a_writer_that_begins_after_does_not_rely_on_it(self) -> None:
        """Though what it keeps has the very bytes of the pack that goes, and so might have its name."""
        with self.there.sessions.hold():  # a writer, to be waited for in vain
            first = reclaim(self.here, patience_seconds=0)
        self.assertEqual((first.deleted, first.waiting), (0, 1))
        third = self.ledger()
        entry = third.backup(FolderPlace(self.path("old")))
        done = reclaim(self.here)
        self.assertEqual((done.deleted, done.waiting), (1, 0))
        for ledger in (third, self.here):
            self.assertEqual(ledger.check(entry), [])
        self.assertEqual((verify(third).findings, verify(third).costs), ((), ()))

    def test_a_reader_goes_on_when_packs_are_rewritten_under_it(self) -> None:
        big = {f"{n}": os.urandom(600_000) for n in range(12)}
        place = self.place(big, "big")
        self.here.backup(place)
        keep = {name: big[name] for name in list(big)[::2]}
        change_to(place, keep).apply(self.here)
        entry = self.here.backup(place)
        reading = self.here.place(entry).read(keep)
        name, blocks = next(iter(reading))
        found = {name: b"".join(blocks)}
        confirm("latest", ledger=self.there)
        done = plan_retirement(self.there, RetentionPolicy(last=1)).carry_out(self.there)
        self.assertGreater(done.space.deleted, 0)
        for name, blocks in reading:
            found[name] = b"".join(blocks)
        self.assertEqual(found, keep)


def _size(folder: str) -> int:
    return sum(entry.stat().st_size for entry in os.scandir(folder))
