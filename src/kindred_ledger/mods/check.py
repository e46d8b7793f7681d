"""Checking mods: what is wrong with their shape, and the change that mends what can be mended safely.

Why a mod does not load is hardly ever in its data: it lies a folder too deep, there are two of it, a number
is that of another build. Each such fault is a finding with its place; where what mends it can lose nothing,
it says so, and `ModCheck.change` does it. What always holds: mended and checked again, none that could be
mended is left.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ..cards import Card, Install
from ..cards.mods import Compatibility, Fit, Mod, ModVerdict
from ..changes import Changeset, fitted
from ..errors import KindredError
from ..finding import Finding, Severity
from ..ledger import Ledger, Tag
from ..places import AnyPlace
from ..planning.modded import Modded, modded, released_mod, releases_on_shelf
from ..planning.rearranged import Rearranged
from ..planning.trial_copies import copies_under_test
from ..progress import Progress
from ..versions import Version
from ..wording import count
from .contents import content_faults
from .core import core_faults, list_faults, switch_off
from .faults import Fault, mended
from .shape import loose_faults, shape_faults
from .together import clashes

__all__ = ["ModCheck", "check_mods"]

_MOST_ROUNDS = 32  # of mending one fault of each mod; more are wrong with none


class ModCheck(Struct, frozen=True, dict=True):
    """What is wrong with mods: the mods, whether they fit a build, and the findings.

    >>> check = kl.check_mods(install)
    >>> len(check.mods), [finding.code for finding in check.findings]
    (1, [])
    """

    subject: Install | AnyPlace
    modded: Modded
    build: Version | None
    faults: tuple[Fault, ...]
    compatibility: Compatibility | None = None

    def __repr__(self) -> str:
        return f"<ModCheck {count(len(self.mods), 'mod')}, {count(len(self.findings), 'finding')}>"

    @property
    def mods(self) -> tuple[Mod, ...]:
        """The mods that are there."""
        return self.modded.mods

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What was found, by where it is."""
        return tuple(fault.finding for fault in self.faults)

    @property
    def fixable(self) -> tuple[Finding, ...]:
        """What can be mended safely."""
        return tuple(fault.finding for fault in self.faults if fault.mend is not None)

    def change(self, ledger: Ledger, *, progress: Progress | None = None) -> Changeset:
        """Compute the change that mends what can be mended safely; what is left is in its findings.

        >>> kl.check_mods(install).change(ledger).actions
        ()
        """
        place = self.modded.place
        made = Rearranged(place, ledger.scan(place, progress=progress))
        again = self.modded
        for _ in range(_MOST_ROUNDS):
            again = replace(self.modded, place=made, tree=made.tree)
            faults = _all_faults(again, self.build, ledger)[0]
            if not _mend_one_each(made, faults):
                break
        card = self.modded.card
        left = [
            fault.finding for fault in faults if fault.finding.severity is not Severity.CONFLICT
        ]
        mended_count = len(self.fixable)
        return fitted(
            Changeset(
                place=place,
                operation="check mods",
                summary=f"mend {count(mended_count, 'fault')} of {count(len(self.mods), 'mod')}",
                before=made.before,
                actions=made.actions(),
                tag=self.subject.tag
                if isinstance(self.subject, Install)
                else Tag(title=card.title if card is not None else ""),
                findings=tuple(left),
            )
        )


def check_mods(
    subject: Install | AnyPlace,
    build: str | Version = "",
    *,
    card: Card | None = None,
    ledger: Ledger | None = None,
    core: Sequence[str] = (),
) -> ModCheck:
    """Look for what is wrong with the mods of an install, of a folder of mods, or of one mod by itself.

    `build` is the one they shall work with; that of the install, if it is not given. `card` says what mods
    of the title are like; without one, what they have in common does. `core` are ids without which nothing
    else works, beside those that the card names. With a `ledger` it is looked up there what newer releases of
    mods are on the shelf, and where missing ones of the core set can be had.

    Raises:
        UsageError: there is nothing of the name, or the card describes no mods.

    >>> check = kl.check_mods(install, "2.1")
    >>> print(check.findings[0])
    program/mods/reedlight: Reedlight (reedlight) does not fit 2.1: it is for 1.4 - 2.0
    """
    found = modded(subject, card, core=core)
    wanted: Version | None = None
    if build:
        wanted = found.build(build)
    elif isinstance(subject, Install):
        wanted = subject.told_version
    faults, judged = _all_faults(found, wanted, ledger)
    if isinstance(subject, Install) and ledger is not None:
        faults += (Fault(each, each.where) for each in copies_under_test(subject, ledger))
    return ModCheck(subject, found, wanted, tuple(faults), judged)


