"""Rehearsing: all of a migration on a scratch copy of the install, with a ledger of its own.

What always holds: the install, its data and the ledger stay as they are; the copy is gone afterwards. What
only a person can do is passed over, and told.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

from ..cards import PROGRAM, Install
from ..changes.unkept import scratch_ledger
from ..errors import PlaceError
from ..ledger import Ledger
from ..places import roots_of
from ..planning.context import Context
from ..wording import size
from .consents import MigrationConsents
from .migration import Migration
from .runbook import Runbook
from .running import MigrationRun
from .steps import ResultState, StepResult

__all__ = ["rehearse"]

_LEVELS = 2  # folders above the program's in which cards look for what it needs


def rehearse(
    install: Install,
    release: str,
    to: str,
    runbook: Runbook,
    *,
    context: Context,
    old: str = "",
    consents: MigrationConsents | None = None,
    watch: Callable[[StepResult], None] = lambda result: None,
) -> MigrationRun:
    """Do a migration on a copy that goes afterwards, and return what came of each step.

    It ends where the real one would stop to ask, or fail. What the history knows of the install (helpers
    under way, worlds that were remapped) is not known of the copy.

    Raises:
        PlaceError: there is no room for the copy.
        KindredError: a step failed, as it would for real.

    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     choice = kl.choose_migration(context, "mossferry", "downloads/mossferry-2.0.zip")
    ...     consents = kl.MigrationConsents(allow_loss=True)
    ...     done = kl.rehearse(
    ...         choice.install, choice.release, choice.to, choice.runbook, context=context, consents=consents
    ...     )
    ...
    >>> done.status.ended, card.open("mossferry").version.text
    ('done', '1.4')
    """
    with _copied(install, context) as (roots, ledger):
        _bring_releases(install, context.ledger, ledger)
        scratch = Context(
            ledger,
            cards=context.cards,
            around=context.around,
            build=context.build,
            folders={name: root for name, root in roots.items() if name != PROGRAM},
            progress=context.progress,
        )
        with scratch:
            copy = scratch.install(roots[PROGRAM], title=install.card.title)
            migration = Migration.begin(
                copy, release, to, runbook, context=scratch, old=old, consents=consents
            )
            results: list[StepResult] = []
            while (result := migration.advance(scratch, consents, is_rehearsal=True)) is not None:
                results.append(result)
                watch(result)
                if result.state is not ResultState.DONE:
                    break
            return MigrationRun(tuple(results), migration.status())


@contextmanager
def _copied(install: Install, context: Context) -> Iterator[tuple[dict[str, str], Ledger]]:
    """Give the folders of a copy of an install, and a ledger for it; both go after the block."""
    roots = roots_of(install.place)
    total = sum(node.size for node in install.place.survey().values())
    holder = context.scratch("rehearsal")
    os.makedirs(holder, exist_ok=True)
    free = shutil.disk_usage(holder).free
    if free < 3 * total:  # the copy, what is stored of it, what is staged
        raise PlaceError(
            f"a rehearsal needs {size(3 * total)}, and {size(free)} are free",
            where=holder,
            remedy="Free some space, or plan only: --dry-run.",
        )
    top = _beside(roots[PROGRAM], os.path.join(holder, "copy"))
    copies = {PROGRAM: top}
    shutil.copytree(roots[PROGRAM], top, symlinks=True)
    for name, root in roots.items():
        if name == PROGRAM:
            continue
        if root.startswith(roots[PROGRAM] + os.sep):
            copies[name] = os.path.join(top, os.path.relpath(root, roots[PROGRAM]))
            continue
        copies[name] = os.path.join(holder, "parts", name)
        shutil.copytree(root, copies[name], symlinks=True)
    with scratch_ledger(holder) as ledger:
        yield copies, ledger


def _beside(program: str, top: str) -> str:
    """Make folders in which what lies beside a program is linked; return where its copy goes.

    Cards look for runtimes in the folders above.
    """
    inner, here = "", program
    levels = []
    for _ in range(_LEVELS):
        above = os.path.dirname(here)
        levels.append((above, os.path.basename(here)))
        inner = os.path.join(os.path.basename(here), inner) if inner else os.path.basename(here)
        if above == os.path.dirname(above):
            break
        here = above
    folder = top
    os.makedirs(folder)
    for above, without in reversed(levels):
        with suppress(OSError):  # nobody may look there, or links cannot be made
            for entry in os.scandir(above):
                if entry.name != without:
                    os.symlink(entry.path, os.path.join(folder, entry.name))
        folder = os.path.join(folder, without)
        if folder != os.path.join(top, inner):
            os.makedirs(folder, exist_ok=True)
    return folder


def _bring_releases(install: Install, source: Ledger, target: Ledger) -> None:
    """Put the releases of a title on the shelf of another ledger: they say what of an install is an edit."""
    for release in source.shelf.releases(install.card.title):
        place = source.shelf.place(release)
        held = place.held
        target.shelf.add(
            place,
            release.entry.tag,
            release.label,
            tree=place.tree,
            contents=None if release.label.whole else held.__contains__,
        )
