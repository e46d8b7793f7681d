"""Plan: what an update decides, path by path, and the changeset that follows from it.

Every style of updating fills one; what they share stands here: the rules of the card, what must be there
before, and reading the version back afterwards.
"""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct

from ..cards import PROGRAM, Card, Install, axis_versions, out_of_step
from ..changes import Action, Changeset, fitted
from ..convert import MergedFile, unread_by
from ..errors import PlaceChanged
from ..finding import Finding
from ..ledger import Ledger, Relation
from ..places import Node, Tree, same_content
from ..planning.mods_after import with_mod_findings
from ..planning.opened_release import OpenedRelease
from ..planning.readiness import readiness
from ..statement import Line, Outcome, Statement
from ..versions import Version
from ..wording import count

__all__ = ["Decision", "Plan", "listed"]


class Decision(Struct, frozen=True):
    """What becomes of a path of the release: a line, and whether the release's file is put."""

    outcome: Outcome
    reason: str
    put: bool = False


class Plan:
    """What an update of one install to one release does; `style` names it, with its typical loss."""

    def __init__(
        self, install: Install, offer: OpenedRelease, now: Tree, *, style: str, risk: str
    ) -> None:
        self.install = install
        self.card: Card = install.card
        self.offer = offer
        self.now = now
        self.style = style
        self.before = install.version
        self.actions: list[Action] = []
        self.lines: list[Line] = []
        self.findings = [
            Finding.note("usual-risk", f"{style}; risk: {risk}"),
            *offer.findings,
        ]
        self.merged: list[Statement] = []  # the books of files that were merged inside
        self.partial = False  # whether only some of the release is brought
        self.subject = self.card.name

    def take(self, path: str, here: Node | None, offered: Node, put: Decision) -> None:
        """Note what becomes of a file of the release."""
        self.lines.append(Line(put.outcome, path, put.reason))
        if put.put:
            source = self.offer.place
            self.actions.append(Action(path, here, offered, source, path, put.reason))

    def merge(self, path: str, here: Node, merged: MergedFile) -> None:
        """Have a file become what both sides made of it."""
        self.lines.append(Line(Outcome.CHANGED, path, merged.reason))
        self.actions.append(Action(path, here, merged.node, merged.source, path, merged.reason))
        self.merged.append(merged.merge.statement)
        self.findings += merged.findings

    def drop(self, path: str, here: Node, reason: str) -> None:
        """Have a file or folder of the install go."""
        self.actions.append(Action(path, here, None, reason=reason))

    def relocate(self, own: Iterable[str]) -> set[str]:
        """Have the user's own files move to where the new build looks for them; return their paths."""
        moved: set[str] = set()
        before, after = self.before, self.offer.version
        if before is None or after is None or not before < after:
            return moved
        going = {action.path: action for action in self.actions}
        for path in own:
            to = self.card.updates.moved(path, before, after)
            if to == path:
                continue
            node, there = self.now[path], self.now.get(to)
            taken = going[to].after if to in going else there
            if to.partition("/")[0] not in self.now:
                why = (
                    f"since {after} it lives in {to}, and there is no {to.partition('/')[0]} folder"
                )
                self.findings.append(
                    Finding.conflict("folder-missing", why, where=path, remedy=_START_THERE)
                )
                continue
            if taken is not None and not same_content(taken, node):
                why = f"it would move to {to}, where another one is"
                self.findings.append(
                    Finding.conflict("occupied", why, where=path, remedy=_DECIDE_MOVE)
                )
                continue
            reason = f"lives in {to} since {self._since(path)}"
            self.actions.append(Action(path, node, None, reason=reason))
            if taken is None:
                came = f"was {path} before {self._since(path)}"
                going[to] = Action(to, there, node, self.install.place, path, came)
                self.actions = [action for action in self.actions if action.path != to]
                self.actions.append(going[to])
            moved.add(path)
        if moved:
            what = f"{len(moved)} of your files move to where {after} looks for them"
            self.findings.append(Finding.note("files-move", what))
        return moved

    def _since(self, path: str) -> str:
        for move in self.card.updates.table.moves:
            if path.startswith(move.source.strip("/").removesuffix("*")):
                return move.since
        return ""

    def empty_folders(self, base: Tree | None) -> None:
        """Add the release's empty folders; remove what the old release's removal leaves empty."""
        now, offered = self.now, self.offer.tree
        for path, node in offered.items():
            if node.kind == "dir" and path not in now and not self.partial:
                self.actions.append(Action(path, None, node, reason="new in the release"))
        if base is None:
            return
        going = {action.path for action in self.actions if action.after is None}
        filled = {action.path.rpartition("/")[0] for action in self.actions if action.after}
        children: dict[str, list[str]] = {}
        for path in now:
            children.setdefault(path.rpartition("/")[0], []).append(path)
        for path in sorted(base, reverse=True):
            here = now.get(path)
            if base[path].kind != "dir" or here is None or here.kind != "dir" or path in offered:
                continue
            if path not in filled and all(inner in going for inner in children.get(path, ())):
                going.add(path)
                self.drop(path, here, "the new release no longer has it")

    def changeset(self, ledger: Ledger, *, operation: str = "update") -> Changeset:
        """Return what follows, with what is in the way and what was noticed."""
        install, offer = self.install, self.offer
        after = self._expected().get(PROGRAM)
        if after is not None and self.before is not None and after < self.before:
            older = f"{after} is older than {self.before}; it may not read newer data"
            self.findings.append(Finding.loss("older-build", older, where=install.place.location))
        puts = (action for action in self.actions if action.source is offer.place)
        offer.check_held(action.source_path for action in puts if action.after is not None)
        ready = readiness(
            self.card,
            install.place,
            self.actions,
            before=self.before,
            after=after if self.partial else offer.version,
            ledger=ledger,
        )
        relations: tuple[Relation, ...] = ()
        if self.card.file.helpers and not self.partial:
            from ..planning.helper_sequence import helpers_at_update  # of few titles

            stops, relations = helpers_at_update(
                self.card, install.place, before=self.before, after=offer.version, ledger=ledger
            )
            ready += stops
        self._look_at()
        here = self.before or "what it is"
        change = fitted(
            Changeset(
                place=install.place,
                operation=operation,
                summary=f"update {self.subject} from {here} to {offer.name}, {self.style}",
                before=self.now,
                actions=tuple(self.actions),
                tag=install.tag,
                version_after="" if self.partial or offer.version is None else offer.version.text,
                offered=offer.tree,
                statements=(
                    Statement(f"release {offer.name}", "files", tuple(self.lines)),
                    *self.merged,
                ),
                findings=(*self.findings, *ready, *self._left_to_convert()),
                relations=relations,
                proof=self.read_back,
            )
        )
        if self.card.file.worlds:
            from ..planning.worlds_after import with_world_findings  # most titles have no worlds

            change = with_world_findings(change, self.card, ledger)
        return with_mod_findings(change, self.card, None if self.partial else offer.version)

    def _look_at(self) -> None:
        """Warn of what would be odd about the install as it will be."""
        updates = self.card.updates
        gone = {action.path for action in self.actions if action.after is None}
        new = {action.path for action in self.actions if action.after is not None}
        hiding = [
            f"{path} hides {hidden}"
            for path in sorted({*self.now.leaves} - gone | new)
            if (hidden := updates.hidden_by(path)) and hidden in self.offer.tree
        ]
        if hiding:
            what = f"copies placed by hand hide what is installed: {listed(hiding)}"
            self.findings.append(Finding.warning("hidden-file", what))
        self.findings += out_of_step(self.card, self._expected())
        if self.partial or self.offer.version is None:
            return
        promised = [
            str(component)
            for component in updates.components.values()
            if self.offer.version in component.builds
            and not any(component.files(path) for path in self.offer.tree.leaves)
        ]
        if promised:
            what = f"the card promises for {self.offer.name}, and the release does not hold"
            what += f": {listed(promised)}"
            self.findings.append(Finding.warning("part-missing", what))

    def _expected(self) -> dict[str, Version]:
        """Return what each axis shall say: the release where it brings what tells it, else as it is."""
        card = self.card.file
        ways = {PROGRAM: card.detect, **{name: axis.detect for name, axis in card.axes.items()}}
        theirs, mine = axis_versions(self.offer.release), axis_versions(self.install)
        found: dict[str, Version] = {}
        for name, tables in ways.items():
            files = [f"{PROGRAM}/{table.file}" for table in tables if table.file]
            brought = not self.partial or any(path in self.offer.tree for path in files)
            version = (theirs if brought else mine).get(name)
            if version is not None:
                found[name] = version
        return found

    def read_back(self) -> None:
        """Raise unless every axis of the install now says what it should.

        Raises:
            PlaceChanged: one says something else.
        """
        again = self.install.again()
        expected, found = self._expected(), axis_versions(again)
        told = [e for e in again.evidence if e.version and not e.is_folder_name]
        wrong = [
            str(piece) for piece in told if piece.version != expected.get(PROGRAM, piece.version)
        ]
        wrong += [
            f"{name} is {found.get(name, 'not told')}, not {version}"
            for name, version in expected.items()
            if name != PROGRAM and found.get(name) != version
        ]
        if wrong:
            raise PlaceChanged(
                f"read back, the install is not what was meant: {'; '.join(wrong)}",
                where=self.install.place.location,
                remedy="A file that tells a version was kept back, or changed by something else.",
            )

    def _left_to_convert(self) -> list[Finding]:
        """Say which files the new build will not read as they stay."""
        build: Version | None = self.offer.version
        if build is None or self.partial:
            return []
        going = {action.path for action in self.actions}
        staying = self.now.select(lambda path: path not in going)
        unread = unread_by(self.card, self.install.place, staying, build=build)
        if not unread:
            return []
        kinds = ", ".join(f"{len(paths)} × {kind}" for kind, paths in unread.items())
        what = f"{build} does not read {count(sum(map(len, unread.values())), 'file')} as they are ({kinds})"
        remedy = f"kindred convert {self.install.place.location}"
        return [Finding.note("not-read-yet", what, remedy=remedy)]


_START_THERE = "Start the game there once, then run this again."
_DECIDE_MOVE = "Move one of the two away, then run this again."


def listed(items: list[str], most: int = 5) -> str:
    """Return the first of some items in a line."""
    more = f" and {len(items) - most} more" if len(items) > most else ""
    return ", ".join(items[:most]) + more
