"""Operations that bring back what was: restoring an entry, undoing a change."""

from __future__ import annotations

import os

from msgspec.structs import replace

from ..cards import Install, select_categories
from ..changes import Changeset, redo, restore, undo
from ..ledger import Entry
from ..places import Every, Place, as_target, outline, wanted
from .context import Context
from .mods_after import Held, held_mods, with_mod_findings
from .operation import Operation

__all__ = ["Redo", "Restore", "Undo"]


class Restore(Operation, frozen=True, tag="restore"):
    """Bring an entry back: whole, by category or by path, where it was or `into` another place."""

    entry: str
    into: str = ""
    categories: tuple[str, ...] = ()
    only: tuple[str, ...] = ()
    exact: bool = False
    second_names: bool = False
    exclude: tuple[str, ...] = ()

    def compute(self, context: Context) -> Changeset:
        found = context.ledger.entry(self.entry)
        chosen = [fits for fits in (wanted(self.only, self.exclude),) if fits]
        asked = [f"paths that fit {' or '.join(self.only)}"] if self.only else []
        asked += [f"paths that do not fit {' or '.join(self.exclude)}"] if self.exclude else []
        if self.categories:
            chosen.append(select_categories(found.tag.categories, self.categories))
            kind = "category" if len(self.categories) == 1 else "categories"
            asked.append(f"the {kind} {', '.join(self.categories)}")
        place: Place | None = None
        tag = None
        held: Held | None = None
        install: Install | None = None
        why = f"only {' of '.join(asked)} was asked for"
        target = self.into or found.roots.get("program", "")
        if target and "://" not in target and os.path.isdir(os.path.expanduser(target)):
            subject = context.subject(target)
            if isinstance(subject, Install):
                install, place, tag = subject, subject.place, subject.tag
                if not self.only and found.tag.version != tag.version:
                    held = _held(subject, found, context)
                    chosen += [held] if held is not None else []
                    why = why if asked or held is None else _HELD
        if self.into and place is None:
            place = context.place(self.into) if "://" in self.into else as_target(self.into)
        change = restore(
            found,
            place,
            ledger=context.ledger,
            only=Every(tuple(chosen)) if chosen else None,
            why=why,
            exact=self.exact,
            second_names=self.second_names,
            tag=tag,
            progress=context.progress,
        )
        if install is None:
            return change
        change = with_mod_findings(change, install.card, install.told_version, arriving=True)
        if held is None:
            return change
        return replace(change, findings=(*change.findings, held.finding))


_HELD = "an old mod that does not fit the build that is there now"


def _held(install: Install, entry: Entry, context: Context) -> Held | None:
    """Return the mods of an entry that are not there now and do not fit the build; None if all may come."""
    place = context.ledger.place(entry)
    now, build = outline(install.place), install.told_version
    return held_mods(install.card, place, place.tree, now, build, remedy=_ALL_THE_SAME)


_ALL_THE_SAME = "To bring one back all the same, name its folder: `only=FOLDER/`."


class Undo(Operation, frozen=True, tag="undo"):
    """Take one change of the history back; see `undo`."""

    change: str = "latest"

    def compute(self, context: Context) -> Changeset:
        return undo(self.change, ledger=context.ledger, progress=context.progress)


class Redo(Operation, frozen=True, tag="redo"):
    """Make a change again that was taken back; see `redo`."""

    change: str = "latest"

    def compute(self, context: Context) -> Changeset:
        return redo(self.change, ledger=context.ledger, progress=context.progress)
