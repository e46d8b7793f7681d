"""Ledger: the memory. One folder that holds entries, their contents and the history of changes.

What always holds: an entry appears only when all it refers to is durable; nothing that is stored
is ever written again; whatever is read back is verified by digest. See docs/ledger-format.md.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable, Mapping
from functools import cached_property
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

from msgspec.structs import replace

from ..errors import LedgerDamaged, PlaceChanged, UsageError
from ..finding import Finding
from ..places import (
    AnySelection,
    Place,
    Seen,
    Tree,
    archive_of,
    as_selection,
    check_selected,
    digested,
    look,
    place_at,
    roots_of,
    running_in,
    scan,
    still_changing,
)
from ..progress import Progress
from ..suggestions import path_meant
from .creating import begin
from .encryption import COST
from .entries import BEFORE, RETIRED, Entry, LeftOut, Mark, ReleaseTag, Tag, Tagged, iso
from .entry_place import EntryPlace
from .index import Index
from .locating import folder_at, is_encrypted, remote_at, this_machine
from .manifest import tree_from_columns, tree_to_columns
from .manifest_store import ManifestStore
from .records import Record
from .sessions import Sessions
from .shelf import Shelf
from .storage import Storage, refuse_links
from .storing import Storing, key_of
from .subjects import own_name, place_and_tag, without_disposable

if TYPE_CHECKING:
    from ..places.remotes import Remote

__all__ = ["Ledger"]

_PATIENCE_SECONDS = 60.0  # with somebody who retires
_LIST = "To see what is kept: kindred entries"


class Ledger:
    """An open ledger. `clock` gives the time in seconds since 1970.

    >>> with kl.Ledger.open("ledger") as ledger:
    ...     entry = ledger.backup("mossferry")
    ...     [entry.tag.title for entry in ledger.entries()]
    ...
    ['mossferry']
    """

    def __init__(
        self,
        root: str,
        *,
        clock: Callable[[], float] = time.time,
        storage: Storage | None = None,
        machine: str = "",
        connect: Callable[[str], Remote] | None = None,
    ) -> None:
        refuse_links(root)
        self.root = root
        self._connect = connect
        self.clock = clock
        self.machine = machine or this_machine()
        self.storage = storage or Storage(root)

    @staticmethod
    def open(
        where: str | os.PathLike[str] | Remote,
        *,
        create: bool = True,
        clock: Callable[[], float] = time.time,
        machine: str = "",
        local_cache: str = "",
        passphrase: Callable[[], str] | None = None,
        connect: Callable[[str], Remote] | None = None,
    ) -> Ledger:
        """Open the ledger in a folder, or on a remote; `create` makes one where there is none.

        `local_cache` is a folder on this machine for the cache and unfinished work of a ledger that is
        remote, or encrypted; empty is one among the user's own files. `machine` is what this machine
        is called in what it keeps, if not by its own name. `passphrase` is called if the ledger is
        encrypted. A remote is closed by whoever connected it. `connect` opens the places at URLs that
        entries and changes speak of, with what there is to log in; None takes no more than the URL.

        Raises:
            LedgerError: the folder is no ledger, or one of a newer format.
            UsageError: `where` is a URL; connect to it first.
            PlaceError: the system refuses.
            WrongPassphrase: it is encrypted, and this does not open it.
        """
        if not isinstance(where, (str, os.PathLike)) or is_encrypted(folder_at(where)):
            from .remote_storage import open_remote_storage

            storage = open_remote_storage(
                remote_at(where), local_cache, create=create, passphrase=passphrase
            )
            return Ledger(
                storage.root, clock=clock, storage=storage, machine=machine, connect=connect
            )
        root = folder_at(where)
        begin(root, create=create)
        return Ledger(root, clock=clock, machine=machine, connect=connect)

    @staticmethod
    def create_encrypted(
        where: str | os.PathLike[str] | Remote, passphrase: str, *, cost: int = COST
    ) -> None:
        """Make an encrypted ledger in a folder or on a remote; see `open`.

        `cost` is what each try of a passphrase takes, in KiB of memory: a power of two.

        Raises:
            LedgerError: there is a ledger already.
        """
        from .keys import create_encrypted

        create_encrypted(remote_at(where), passphrase, cost=cost)

    def change_passphrase(self, passphrase: str, *, cost: int = COST) -> None:
        """Have a passphrase, and no other, open this encrypted ledger from now on.

        No pack is written again. Cut off half way, the old and the new one open it.

        Raises:
            UsageError: it is not encrypted.
        """
        self.storage.change_passphrase(passphrase, cost=cost)

    @property
    def location(self) -> str:
        """Where the ledger is, as people name it: its folder, or its URL."""
        return self.storage.location

    @property
    def is_remote(self) -> bool:
        """Whether it is on a remote."""
        return self.location != self.root

    def folder(self, name: str) -> str:
        """Return the path of one of the ledger's folders on this machine."""
        return os.path.join(self.root, name)

    @cached_property
    def index(self) -> Index:
        """The cache, brought in line with the packs."""
        index = Index(self.folder("index.sqlite"), self.storage)
        index.sync()
        return index

    def finish(self) -> None:
        """Say that nothing more is to be done with it for now."""
        if "index" in self.__dict__:
            self.index.note_sum()

    def close(self) -> None:
        """Close what is open of it, as at the end of a `with` block; it opens again when it is used."""
        self.finish()
        if "index" in self.__dict__:
            self.index.close()
            del self.__dict__["index"]

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        at: TracebackType | None,
    ) -> None:
        self.close()

    def __repr__(self) -> str:
        return f"<Ledger {self.location}>"

    @cached_property
    def _entries(self) -> ManifestStore:
        return ManifestStore("entries", self.storage, self.index, noun="entry")

    @cached_property
    def _history(self) -> ManifestStore:
        return ManifestStore("history", self.storage, self.index, noun="change")

    @cached_property
    def _marks(self) -> ManifestStore:
        return ManifestStore("marks", self.storage, self.index, noun="mark")

    @property
    def manifest_stores(self) -> dict[str, ManifestStore]:
        """The manifests by the folder they are in."""
        return {"entries": self._entries, "history": self._history, "marks": self._marks}

    @cached_property
    def shelf(self) -> Shelf:
        """The releases that are kept here."""
        return Shelf(self)

    @cached_property
    def sessions(self) -> Sessions:
        """Who is writing here."""
        return Sessions(self.storage)

    @cached_property
    def storing(self) -> Storing:
        """What makes contents durable here."""
        return Storing(self.root, self.index, self.sessions)

    # Keeping

    def backup(
        self,
        subject: Tagged | Place | str | os.PathLike[str],
        *,
        only: AnySelection = None,
        disposable: bool = False,
        tag: Tag | None = None,
        note: str = "",
        pinned: bool = False,
        progress: Progress | None = None,
    ) -> Entry:
        """Keep what a place holds, or what of it is wanted by `only`, as a new entry.

        `only` is a pattern, several, or a function of a path. Without it, files that the card calls
        disposable are left out, unless they are asked for by `disposable`; the entry says so.

        A text is the path of a folder or archive. `tag` says what it is; None takes what the subject says of
        itself. What has no title is called by the name of its folder or archive. A file that will not
        hold still is kept as it was read the last time, and named in the entry; a database in use
        is kept as SQLite hands it out, without the files beside it; programs that run from the
        place are named.

        Raises:
            PlaceError: something cannot be read; no entry is made.
            UsageError: `subject` is nothing to keep, or `only` takes nothing of it.
        """
        place, own = place_and_tag(subject)
        chosen = as_selection(only)
        tag = tag or own
        watch = progress or Progress()
        running = tuple(str(program) for program in running_in(roots_of(place).values()))
        with self.storing.session() as again:
            while again():
                seen = self.seen(place)
                tree = place.survey(seen=seen)
                check_selected(chosen, tree.leaves)
                wanted = tree if chosen is None else tree.select(chosen)
                left_out = None
                if chosen is None and not disposable:
                    wanted, left_out = without_disposable(tree, tag)
                stored = self.storing.store_live(place, wanted, seen, tree, watch)
                seen.keep(stored.tree.files)
                self.index.remember_seen(key_of(place), seen)
            return self._enter(
                place,
                tag,
                stored.tree,
                complete=chosen is None,
                left_out=left_out,
                note=note,
                pinned=pinned,
                unsettled=stored.unsettled,
                captured=stored.captured,
                running=running,
            )

    def keep(
        self,
        place: Place,
        tag: Tag,
        tree: Tree,
        *,
        reason: str,
        complete: bool = False,
        progress: Progress | None = None,
    ) -> Entry:
        """Keep the files of `tree` as they are in `place` now, before an operation changes them.

        `complete` says that this is all the place holds.

        Raises:
            PlaceChanged: a file no longer has the digest that `tree` gives it.
        """
        with self.storing.session() as again:
            while again():
                kept = self._stored_as(place, tree, progress or Progress())
            return self._enter(place, tag, kept, complete=complete, reason=reason)

    def _stored_as(self, place: Place, tree: Tree, progress: Progress) -> Tree:
        """Store the files of `tree`, which must be what they were."""
        kept, unsettled, _ = self.storing.store(place, tree, None, progress)
        for path in unsettled:
            raise still_changing(path, place.location)
        for path in kept.files:
            if kept[path].digest != tree[path].digest:
                raise PlaceChanged(
                    f"{path} changed since it was looked at",
                    where=place.location,
                    remedy="Close the game and its launcher, then run this again.",
                )
        return kept

    # Releases; see `shelf`

    def enter_release(
        self,
        place: Place,
        tag: Tag,
        tree: Tree,
        held: Tree,
        label: ReleaseTag,
        *,
        note: str = "",
        progress: Progress | None = None,
    ) -> Entry:
        """Keep the files of `held` and enter `tree` as a release."""
        with self.storing.session() as again:
            while again():
                self._stored_as(place, held, progress or Progress())
            now = self.clock()
            entry = self._entry(
                place, tag, tree, now, complete=True, reason="shelved", note=note, pinned=True
            )
            body = {"tree": tree_to_columns(held)}
            if not label.whole:
                body["release"] = tree_to_columns(tree)
            return self._entered(replace(entry, release=label), body, now)

    def release_tree(self, entry: Entry) -> Tree:
        """Return the whole tree of a release."""
        return tree_from_columns(self.release_columns(entry))

    def release_columns(self, entry: Entry) -> dict[str, Any]:
        """Return the whole tree of a release in columns, as it is stored."""
        body = self._entries.read(entry.id)[1]
        columns: dict[str, Any] = body.get("release", body["tree"])
        return columns

    def drop_release(self, entry: Entry) -> None:
        """Take a release away; that is noted, so that no mirror brings it back."""
        with self.storage.deleting(patience_seconds=_PATIENCE_SECONDS):
            self.mark(RETIRED, entry.id, note="taken from the shelf", entries=[entry])
            self._entries.remove([entry.id])

    def seen(self, place: Place) -> Seen:
        """Return what is remembered of the files of a place, to save reading them."""
        return self.index.seen(key_of(place))

    def scan(self, place: Place, *, progress: Progress | None = None) -> Tree:
        """Return the tree of a place with digests, reading only what is not remembered."""
        seen = self.seen(place)
        tree = scan(place, seen=seen, progress=progress)
        self.index.remember_seen(key_of(place), seen)
        return tree

    def place_at(self, roots: Mapping[str, str]) -> Place:
        """Open a place that an entry or a change speaks of; see `places.place_at`."""
        if self._connect is not None:
            return place_at(roots, self._connect)
        from ..places.remotes import connect

        return place_at(roots, connect)

    def look(
        self,
        place: Place,
        paths: Iterable[str],
        *,
        anew: bool = False,
        progress: Progress | None = None,
    ) -> Tree:
        """Return what stands at some paths of a place made of folders, or a remote; see `scan`.

        `anew` reads all of it, whatever is remembered.
        """
        seen, wanted = None if anew else self.seen(place), list(paths)
        return digested(place, lambda: look(place, wanted, seen=seen), seen=seen, progress=progress)

    def _enter(self, place: Place, tag: Tag, tree: Tree, **more: Any) -> Entry:
        now = self.clock()
        entry = self._entry(place, tag, tree, now, **more)
        return self._entered(entry, {"tree": tree_to_columns(tree)}, now)

    def _entered(self, entry: Entry, body: dict[str, Any], now: float) -> Entry:
        header = entry.to_json()
        return replace(entry, id=self._entries.enter(now, lambda id: {**header, "id": id}, body))

    def _entry(
        self,
        place: Place,
        tag: Tag,
        tree: Tree,
        now: float,
        *,
        complete: bool,
        reason: str = "asked",
        note: str = "",
        pinned: bool = False,
        unsettled: tuple[str, ...] = (),
        captured: tuple[str, ...] = (),
        running: tuple[str, ...] = (),
        left_out: LeftOut | None = None,
    ) -> Entry:
        return Entry(
            id="",
            when=iso(now),
            tag=tag if tag.title else replace(tag, title=own_name(place.location)),
            roots=roots_of(place),
            files=len(tree.files),
            size_bytes=tree.size_bytes,
            complete=complete,
            reason=reason,
            note=note,
            pinned=pinned,
            unsettled=unsettled,
            captured=captured,
            running=running,
            machine=self.machine,
            left_out=left_out,
        )

    # Looking

    def entries(self) -> list[Entry]:
        """Return what was kept and can be read, the oldest first; see `unreadable` and `shelf`."""
        return [entry for entry in self.all_entries() if entry.release is None]

    def all_entries(self) -> list[Entry]:
        """Return all entries that can be read, shelved releases among them, the oldest first."""
        return [Entry.from_json(header) for header in self._entries.headers()]

    def unreadable(self) -> list[LedgerDamaged]:
        """Return what is wrong with the entries, records and marks that cannot be read."""
        return [
            fault
            for manifest_store in self.manifest_stores.values()
            for fault in manifest_store.unreadable()
        ]

    def entry(self, text: str | Entry) -> Entry:
        """Return the entry that `text` names: an id, its beginning, `latest`, or `title@version`.

        An entry stays itself.

        Of several, the newest that holds a whole place is meant: what operations kept of the
        paths they touched is found by id.

        Raises:
            UsageError: none fits, or an id's beginning fits several.
        """
        if isinstance(text, Entry):
            return text
        text = text.removeprefix("entry:")
        if "@" not in text and (text != "latest" or not self._entries.ids()):
            try:
                asked = self._entries.resolve(text)
            except UsageError:
                if self.is_retired(text):
                    raise UsageError(f"entry {text} is retired", remedy=_LIST) from None
                raise
            found = Entry.from_json(self._entries.read(asked)[0])
            if found.release is not None:
                raise UsageError(
                    f"entry {text} is a shelved release", remedy=f"Name it as release:{text}."
                )
            return found
        fitting = [entry for entry in self.entries() if text in (entry.name, "latest")]
        if not fitting:
            names = sorted({entry.name for entry in self.entries()})
            raise UsageError(
                f"no such entry: {text}",
                remedy=path_meant(text, names)
                or (f"The ledger has: {', '.join(names)}." if names else "The ledger is empty."),
            )
        own = [entry for entry in fitting if not entry.reason.startswith(BEFORE)]
        return max(
            own or fitting, key=lambda e: (e.complete, not archive_of(e.roots), e.id)
        )  # what was kept of a place that can be brought back comes before what was taken in

    def tree(self, entry: Entry, *, like: Tree | None = None) -> Tree:
        """Return the tree of an entry; what `like` has, too, is shared with it and takes no room."""
        return tree_from_columns(self.columns(entry), like=like)

    def columns(self, entry: Entry) -> dict[str, Any]:
        """Return the tree of an entry in columns, as it is stored."""
        columns: dict[str, Any] = self._entries.read(entry.id)[1]["tree"]
        return columns

    def place(self, entry: Entry, *, like: Tree | None = None) -> EntryPlace:
        """Return an entry as a place to read from; see `tree` for `like`."""
        return EntryPlace(entry, self.index, lambda: self.tree(entry, like=like))

    def held(self, digests: Iterable[bytes]) -> set[bytes]:
        """Return which contents are held, of those with some BLAKE3 digests."""
        return {*self.index.locate_all(digests, lasting=True)}

    def check(self, entry: Entry) -> list[Finding]:
        """Read everything an entry refers to and return what is wrong."""
        found: list[Finding] = []
        place = self.place(entry)
        try:
            tree = self.tree(entry)
        except LedgerDamaged as error:
            return [error.finding("damaged")]
        for _, blocks in place.read(tree.files):
            try:
                for _ in blocks:
                    pass
            except LedgerDamaged as error:
                found.append(error.finding("damaged"))
        return found

    # Marks

    def mark(
        self, kind: str, subject: str, *, note: str = "", entries: Iterable[Entry] = ()
    ) -> Mark:
        """Note what was found out of an entry or change, or became of some entries, now."""
        now = self.clock()
        mark = Mark("", iso(now), kind, subject, note)
        header = mark.to_json()
        body = {"entries": [entry.to_json() for entry in entries]}
        return replace(mark, id=self._marks.enter(now, lambda id: {**header, "id": id}, body))

    def marks(self, kind: str) -> list[Mark]:
        """Return the marks of a kind that can be read, the oldest first."""
        marks = map(Mark.from_json, self._marks.headers())
        return [mark for mark in marks if mark.kind == kind]

    def retired(self) -> list[Entry]:
        """Return the entries that were retired, as they said of themselves, the oldest first."""
        found: dict[str, Entry] = {}
        for mark in self.marks(RETIRED):
            for header in self._marks.read(mark.id)[1]["entries"]:
                found[header["id"]] = Entry.from_json(header)
        return [found[id] for id in sorted(found.keys() - {*self._entries.ids()})]

    def is_retired(self, id: str) -> bool:
        """Tell whether an entry was retired."""
        return any(entry.id == id for entry in self.retired())

    # The history

    def records(self) -> list[Record]:
        """Return the applied changes that can be read, the oldest first, without their trees."""
        return [Record.from_json(header) for header in self._history.headers()]

    def record(self, text: str) -> Record:
        """Return one applied change whole: by id, its beginning, or `latest`."""
        header, body = self._history.read(self._history.resolve(text))
        return Record.from_json(header, body)

    def take_in_record(self, id: str, path: str) -> None:
        """Add the record of a change that waited at `path` to the history."""
        self._history.take_in(id, path)

    def write_record(self, record: Record, path: str) -> None:
        """Write the record of a change to `path`, to wait there until it enters the history."""
        self._history.write(path, record.header(), record.body())

    def has_record(self, id: str) -> bool:
        """Tell whether the record of a change is in the history now, wherever that is."""
        return self._history.holds(id)

    def new_record_id(self) -> str:
        """Return an id behind all that are there, to be reserved."""
        return self._history.next_id(self.clock())

    def reserve_record(self, id: str) -> bool:
        """Keep an id for a record from other machines; tell whether it was nobody's."""
        return self._history.reserve(id)

    def release_record(self, id: str) -> None:
        """Let go of an id that was reserved: its record was written, or never will be."""
        self._history.release(id)