def _all_faults(
    found: Modded, build: Version | None, ledger: Ledger | None
) -> tuple[list[Fault], Compatibility | None]:
    faults = [Fault(each, each.where) for each in found.damaged]
    faults += core_faults(found, build, ledger)
    for kind in found.kinds.values():
        faults += loose_faults(kind, found.tree)
    shapeless: set[str] = set()
    for each, mod in zip(found.gathered, found.mods, strict=True):
        own = list(shape_faults(each, mod, found.place, found.tree))
        if mod.descriptor and mod.values is not None:
            own += content_faults(each, mod, found.place, build)
        else:
            shapeless.add(mod.path)
        faults += own
    faults += clashes(found)
    says = any(kind.table.builds is not None for kind in found.kinds.values())
    if build is not None and not says:
        told = f"which mods fit {build} is not known: no card says where they say it"
        faults.append(Fault(Finding.warning("mods-unread", told, remedy=_GIVE_CARD), ""))
    releases = releases_on_shelf(ledger, found.kinds) if ledger is not None else lambda mod: ()
    judged = found.judged(build if says else None, releases=releases)
    told_of = shapeless | {f.path for f in faults if f.finding.code == "range-unread"}
    # What fits is known only when all that can be mended is, and the core set is complete.
    first = any(f.mend is not None or f.finding.code == "core-missing" for f in faults)
    faults += _unfit(found, judged, ledger, told_of, first=first)
    faults += list_faults(found, judged)
    if found.card is not None and any(f.table.required for f in found.card.formats.values()):
        from .completeness import gap_faults  # it loads all that converts

        faults += gap_faults(found, ledger)
    if found.alone:
        faults = [_left_to_do(f) if f.finding.code in _BESIDE else f for f in faults]
    return faults, judged if build is not None and says else None


# What mends these makes something beside the mod, which is all that is looked at of one by itself.
_BESIDE = ("archive-type", "name-differs", "several-mods")


def _left_to_do(fault: Fault) -> Fault:
    """Return a fault that nothing mends here; what would is what to do."""
    remedy = (
        fault.finding.remedy
        or f"Check the folder it lies in, and have it mended: {fault.finding.fix}."
    )
    return Fault(replace(fault.finding, fix="", remedy=remedy), fault.path)


_GIVE_CARD = "Give the card of the title."


def _unfit(
    found: Modded, judged: Compatibility, ledger: Ledger | None, told: set[str], *, first: bool
) -> Iterator[Fault]:
    """Yield which mods do not fit the build, except those of which worse is told already.

    Nothing is switched off or updated while something else is to be mended `first`.
    """
    fits = {fit.mod.path: fit for fit in judged.fits}
    for finding in judged.findings:
        path = finding.where
        fault = Fault(finding, path)
        if path in told and finding.code == "mod-unknown":
            continue
        fit = fits.get(path)
        if fit is not None and not first and fit.verdict is ModVerdict.DISABLE:
            fault = switch_off(found, fault, fit.mod)
        elif (
            fit is not None
            and not first
            and fit.verdict is ModVerdict.UPDATE
            and ledger is not None
        ):
            fault = _updated(found, fault, fit, ledger)
        yield fault


def _updated(found: Modded, fault: Fault, fit: Fit, ledger: Ledger) -> Fault:
    """Return a fault with what brings the fitting release of a mod from the shelf."""
    if fit.mod.packed or not fit.release:
        return fault
    release = ledger.shelf.place(ledger.shelf.find(fit.release))
    opened = released_mod(found.kinds[fit.mod.kind], release)
    if opened is None:
        return fault
    _, source, held = opened

    def mend(made: Rearranged) -> None:
        path, reason = fit.mod.path, f"from {fit.release}"
        here = made.tree.under(path)
        for inner in here.leaves:
            if inner not in held:
                made.remove(f"{path}/{inner}", f"{fit.release} does not have it")
        for inner, node in held.items():
            if here.get(inner) != node:
                made.put_from(f"{path}/{inner}", node, source, inner, reason)

    return mended(fault, f"put {fit.release} in its place", mend)


def _mend_one_each(made: Rearranged, faults: list[Fault]) -> bool:
    """Mend the first fault of each mod that can be mended; tell whether any was."""
    done: set[str] = set()
    for fault in faults:
        if fault.mend is None or fault.path in done:
            continue
        try:
            fault.mend(made)
        except KindredError:  # another one took the name meanwhile: the next round looks again
            continue
        done.add(fault.path)
    return bool(done)
