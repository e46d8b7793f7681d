"""The usual order: the runbook that is made for an install whose card has none."""

from __future__ import annotations

from msgspec.structs import replace

from ..cards import Install
from ..planning.helper_sequence import HelperStep
from ..versions import Version, VersionRange
from .runbook import Runbook
from .steps import (
    Agree,
    Check,
    Look,
    Operate,
    Prove,
    RunbookStep,
    RunHelper,
    Shelve,
    SignOff,
    Store,
)

__all__ = ["USUAL", "guarded", "parts_of", "usual_runbook"]

_OF_PREVIEWS = (
    "{build} is a preview: it may damage saves and worlds, and what it wrote no other build may"
    " be able to read"
)
USUAL = "usual"  # what `runbook` says where the card's own are not wanted


def usual_runbook(install: Install, to: Version | str) -> Runbook:
    """Return the usual steps of an install to a build: look, store, update, convert, check, sign off.

    Helpers that the card has for these builds run before and after. A step that would have nothing to do is
    left out.

    >>> [step.called for step in kl.usual_runbook(install, "2.0").steps]
    ['look', 'store', 'shelve', 'update', 'convert', 'check', 'sign off']
    """
    card = install.card
    source, build = install.sure_version, card.build(to)
    steps: list[RunbookStep] = [Look(), Store(), Shelve()]
    helpers = [
        name
        for name, table in card.file.helpers.items()
        if source in VersionRange.parse(table.source, card.scheme)
        and build in VersionRange.parse(table.to, card.scheme)
    ]
    for name in helpers:
        steps += [_turn(name, HelperStep.PLACE), _turn(name, HelperStep.FIRST_RUN)]
    steps += [Operate(operation="update")]
    for name in helpers:
        steps += [_turn(name, HelperStep.PUT_BACK), _turn(name, HelperStep.SECOND_RUN)]
    if card.formats:
        steps += [Operate(operation="convert")]
    checks = ["whole", "build", *(["readable"] if card.formats else []), "kept"]
    steps += [Check(that=tuple(checks)), SignOff(parts=parts_of(install))]
    steps += [_turn(name, HelperStep.REMOVE) for name in helpers]
    return Runbook("", "*", "*", tuple(steps))


def guarded(runbook: Runbook, to: Version | str) -> Runbook:
    """Return a runbook as it is for a preview: agreed to, and only if what is stored is proven.

    >>> [step.called for step in guarded(kl.usual_runbook(install, "2.0"), "2.0").steps][:4]
    ['look', 'preview', 'store', 'prove']
    """
    steps = list(runbook.steps)
    first = next((at for at, step in enumerate(steps) if step.is_change), len(steps))
    stored = next((at for at, step in enumerate(steps) if isinstance(step, Store)), first)
    at = min(first, stored)
    head = [each for each in steps[:first] if not isinstance(each, (Store, Prove))]
    gate: list[RunbookStep] = [Agree(name="preview", say=_OF_PREVIEWS.format(build=to))]
    gate += [step for step in steps[:first] if isinstance(step, Store)] or [Store()]
    gate += [Prove()]
    rest = [each for each in steps[first:] if not isinstance(each, (Store, Prove))]
    return replace(runbook, steps=(*head[:at], *gate, *head[at:], *rest))


def _turn(helper: str, turn: HelperStep) -> RunHelper:
    return RunHelper(name=f"{turn} {helper}", helper=helper, turn=str(turn))


def parts_of(install: Install) -> tuple[str, ...]:
    """Return what a person looks at: that it starts, and what of theirs is there."""
    tree = install.place.survey()
    there = [
        name
        for name, fits in install.card.categories.items()
        if install.card.file.categories[name].protect and any(map(fits, tree.leaves))
    ]
    return ("it starts", *there)
