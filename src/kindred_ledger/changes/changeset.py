"""Changeset: what shall change in a place, and why, path by path.

A changeset is a value: operations compute it and write nothing; applying it is the only way a
file of the user's is ever changed. What always holds in one: every action names what stands there
now and what shall stand there, every folder that must come into being has an action of its own,
and nothing is put below a link or a file.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from operator import attrgetter
from typing import Any

from msgspec.structs import force_setattr, replace

from ..errors import DecisionNeeded, UnsafeName
from ..ledger import Ledger
from ..places import (
    DIR,
    NO_LIMITS,
    Node,
    Running,
    StorageLimits,
    Tree,
    collisions,
    is_ours,
    limits_at,
    limits_by_part_of,
    parents,
    roots_of,
    running_in,
    tells_names_apart,
)
from ..progress import Progress
from ..statement import Line
from .actions import Action
from .consent import check_consent
from .engine import Applied, apply_changeset
from .folder_times import is_of_time
from .plan import Plan
from .unkept import NOT_RECORDED, ledger_for

__all__ = ["Changeset"]

_STEPS = frozenset(("", ".", ".."))  # parts of a path that lead elsewhere


class Changeset(Plan, frozen=True, dict=True):
    """A computed change of one place; its fields are those of `Plan`."""

    def __post_init__(self) -> None:
        complete = [*_missing_folders(self.before, self.actions), *self.actions]
        limits_by_part = limits_by_part_of(self.place)
        if any(limits != NO_LIMITS for limits in limits_by_part.values()):
            complete = _held(complete, limits_by_part, self.place.location)
        force_setattr(self, "actions", tuple(sorted(complete, key=attrgetter("path"))))
        _check_structure(self.after, self.actions)
        self._check_names()

    @property
    def running(self) -> list[Running]:
        """The programs that run from the place or have files of it open, as of now."""
        return running_in(roots_of(self.place).values()) if self.actions else []

    def _check_names(self) -> None:
        """Refuse names beside others that many systems take for the same.

        Such stand side by side only where both stood together before, on a disk that holds both.
        """
        added = {action.path for action in self.actions if action.before is None}
        for one, other in collisions(self.after) if added else ():
            if one not in added and other not in added:
                continue
            if not (self.undoes or self._stood_together(one, other)) or not tells_names_apart(
                self.place, self.before
            ):
                raise UnsafeName(
                    f"{one} and {other} are one file on systems that ignore case or Unicode form",
                    remedy="Rename one of them, then run this again.",
                )

    def _stood_together(self, one: str, other: str) -> bool:
        return bool(self.as_kept and self.offered and {one, other} <= self.offered.keys())

    def check_consent(self, *, allow_loss: bool | Sequence[str]) -> None:
        """Raise if something must be decided first; see `check_consent` of the module `consent`."""
        check_consent(self, allow_loss=allow_loss)

    def check_running(self) -> None:
        """Raise `DecisionNeeded` if a program runs from the place or has files of it open."""
        running = self.running
        if running:
            raise DecisionNeeded(
                "this is in use",
                where=self.place.location,
                choices=tuple(str(program) for program in running),
                remedy="Close it, then run this again, or go ahead with --while-running.",
            )

    def to_json(self, *, lines: bool | Callable[[Line], bool] = False) -> dict[str, Any]:
        """Return the changeset as plain values, without contents; `lines` says which lines of its books.

        `running` is as of now.
        """
        return {
            "operation": self.operation,
            "summary": self.summary,
            "place": self.place.location,
            "place_books": self.preview(every=bool(lines)).to_json(lines=lines),
            "books": [statement.to_json(lines=lines) for statement in self.statements],
            "findings": [finding.to_json() for finding in self.findings],
            "running": [str(program) for program in self.running],
        }

    def apply(
        self,
        ledger: Ledger,
        *,
        allow_loss: bool | Sequence[str] = False,
        while_running: bool = False,
        progress: Progress | None = None,
    ) -> Applied:
        """Make the change: keep what it touches, then all of it or nothing.

        Where nothing is there yet, nothing has to be kept: then a ledger that cannot be written to will
        do, and the change is in no history.

        `allow_loss` consents to every loss, or to those of some codes, `CODE` or `CODE:PATTERN` of paths.

        Raises:
            UsageError: `allow_loss` names a loss that this change does not have.
            DecisionNeeded, LossNotAllowed: consent is missing, or a program runs from the place and
                `while_running` is False; nothing was written.
            PlaceBusy, PlaceChanged, PlaceError: the place is as it was before.
            BooksUnbalanced: the result is not what was planned; the place is as it was before.
        """
        self.check_consent(allow_loss=allow_loss)
        if not while_running:
            self.check_running()
        with ledger_for(self, ledger) as writable:
            done = apply_changeset(self, writable, progress=progress or Progress())
        if writable is ledger:
            return done
        return replace(done, findings=(*done.findings, NOT_RECORDED))


def _held(
    actions: list[Action], limits_by_part: Mapping[str, StorageLimits], where: str
) -> list[Action]:
    """Return the actions that make a difference to a place that cannot hold all there is.

    Raises:
        UnsafeName: something it cannot hold would arrive.
    """
    filled = {part for action in actions if action.after for part in parents(action.path)}
    kept = []
    for action in actions:
        limits = limits_at(limits_by_part, action.path)
        before, after = action.before, action.after
        if (
            before is not None
            and after is not None
            and not is_of_time(action)  # else the change would give the folder a time of its own
            and not limits.tells_apart(before, after)
        ):
            continue
        why = limits.why_not(action.path, after) if after is not None else ""
        if why:
            raise UnsafeName(
                f"{action.path} is {why}",
                where=where,
                remedy="Leave it out (--only picks what to bring), or choose another place.",
            )
        if _is_folder(after) and not limits.empty_folders and action.path not in filled:
            continue
        kept.append(action)
    return kept


def _missing_folders(before: Tree, actions: Iterable[Action]) -> list[Action]:
    known = {action.path for action in actions if action.after and action.after.kind == DIR}
    filled = {action.path.rpartition("/")[0] for action in actions if action.after is not None}
    missing = {
        folder
        for inner in filled
        for folder in (*parents(inner), inner)
        if folder and folder not in known and folder not in before
    }
    reason = "needed for what lies in it"
    return [Action(folder, None, Node(DIR), reason=reason) for folder in sorted(missing)]


def _is_folder(node: Node | None) -> bool:
    return node is not None and node.kind == DIR


def _check_structure(after: Tree, actions: Sequence[Action]) -> None:
    added = {action.path for action in actions if action.before is None}
    closed = {action.path for action in actions if action.before and not _is_folder(action.after)}
    was_folder = any(_is_folder(a.before) and not _is_folder(a.after) for a in actions)
    for path in after if was_folder else added if closed else ():  # below a file nothing was before
        if folder := next((folder for folder in parents(path) if folder in closed), ""):
            raise UnsafeName(
                f"{path} would be left without its folder {folder}",
                remedy="Move it out of the way, then run this again.",
            )
    for action in actions:
        if action.after is not None and is_ours(action.path):
            raise UnsafeName(
                f"{action.path} would lie where this program stages what it changes",
                remedy="Leave it out, or rename it where it comes from.",
            )
    for path in added:
        if path.startswith("/") or not _STEPS.isdisjoint(path.split("/")):
            raise UnsafeName(f"the path {path!r} leaves the place")
    filled = {path.rpartition("/")[0]: path for path in added}
    for inner, path in filled.items():
        for folder in (*parents(inner), inner) if inner else ():
            if after[folder].kind != DIR:
                raise UnsafeName(
                    f"{path} would be put below {folder}, which is a {after[folder].kind}",
                    remedy="Move that out of the way, then run this again.",
                )
