"""Carrying: chosen categories from one install to another, into a form the other can read.

Data of a newer build does not go to an older one unless the older build reads it or a route of
the card leads back. Data of another title goes to a variant of it, if the variant's card says that it
reads such. What stands in the target and differs is a conflict, never overwritten unasked.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence

from ..cards import Install
from ..changes import Action, Changeset, Conflict, Loss
from ..convert import Fitted, fit_among, fit_file
from ..errors import KindredError, UsageError
from ..ledger import Ledger
from ..places import (
    DIR,
    FILE,
    LINK,
    MemoryPlace,
    Node,
    Tree,
    parents,
    read_bytes,
    roots_of,
    same_content,
)
from ..progress import Progress
from ..statement import Line, Outcome, Statement
from ..versions import Version

__all__ = ["carry"]


def carry(
    source: Install,
    target: Install,
    categories: Iterable[str],
    *,
    ledger: Ledger,
    only: Callable[[str], bool] | None = None,
    overwrite: Callable[[str], bool] = lambda _: False,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that brings categories of one install into another.

    `overwrite` says which differing files of the target may give way.

    Raises:
        UsageError: the installs are of different titles, or a category or part is not there.
        DecisionNeeded: a version is not certain.
    """
    adopted = target.card.reads_of(source.card)
    if adopted is None and source.card.title != target.card.title:
        raise UsageError(
            f"{source.card.name} and {target.card.name} are different titles",
            remedy="Carry between installs of one title, or let the card of the one say that it is"
            " a `[variant]` of the other.",
        )
    wanted = source.select(categories)
    theirs = ledger.scan(source.place, progress=progress)
    now = ledger.scan(target.place, progress=progress)
    chosen = theirs.select(lambda path: wanted(path) and (only is None or only(path)))
    _check_parts(chosen, target)
    load = _Load(source, target, now, overwrite, adopted)
    with (progress or Progress()).task("fitting", total=len(chosen.leaves)) as task:
        for path in chosen.leaves:
            load.take(path, chosen[path])
            task.advance()
    return Changeset(
        place=target.place,
        operation="carry",
        summary=f"carry {', '.join(categories)} from {source.place.location}",
        before=now,
        actions=(*load.actions(), *_folders(chosen, now, load.held)),
        tag=target.tag,
        version_after=target.tag.version,
        offered=Tree({**{p: n for p, n in chosen.items() if n.kind != DIR}, **load.nodes}),
        statements=(
            Statement(f"{source.card.name} {source.sure_version}", "files", tuple(load.lines)),
            *load.statements,
        ),
        losses=tuple(load.losses),
        conflicts=tuple(load.conflicts),
        notes=tuple(load.notes),
    )


class _Load:
    """What is carried, file by file."""

    def __init__(
        self,
        source: Install,
        target: Install,
        now: Tree,
        overwrite: Callable[[str], bool],
        adopted: Mapping[str, Sequence[Version]] | None,
    ) -> None:
        self._source = source
        self._target = target
        self._now = now
        self._overwrite = overwrite
        self._build = target.sure_version
        self._adopted = adopted
        self._newer = adopted is None and source.sure_version > self._build
        self._contents: dict[str, bytes] = {}
        self._puts: list[tuple[str, Node, str]] = []
        self.nodes: dict[str, Node] = {}
        self.held: set[str] = set()
        self.lines: list[Line] = []
        self.statements: list[Statement] = []
        self.losses: list[Loss] = []
        self.conflicts: list[Conflict] = []
        self.notes: dict[str, None] = {}

    def take(self, path: str, node: Node) -> None:
        """Decide about one file of the source."""
        if node.kind == LINK:
            self._hold(path, "links are not carried between installs")
            return
        try:
            fitted = self._fit(path, node)
        except KindredError as error:
            self._hold(path, f"{error.what}. {error.remedy}".strip(". "))
            return
        if fitted is None and self._newer:
            self.notes[
                f"{path} goes to an older build as it is; the card does not describe its format"
            ] = None
        outcome, reason = Outcome.KEPT, "arrives as it is"
        if fitted is not None and fitted.converted is not None:
            made = fitted.converted
            outcome = Outcome.CHANGED
            reason = f"{fitted.format.name} {made.source} is now {made.target}"
            self._contents[path] = made.data
            node = MemoryPlace({path: made.data}).survey()[path]._replace(mode=node.mode)
            self.nodes[path] = node
            self.statements.append(made.statement)
            self.losses += [Loss(f"{path} {item}", why) for item, why in made.losses]
            self.notes.update(dict.fromkeys(made.notes))
        self._put(path, node, outcome, reason)

    def actions(self) -> list[Action]:
        """Return the actions for what arrives."""
        made = MemoryPlace(self._contents)
        return [
            Action(
                path,
                self._now.get(path),
                node,
                made if path in self._contents else self._source.place,
                path,
                reason,
            )
            for path, node, reason in self._puts
        ]

    def _fit(self, path: str, node: Node) -> Fitted | None:
        format = self._source.card.format_of(path) if node.kind == FILE else None
        if self._adopted is not None:
            name = format.name if format is not None else "such files"
            if format is None or name not in self._adopted:
                raise UsageError(
                    f"{self._target.card.name} reads no {name} of {self._source.card.name}"
                )
            data = read_bytes(self._source.place, path)
            return fit_among(format, path, data, self._adopted[name])
        if format is None:
            return None
        return fit_file(self._source.card, path, read_bytes(self._source.place, path), self._build)

    def _put(self, path: str, node: Node, outcome: Outcome, reason: str) -> None:
        here = self._now.get(path)
        if here is not None and not same_content(here, node):
            if not self._overwrite(path):
                why = "the target has another one"
                self.lines.append(Line(Outcome.CONFLICT, path, why))
                self.conflicts.append(
                    Conflict(path, why, "Let it give way with --overwrite PATTERN, or use --only.")
                )
                return
            self.losses.append(Loss(path, "the target's own gives way"))
        if not same_content(here, node):
            self._puts.append((path, node, reason))
        self.lines.append(Line(outcome, path, reason))

    def _hold(self, path: str, reason: str) -> None:
        self.held.add(path)
        self.lines.append(Line(Outcome.HELD, path, reason))


def _check_parts(chosen: Tree, target: Install) -> None:
    there = roots_of(target.place)
    for part in sorted({path.partition("/")[0] for path in chosen.leaves}):
        if part not in there:
            raise UsageError(
                f"the target has no {part} folder yet",
                where=target.place.location,
                remedy="Start the game there once so that it makes its folders, then run this again.",
            )


def _folders(chosen: Tree, now: Tree, held: set[str]) -> list[Action]:
    """Return the actions for folders that are not there yet, but for those of which all is held."""
    came = {part for path in chosen.leaves if path not in held for part in parents(path)}
    stays = {part for path in held for part in parents(path)} - came
    return [
        Action(path, None, node, reason="a folder of the source")
        for path, node in chosen.items()
        if node.kind == DIR and path not in now and path not in stays
    ]
