"""Compatibility: which mods fit a build, what each needs, and in which order they load.

What always holds: a mod is kept only if it says that it fits, and all that it needs is kept, too. What is
not said, or not understood, is unknown, and unknown is never counted as fitting.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from enum import StrEnum
from graphlib import CycleError, TopologicalSorter

from msgspec import Struct
from msgspec.structs import replace

from ...errors import VersionError
from ...finding import Finding
from ...places import folded
from ...versions import Version
from ...wording import count
from .kinds import ModKind
from .links import Link
from .reading import Mod, text_at

__all__ = ["Compatibility", "Fit", "FitReleases", "ModVerdict", "judge", "summary"]

# Releases of a mod that are at hand, the newest first: what each is called, and the mod it holds.
FitReleases = Callable[[Mod], Sequence[tuple[str, Mod]]]


class ModVerdict(StrEnum):
    """What becomes of a mod with a build.

    >>> [str(verdict) for verdict in kl.ModVerdict]
    ['keep', 'update', 'disable', 'unknown']
    """

    KEEP = "keep"
    UPDATE = "update"  # a release that fits is on the shelf
    DISABLE = "disable"
    UNKNOWN = "unknown"


class Fit(Struct, frozen=True):
    """A mod, what becomes of it, and why; `release` is what it is updated to, `code` that of its finding.

    >>> fit = kl.compatible_mods(install, "2.1").fits[0]
    >>> fit.mod.name, str(fit.verdict), fit.why
    ('Reedlight', 'disable', 'it is for 1.4 - 2.0')
    """

    mod: Mod
    verdict: ModVerdict
    why: str
    release: str = ""
    is_on: bool = True
    code: str = ""  # of the finding that tells it


class Compatibility(Struct, frozen=True):
    """Which mods fit a build: a verdict each, the order in which they load, and what is wrong.

    >>> found = kl.compatible_mods(install, "1.4")
    >>> found.totals(), found.order
    ({'keep': 1, 'update': 0, 'disable': 0, 'unknown': 0}, ('reedlight',))
    """

    build: Version | None
    fits: tuple[Fit, ...] = ()
    order: tuple[str, ...] = ()
    findings: tuple[Finding, ...] = ()

    def of(self, *verdicts: ModVerdict) -> tuple[Fit, ...]:
        """Return the mods with one of these verdicts."""
        return tuple(fit for fit in self.fits if fit.verdict in verdicts)

    def totals(self) -> dict[str, int]:
        """Return how many mods have each verdict."""
        return {verdict.value: len(self.of(verdict)) for verdict in ModVerdict}


def judge(
    mods: Sequence[Mod],
    kinds: Mapping[str, ModKind],
    build: Version | None,
    *,
    on: Sequence[str] | None = None,
    alone: bool = False,
    releases: FitReleases = lambda mod: (),
) -> Compatibility:
    """Judge mods of a title against a build.

    Without a build only what they need of one another is judged; `alone` says that there are others, which
    are not looked at, so nothing is missing. `on` are the ids that are switched on, in the order of loading;
    None: all that are there.
    """
    fits = {mod.path: _alone(mod, kinds[mod.kind], build, releases) for mod in mods}
    if on is not None:
        fits = {path: replace(fit, is_on=fit.mod.id in on) for path, fit in fits.items()}
    judged = _Judged(fits, on or (), alone=alone)
    judged.follow_needs()
    judged.part_conflicts()
    judged.put_in_order()
    fits_by_path = tuple(judged.fits[mod.path] for mod in mods)
    findings = (*(told for fit in fits_by_path for told in _told(fit, build)), *judged.findings)
    return Compatibility(build, fits_by_path, tuple(judged.order), findings)


def _alone(mod: Mod, kind: ModKind, build: Version | None, releases: FitReleases) -> Fit:
    """Judge a mod by what it says itself."""
    verdict, why = _says(mod, kind, build)
    if verdict is ModVerdict.KEEP:
        return Fit(mod, verdict, why)
    for name, other in releases(mod) if mod.id else ():
        if _says(other, kind, build)[0] is ModVerdict.KEEP:
            newer = replace(other, path=mod.path)
            told = f"{why}; {name} is for {other.builds}"
            return Fit(newer, ModVerdict.UPDATE, told, name, code="mod-update")
    unfit = verdict is ModVerdict.DISABLE
    return Fit(mod, verdict, why, code="mod-unfit" if unfit else "mod-unknown")


def _says(mod: Mod, kind: ModKind, build: Version | None) -> tuple[ModVerdict, str]:
    if build is None:
        return ModVerdict.KEEP, "for no build in particular"
    if not mod.descriptor:
        return ModVerdict.UNKNOWN, mod.fault or "it has no descriptor"
    if mod.fault:
        return ModVerdict.UNKNOWN, mod.fault
    if mod.builds is None:
        return ModVerdict.UNKNOWN, "it does not say which builds it is for"
    try:
        if build not in mod.builds:
            return ModVerdict.DISABLE, f"it is for {mod.builds}"
    except VersionError as error:
        return ModVerdict.UNKNOWN, error.what
    for number in kind.table.numbers:
        wanted, value = kind.values_of(number, build), text_at(mod.values, number.key)
        if wanted and value and value not in map(str, wanted):
            told = f"its {number.key} is {value}, and {build} takes {' or '.join(map(str, wanted))}"
            return ModVerdict.DISABLE, told
    return ModVerdict.KEEP, f"it is for {mod.builds}"


class _Lack(Struct, frozen=True):
    """Why a need is not met: the verdict that follows, the reason, and the code of the finding."""

    verdict: ModVerdict
    why: str
    code: str


class _Judged:
    """Verdicts as they follow from one another."""

    def __init__(self, fits: dict[str, Fit], on: Sequence[str], *, alone: bool) -> None:
        self.fits = fits
        self._alone = alone
        self.findings: list[Finding] = []
        self.order: list[str] = []
        self._on = {id: place for place, id in enumerate(on)}
        self._by_id: dict[str, list[str]] = {}
        for path, fit in fits.items():
            if fit.mod.id:
                self._by_id.setdefault(fit.mod.id, []).append(path)

    def follow_needs(self) -> None:
        """Have no mod kept without what it needs."""
        changed = True
        while changed:
            changed = False
            for path, fit in self.fits.items():
                if fit.verdict not in (ModVerdict.KEEP, ModVerdict.UPDATE):
                    continue
                for link in fit.mod.needs:
                    lack = self._lack(link, fit)
                    if lack is not None:
                        self.fits[path] = replace(
                            fit, verdict=lack.verdict, why=lack.why, code=lack.code, release=""
                        )
                        changed = True
                        break

    def _lack(self, link: Link, of: Fit) -> _Lack | None:
        """Return why a need is not met, and the code of that; None if it is met."""
        if link.fault:
            return _Lack(
                ModVerdict.UNKNOWN,
                f"what it needs is not understood: {link.fault}",
                code="need-unread",
            )
        found = [self.fits[path] for path in self._by_id.get(link.id, ())]
        if not found:
            if link.optional or self._alone:
                return None
            alike = next((id for id in self._by_id if folded(id) == folded(link.id)), "")
            told = f" ({alike} is another id)" if alike else ""
            return _Lack(
                ModVerdict.DISABLE,
                f"it needs {link}, which is not there{told}",
                code="need-missing",
            )
        best = min(found, key=lambda fit: list(ModVerdict).index(fit.verdict))
        if best.verdict is ModVerdict.DISABLE and not link.optional:
            return _Lack(
                ModVerdict.DISABLE, f"it needs {link.id}, which does not fit", code="need-unfit"
            )
        if best.verdict is ModVerdict.UNKNOWN and not link.optional:
            told = f"it needs {link.id}, of which nobody knows whether it fits"
            return _Lack(ModVerdict.UNKNOWN, told, code="need-unknown")
        if of.is_on and not best.is_on and not link.optional:
            return _Lack(
                ModVerdict.DISABLE, f"it needs {link.id}, which is switched off", code="need-off"
            )
        if link.versions is not None:
            try:
                if Version.parse(best.mod.version) not in link.versions:
                    told = f"it needs {link}, and there is {best.mod.version}"
                    return _Lack(ModVerdict.DISABLE, told, code="need-version")
            except VersionError:
                there = best.mod.version or "no version"
                return _Lack(
                    ModVerdict.UNKNOWN,
                    f"it needs {link}, and there is {there!r}",
                    code="need-version",
                )
        return None

    def part_conflicts(self) -> None:
        """Have a person choose between mods that say they do not work together."""
        clashing: dict[str, str] = {}
        for path, fit in self.fits.items():
            for link in fit.mod.conflicts:
                for other in self._by_id.get(link.id, ()):
                    there = self.fits[other]
                    both = {fit.verdict, there.verdict} <= {ModVerdict.KEEP, ModVerdict.UPDATE}
                    if not (both and fit.is_on and there.is_on) or other == path:
                        continue
                    if link.fault or _is_meant(there.mod, link):
                        clashing.setdefault(path, there.mod.id)
                        clashing.setdefault(other, fit.mod.id)
        for path, other in clashing.items():
            why = f"it conflicts with {other}: only one of them can be on"
            self.fits[path] = replace(
                self.fits[path],
                verdict=ModVerdict.UNKNOWN,
                why=why,
                code="mods-conflict",
                release="",
            )
        if clashing:
            self.follow_needs()

    def put_in_order(self) -> None:
        """Find the order of loading; mods that wait for one another are named, and unknown."""
        while True:
            staying = {
                fit.mod.id: fit.mod
                for fit in self.fits.values()
                if fit.mod.id and fit.is_on and fit.verdict in (ModVerdict.KEEP, ModVerdict.UPDATE)
            }
            before = {
                id: {each.id for each in (*mod.needs, *mod.after) if each.id in staying}
                for id, mod in staying.items()
            }
            try:
                self.order = _sorted(before, self._on)
                return
            except CycleError as error:
                self._name_cycle(error.args[1][::-1])

    def _name_cycle(self, cycle: Sequence[str]) -> None:
        told = " → ".join(cycle)
        remedy = "Ask their makers which loads first, or switch one of them off."
        where = self.fits[self._by_id[cycle[0]][0]].mod.path
        what = f"mods wait for one another, so none can load first: {told}"
        self.findings.append(Finding.error("dependency-cycle", what, where=where, remedy=remedy))
        for id in dict.fromkeys(cycle):
            for path in self._by_id[id]:
                why = f"it waits for itself: {told}"
                self.fits[path] = replace(
                    self.fits[path], verdict=ModVerdict.UNKNOWN, why=why, code="need-unknown"
                )
        self.follow_needs()


def _is_meant(mod: Mod, link: Link) -> bool:
    """Tell whether a conflict is with this version of a mod; in doubt it is."""
    if link.versions is None:
        return True
    try:
        return Version.parse(mod.version) in link.versions
    except VersionError:
        return True


def _sorted(before: Mapping[str, set[str]], on: Mapping[str, int]) -> list[str]:
    """Return ids so that each comes behind those it waits for; else as saved, else by name."""
    sorter = TopologicalSorter(before)
    sorter.prepare()
    out: list[str] = []
    ready: list[str] = []
    while sorter.is_active():
        ready = sorted([*ready, *sorter.get_ready()], key=lambda id: (on.get(id, len(on)), id))
        out.append(ready.pop(0))
        sorter.done(out[-1])
    return out


def _told(fit: Fit, build: Version | None) -> Iterator[Finding]:
    where = fit.mod.path
    if not fit.is_on or fit.verdict is ModVerdict.KEEP:
        return
    if fit.code == "mod-update":
        yield Finding.note(fit.code, f"{fit.mod}: {fit.why}", where=where, remedy=_UPDATE)
    elif fit.code == "mod-unfit":
        told = f"{fit.mod} does not fit {build}: {fit.why}"
        yield Finding.warning(fit.code, told, where=where, remedy=_UNFIT)
    elif fit.code == "mod-unknown":
        told = f"nobody knows whether {fit.mod} fits {build}: {fit.why}"
        yield Finding.warning(fit.code, told, where=where, remedy=_UNKNOWN)
    else:
        made = Finding.error if fit.code == "need-missing" else Finding.warning
        yield made(fit.code, f"{fit.mod}: {fit.why}", where=where, remedy=_NEEDS.get(fit.code, ""))


_UNFIT = "Look for a newer release of it and put it onto the shelf, or switch it off."
_UNKNOWN = "Ask its maker, or try it on a copy; until then take it for one that does not fit."
_NEEDS = {
    "need-missing": "Get what it needs, or switch it off.",
    "need-off": "Switch on what it needs, or switch it off.",
    "need-version": "Get the version that it needs, or switch it off.",
    "mods-conflict": "Switch one of the two off.",
}
_UPDATE = "It can be brought from the shelf."


def summary(found: Compatibility) -> str:
    """Return how many mods have which verdict, in words."""
    told = ", ".join(f"{number} {name}" for name, number in found.totals().items() if number)
    return f"{count(len(found.fits), 'mod')} with {found.build}: {told or 'none'}"
