"""kindred restore"""

from __future__ import annotations

import contextlib
import os
from typing import Any

import click

from ...cards import Install, select_categories
from ...changes import restore
from ...errors import UsageError
from ...ledger.tidying import making_folders
from ...places import Every, FolderPlace, MemoryPlace, Place
from ..applying import carry_out
from ..options import placing, session, writing
from ..session import Session, patterns


@click.command()
@click.argument("entry")
@click.option(
    "--into", default="", metavar="PLACE", help="Another place than the one it came from."
)
@click.option("--category", "categories", multiple=True, help="Only this category (repeatable).")
@click.option("--only", multiple=True, metavar="PATTERN", help="Only paths that fit (repeatable).")
@click.option("--exact", is_flag=True, help="Also remove what the entry does not hold.")
@click.option(
    "--second-names",
    is_flag=True,
    help="Files whose names differ only in case: restore all, under other names where needed.",
)
@writing
@placing
@session("restore")
def command(
    session: Session,
    *,
    entry: str,
    into: str,
    categories: tuple[str, ...],
    only: tuple[str, ...],
    exact: bool,
    second_names: bool,
    **options: Any,
) -> int:
    """Bring an ENTRY back: whole, by category or by path, where it was or elsewhere.

    \b
    Example, in the demo's folder:
      kindred restore mossferry@1.4 --category saves --dry-run
    """
    found = session.ledger.entry(entry)
    chosen = [f for f in (patterns(only),) if f]
    asked = [f"paths that fit {' or '.join(only)}"] if only else []
    if categories:
        chosen.append(select_categories(found.tag.categories, categories))
        asked.append(
            f"the {'category' if len(categories) == 1 else 'categories'} {', '.join(categories)}"
        )
    wanted = Every(tuple(chosen)) if chosen else None
    place: Place | None = None
    tag = None
    target = into or found.roots.get("program", "")
    if target and "://" not in target and os.path.isdir(os.path.expanduser(target)):
        subject = session.subject(target)
        if isinstance(subject, Install):
            place, tag = subject.place, subject.tag
    with contextlib.ExitStack() as folders:
        if into and place is None:
            place = _folder(session, into, folders, dry_run=bool(options["dry_run"]))
        change = restore(
            found,
            session.ledger,
            place,
            only=wanted,
            why=f"only {' of '.join(asked)} was asked for",
            exact=exact,
            second_names=second_names,
            tag=tag,
            progress=session.progress,
        )
        return carry_out(session, change, **options)


def _folder(session: Session, path: str, folders: contextlib.ExitStack, *, dry_run: bool) -> Place:
    """Return the place at a path, made within `folders` if it is not there."""
    if "://" in path:
        return session.place(path)
    full = os.path.abspath(os.path.expanduser(path))
    if os.path.exists(full):
        if not os.path.isdir(full):
            raise UsageError("an entry is restored into a folder", where=path)
        return FolderPlace(full)
    if dry_run:
        return MemoryPlace({}, location=full)
    folders.enter_context(making_folders(session.ledger.root, full))
    return FolderPlace(full)
