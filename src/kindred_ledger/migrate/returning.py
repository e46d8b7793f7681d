"""Returning: back to an older build with the data it had, as one: a program and its data belong together.

What always holds: never the program of one build with the data of another; what is missing is named, with
where it is to be had.
"""

from __future__ import annotations

from ..cards import PROGRAM, Install
from ..errors import UsageError
from ..ledger import BEFORE, Entry, Ledger, Release
from ..places import roots_of
from ..planning.context import Context
from ..versions import Version
from .choosing import AlreadyThere, MigrationChoice, check_none_under_way, is_build
from .runbook import Runbook
from .steps import Agree, Check, Look, Operate, RunbookStep, SignOff, Store
from .usual import parts_of

__all__ = ["choose_return"]

_AGREED = "as-stored"


def choose_return(context: Context, install: str, build: str) -> MigrationChoice:
    """Return what brings an install back to a build with the data that it had when it was last stored.

    That is one whole entry; or data that were stored, and the program's release from the shelf.

    Raises:
        UsageError: it is of that build, or something is missing: which, and where it is to be had.
        DecisionNeeded: its build is not certain, or a migration of it is under way.

    >>> _ = ledger.backup(install)
    >>> newer = kl.update(install, "downloads/mossferry-2.0.zip", ledger=ledger).apply(ledger)
    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     [step.called for step in kl.choose_return(context, "mossferry", "1.4").runbook.steps]
    ...
    ['look', 'as-stored', 'store', 'restore', 'check', 'sign off']
    """
    opened = context.install(install)
    check_none_under_way(context.ledger, opened)
    wanted = opened.card.build(build)
    if opened.sure_version == wanted:
        raise AlreadyThere(
            f"this {opened.card.name} is {wanted} already",
            where=opened.place.location,
            remedy="To bring single files back: kindred restore ENTRY --only PATTERN",
        )
    whole, data = _entries(opened, wanted, context.ledger)
    release = _release(opened, wanted, context.ledger)
    since, checks = "", ("whole", "build", *(("readable",) if opened.card.formats else ()))
    if whole is not None:
        entry, steps = whole, _from_entry(whole)
    elif data is not None and release is not None:
        entry, steps = data, _from_both(opened, data, release)
        since, checks = f"; files made since stay, and {wanted} may refuse them", ("whole", "build")
    else:
        raise UsageError(_missing(opened, wanted, data, release), where=opened.place.location,
            remedy=_where(opened, wanted, data, release))  # fmt: skip
    when = entry.when.replace("T", " ").rstrip("Z")
    told = (
        f"saves and settings go back to what they were on {when} UTC, in entry {entry.id}: what was played"
        f" since is not in them, and is stored first{since}"
    )
    runbook = Runbook(
        "",
        "*",
        "*",
        (
            Look(),
            Agree(name=_AGREED, say=told),
            Store(),
            *steps,
            Check(that=checks),
            SignOff(parts=parts_of(opened)),
        ),
    )
    named = f"release:{release.name}" if release is not None else f"entry:{entry.id}"
    return MigrationChoice(opened, named, wanted.text, runbook)


def _entries(install: Install, build: Version, ledger: Ledger) -> tuple[Entry | None, Entry | None]:
    """Return the newest whole entry of an install as that build, and the newest of its data alone."""
    program = roots_of(install.place)[PROGRAM]
    whole = data = None
    for entry in ledger.entries():
        if entry.roots.get(PROGRAM) != program:
            continue
        if not is_build(entry.tag.version, build, install.card):
            continue
        if entry.complete:
            whole = entry
        elif not entry.reason.startswith(BEFORE):
            data = entry
    return whole, data


def _release(install: Install, build: Version, ledger: Ledger) -> Release | None:
    found = [
        release
        for release in ledger.shelf.releases(install.card.title)
        if is_build(release.version, build, install.card) and release.label.whole
    ]
    return found[-1] if found else None


def _from_entry(entry: Entry) -> tuple[RunbookStep, ...]:
    fields = {"entry": entry.id, "into": "{install}", "exact": True}
    return (Operate(operation="restore", fields=fields),)


def _from_both(install: Install, entry: Entry, release: Release) -> tuple[RunbookStep, ...]:
    return (
        Operate(operation="update", fields={"release": f"release:{release.name}", "old": ""}),
        Operate(operation="restore", fields={"entry": entry.id, "into": "{install}"}),
    )


def _missing(install: Install, build: Version, data: Entry | None, release: Release | None) -> str:
    if data is not None:
        return f"the data of {build} are stored, in entry {data.id}, and its program is not"
    if release is not None:
        return f"the program of {build} is on the shelf, and no data of this install as {build} are stored"
    return f"nothing of {install.card.name} {build} is stored: neither its program nor its data"


def _where(install: Install, build: Version, data: Entry | None, release: Release | None) -> str:
    shelve = f"Put its release on the shelf: kindred shelf fetch {build} --index INDEX, or shelf add FILE"
    if data is not None:
        return shelve
    convert = f"kindred migrate INSTALL release:{install.card.title}@{build}"
    if release is not None:
        return f"Bring what is here into its formats: {convert}"
    return f"{shelve}\nThen bring what is here into its formats: {convert}"
