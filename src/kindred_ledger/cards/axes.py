"""Axes: the versions of one title that move for themselves (program, data, a companion tool), and
which of them belong together."""

from __future__ import annotations

import re
from collections.abc import Mapping

from ..finding import Finding
from ..versions import Version, VersionRange, scheme
from .card import PROGRAM, Card, Install
from .models import TogetherTable

__all__ = ["axis_versions", "out_of_step"]


def axis_versions(install: Install) -> dict[str, Version]:
    """Return the version on every axis that tells one, the program's first.

    An axis whose evidence disagrees tells none.
    """
    found = {PROGRAM: install.version} if install.version and install.agreed else {}
    for name, evidence in install.axes.items():
        versions = {piece.version for piece in evidence if piece.version}
        if len(versions) == 1:
            found[name] = versions.pop()
    return {name: version for name, version in found.items() if version is not None}


def out_of_step(card: Card, versions: Mapping[str, Version]) -> list[Finding]:
    """Return what is wrong with versions that should belong together, one for a rule.

    A rule about an axis that tells no version says nothing.
    """
    faults = (_fault(card, rule, versions) for rule in card.file.together)
    return [Finding.warning("versions-apart", fault) for fault in faults if fault]


def _fault(card: Card, rule: TogetherTable, versions: Mapping[str, Version]) -> str:
    told = {
        name: versions[name] for name in (*rule.same, *rule.when, *rule.need) if name in versions
    }
    wrong = (
        len({_first_numbers(v, rule.parts) for v in told.values()}) > 1
        if rule.same
        else _holds(card, rule.when, versions) is True
        and _holds(card, rule.need, versions) is False
    )
    if not wrong:
        return ""
    listed = " and ".join(f"{name} {version}" for name, version in told.items())
    return f"{listed} do not belong together" + (f": {rule.otherwise}" if rule.otherwise else "")


def _first_numbers(version: Version, parts: int) -> tuple[int, ...]:
    """Return the first numbers of a version; 2 is 2.0.

    The last of more numbers may differ by right: a program is mended while its data stays.
    """
    numbers = [int(number) for number in re.findall(r"\d+", version.text)[:parts]]
    return (*numbers, *[0] * (parts - len(numbers)))


def _holds(card: Card, ranges: Mapping[str, str], versions: Mapping[str, Version]) -> bool | None:
    """Tell whether versions are in their ranges; None if one of them is not told."""
    held = True
    for name, text in ranges.items():
        if name not in versions:
            return None
        axis = card.file.axes.get(name)
        of = scheme(axis.scheme, axis.order) if axis else card.scheme
        held = held and versions[name] in VersionRange.parse(text, of)
    return held
