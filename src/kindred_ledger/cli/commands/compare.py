"""kindred compare"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence

import click

from ...cards import Install
from ...ledger import EntryPlace
from ...places import DIR, Difference, Tree
from .. import drawing
from ..options import placing, session
from ..session import Session

_MOST = 30  # differences listed one by one; beyond, folders are summed up
_FEW = 3


@click.command()
@click.argument("before")
@click.argument("after")
@click.option("--all", "show_all", is_flag=True, help="List every difference.")
@placing
@session("compare")
def command(session: Session, before: str, after: str, show_all: bool) -> int:
    """Tell what differs in content between two places, entries or archives.

    Status 1 if anything does. Contents are compared by digest, never by size or time.

    \b
    Example, in the demo's folder:
      kindred compare mossferry@1.4 mossferry
    """
    subjects = [session.subject(text) for text in (before, after)]
    trees = [_tree(session, subject) for subject in subjects]
    found = [
        difference
        for difference in trees[0].diff(trees[1])
        if difference.status != "touched" and _counts(difference.before, difference.after)
    ]
    category = _category(subjects)
    if session.json:
        plain = [
            {"path": d.path, "status": d.status, "category": category(d.path) or None}
            for d in found
        ]
        return session.emit(1 if found else 0, differences=plain)
    same = len(set(trees[0].leaves) & set(trees[1].leaves)) - sum(
        d.status == "changed" for d in found
    )
    if not found:
        session.out.print(
            f"No difference: {drawing.count(same, 'file')} hold the same, byte for byte."
        )
        return 0
    totals = Counter(d.status for d in found)
    parts = ", ".join(f"{number:,} {status}" for status, number in sorted(totals.items()))
    drawing.heading(session.out, f"{before} → {after}", f"{parts}, {same:,} the same")
    lines = [(f"    {d.status}", d.path, category(d.path)) for d in found]
    if len(found) > _MOST and not show_all:
        lines = _by_folder(found, category)
    drawing.rows(session.out, ("    status", "path", "belongs to"), lines)
    return 1


def _tree(session: Session, subject: object) -> Tree:
    if isinstance(subject, EntryPlace):
        return subject.survey()
    place = subject.place if isinstance(subject, Install) else subject
    return session.ledger.scan(place, progress=session.progress)  # type: ignore[arg-type]


def _by_folder(
    found: Sequence[Difference], category: Callable[[str], str]
) -> list[tuple[str, str, str]]:
    """Return the differences as lines, those of one kind in one folder as one."""
    groups: dict[tuple[str, str], list[str]] = {}
    for difference in found:
        folder = difference.path.rpartition("/")[0]
        groups.setdefault((difference.status, folder), []).append(difference.path)
    lines = []
    for (status, folder), paths in groups.items():
        if len(paths) <= _FEW:
            lines += [(f"    {status}", path, category(path)) for path in paths]
        else:
            lines.append((f"    {status}", f"{folder}/ ({len(paths):,} files)", category(paths[0])))
    return lines


def _counts(before: object, after: object) -> bool:
    """Folders come and go with what lies in them; only files and links are told."""
    return {getattr(node, "kind", DIR) for node in (before, after)} != {DIR}


def _category(subjects: Sequence[object]) -> Callable[[str], str]:
    """Return what names the category of a path, from whichever side knows the categories."""
    for subject in reversed(subjects):
        known = getattr(getattr(subject, "tag", None), "categories", {})
        if known:
            return lambda path: next((name for name, p in known.items() if p(path)), "program")
    return lambda path: ""
