"""Switching: builds that share one folder of user data take turns, each with the data it wrote.

What is live is kept whole, under the build that wrote it; what the other build last had is put in its
place. There and back gives the same bytes, whatever either build did in between, as each had only
its own data under its hands. The program's folder is not touched.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from enum import StrEnum

from msgspec import Struct

from ..cards import PROGRAM, Install, as_install
from ..changes import Changeset, actions_between, fitted
from ..convert import unread_by
from ..errors import DecisionNeeded, UsageError
from ..finding import Finding
from ..ledger import BEFORE, Entry, Ledger, Record, Tag
from ..places import JoinedPlace, MemoryPlace, Place, Tree, join_folders, roots_of
from ..planning.mods_after import with_mod_findings
from ..progress import Progress
from ..versions import Version

__all__ = ["Begin", "Turn", "live_build", "switch"]

OPERATION = "switch"
_REASON = f"{BEFORE}{OPERATION}"


class Begin(StrEnum):
    """What a build starts with that was never used here.

    >>> shared = {"user": "mossferry/userdata"}
    >>> install = card.open("second/mossferry", folders=shared)
    >>> kl.switch(install, ledger=ledger, written_by="1.4", begin=kl.Begin.EMPTY).summary
    'give Mossferry 2.0 its turn; 1.4 gets its own data back later'
    """

    ASK = "ask"
    ALONG = "along"  # the live data, as it is
    EMPTY = "empty"  # nothing


class Turn(Struct, frozen=True):
    """Whose data is live, and since when: None if no switch was made here yet."""

    build: str
    change: str


def switch(
    install: Install,
    *,
    ledger: Ledger,
    written_by: str = "",
    begin: Begin = Begin.ASK,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that puts the data of an install's build into the folders it shares.

    `written_by` is the build that wrote what is live; from the second switch on the ledger knows it.
    A build that was never used here begins as `begin` says.

    Raises:
        UsageError: the install shares no folder, as its user's data lies in its own.
        DecisionNeeded: nobody knows who wrote what is live, or what the build shall begin with.

    >>> shared = {"user": "mossferry/userdata"}
    >>> second = card.open("second/mossferry", folders=shared)
    >>> kl.switch(second, ledger=ledger, written_by="2.0").actions
    ()
    """
    install = as_install(install)
    place = _shared(install, ledger)
    build = install.sure_version
    now = ledger.scan(place, progress=progress)
    live = _live(install, place, now, ledger, written_by)
    tag = Tag(
        install.card.title, live.text, "the last switch, or the caller", install.card.categories
    )
    if live == build:
        return fitted(
            Changeset(place, OPERATION, f"the data of {build} is live already", now, (), tag=tag)
        )
    source = _last_turn(install, place, ledger, build)
    target, contents, findings = _target(install, place, now, ledger, source, live, build, begin)
    reason = f"as {build} left it" if source else "nothing yet"
    change = fitted(
        Changeset(
            place=place,
            operation=OPERATION,
            summary=f"give {install.card.name} {build} its turn; {live} gets its own data back later",
            before=now,
            actions=tuple(actions_between(now, target, contents, reason=reason)),
            tag=tag,
            version_after=build.text,
            findings=(
                *findings,
                Finding.note(
                    "kept-whole",
                    f"{len(now.leaves)} files of {live} are kept whole, as they are now",
                ),
            ),
            keep_whole=True,
        )
    )
    return with_mod_findings(change, install.card, build)


def live_build(place: Place, ledger: Ledger) -> Turn | None:
    """Return whose data is live in folders that builds share, by this machine's switches there."""
    roots = dict(roots_of(place))
    records = {record.id: record for record in ledger.records()}
    for record in reversed(list(records.values())):
        if dict(record.roots) == roots and record.machine in ("", ledger.machine):
            turn = _turn(record, records)
            if turn is not None:
                return Turn(turn[1], record.id)
    return None


def _turn(record: Record, records: Mapping[str, Record]) -> tuple[str, str] | None:
    """Return whose data was live before and after a change; None if it is no switch, nor undoes one."""
    if record.operation == OPERATION:
        return record.tag.version, record.version_after
    undone = records.get(record.undoes)
    turn = _turn(undone, records) if undone is not None else None
    return (turn[1], turn[0]) if turn is not None else None


def _shared(install: Install, ledger: Ledger) -> JoinedPlace:
    """Return the folders of an install that other builds use, too: all but the program's.

    Those that lie in the program's own are shared only if a switch was made there before.
    """
    roots = roots_of(install.place)
    own = roots.pop(PROGRAM, "")
    place = join_folders(roots)
    outside = any(not root.startswith(own + os.sep) for root in roots.values())
    if not outside and (not roots or live_build(place, ledger) is None):
        raise UsageError(
            f"this {install.card.name} keeps its data in its own folder, so there is nothing to switch",
            where=install.place.location,
            remedy="Simply start the other build. To bring data over: kindred carry",
        )
    return place


def _live(install: Install, place: Place, now: Tree, ledger: Ledger, written_by: str) -> Version:
    turn = live_build(place, ledger)
    if written_by:
        said = install.card.build(written_by)
        if turn is not None and install.card.build(turn.build) != said:
            raise UsageError(
                f"the ledger has given the turn to {turn.build}, not to {said}",
                where=place.location,
                remedy=f"See kindred history {turn.change}. Without `written_by=BUILD` it is {turn.build}.",
            )
        return said
    if turn is not None:
        return install.card.build(turn.build)
    if not now.leaves:
        return install.sure_version
    raise DecisionNeeded(
        "nobody knows which build wrote what is live here",
        where=place.location,
        remedy="Say it once with `written_by=BUILD`; from then on the ledger knows.",
    )


def _last_turn(install: Install, place: Place, ledger: Ledger, build: Version) -> Entry | None:
    """Return what a build left when its last turn here ended."""
    roots = dict(roots_of(place))
    fitting = [
        entry
        for entry in ledger.entries()
        if entry.reason == _REASON
        and entry.complete
        and entry.tag.title == install.card.title
        and entry.machine in ("", ledger.machine)
        and dict(entry.roots) == roots
        and install.card.build(entry.tag.version) == build
    ]
    return fitting[-1] if fitting else None


def _target(
    install: Install,
    place: Place,
    now: Tree,
    ledger: Ledger,
    source: Entry | None,
    live: Version,
    build: Version,
    begin: Begin,
) -> tuple[Tree, Place, list[Finding]]:
    """Return what shall be live, where its contents are, and what is to be said of it."""
    if source is not None:
        taken = Finding.note("begins-with", f"from entry {source.id}")
        return ledger.tree(source), ledger.place(source), [taken]
    if begin is Begin.EMPTY:
        tops = Tree({path: node for path, node in now.items() if "/" not in path})
        return tops, MemoryPlace({}), [Finding.note("begins-with", f"{build} begins with nothing")]
    if begin is Begin.ASK:
        raise DecisionNeeded(
            f"{build} was never used here",
            where=place.location,
            choices=(
                f"`begin=along`: with what {live} left, as it is",
                "`begin=empty`: with nothing",
            ),
            remedy="Say which. What is live is kept either way.",
        )
    findings = [Finding.note("begins-with", f"{build} begins with what {live} left")]
    unread = unread_by(install.card, place, now, build=build)
    if unread:
        number = sum(map(len, unread.values()))
        findings.append(
            Finding.loss(
                "not-read",
                f"{build} does not read {number} files as they are and may overwrite them; what"
                f" {live} wrote stays in the ledger",
                where=place.location,
                one_way=build > live,
            )
        )
    return now, place, findings
