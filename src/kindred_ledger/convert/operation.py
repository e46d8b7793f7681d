"""Converting the files of an install: a changeset with the books of every file."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from ..cards import Card, Format, Install
from ..changes import Action, Changeset, Conflict, Loss
from ..errors import KindredError
from ..ledger import Ledger
from ..places import MemoryPlace, Place, Tree, read_bytes
from ..progress import Progress
from ..statement import Statement
from ..versions import Version
from .converter import Converted, convert_bytes, format_version

__all__ = ["Fitted", "convert_install", "fit_file", "unread_by"]


class Fitted(Struct, frozen=True):
    """One file against the build it shall serve: unchanged (None) or converted."""

    format: Format
    version: Version
    converted: Converted | None


def convert_install(
    install: Install,
    build: Version | None = None,
    *,
    ledger: Ledger,
    only: Callable[[str], bool] | None = None,
    leave: Callable[[str], bool] | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that brings an install's files into the formats a build writes.

    `build` None is the install's own. `only` selects files; `leave` names files that may stay as
    they are if they cannot be converted: without it such a file is a conflict.

    Raises:
        DecisionNeeded: the version of the install is not certain.
        UsageError: the card says nothing about the build.
    """
    card = install.card
    build = build or install.sure_version
    now = ledger.scan(install.place, progress=progress)
    contents: dict[str, bytes] = {}
    reasons: dict[str, str] = {}
    statements: list[Statement] = []
    losses: list[Loss] = []
    conflicts: list[Conflict] = []
    notes: dict[str, None] = {}
    watch = progress or Progress()
    paths = _convertible(card, now, only)
    with watch.task("converting", total=len(paths)) as task:
        for path in paths:
            data = read_bytes(install.place, path)
            try:
                fitted = fit_file(card, path, data, build, exactly=True)
            except KindredError as error:
                if leave is not None and leave(path):
                    notes[f"{path} stays as it is: {error.what}"] = None
                else:
                    conflicts.append(_cannot(path, error))
                continue
            finally:
                task.advance()
            if fitted is None or fitted.converted is None:
                continue
            made = fitted.converted
            contents[path] = made.data
            reasons[path] = f"{fitted.format.name} {made.source} is now {made.target}"
            statements.append(made.statement)
            losses += [Loss(f"{path} {item}", reason) for item, reason in made.losses]
            notes.update(dict.fromkeys(made.notes))
    source = MemoryPlace(contents)
    made_tree = source.survey()
    actions = tuple(
        Action(path, now[path], made_tree[path]._replace(mode=now[path].mode), source, path, reason)
        for path, reason in reasons.items()
    )
    return Changeset(
        place=install.place,
        operation="convert",
        summary=f"bring {len(actions)} files into the formats of {card.name} {build}",
        before=now,
        actions=actions,
        tag=install.tag,
        version_after=install.tag.version,
        statements=tuple(statements),
        losses=tuple(losses),
        conflicts=tuple(conflicts),
        notes=tuple(notes),
    )


def fit_file(
    card: Card, path: str, data: bytes, build: Version, *, exactly: bool = False
) -> Fitted | None:
    """Return a file as `build` can use it; None if it is of no format the card describes.

    A file in a version that the build reads stays as it is, unless `exactly` asks for the version
    the build writes.

    Raises:
        KindredError: it is damaged, or no route leads to what the build reads.
    """
    format = card.format_of(path)
    if format is None:
        return None
    try:
        version = format_version(data, format)
    except KindredError as error:
        raise error.inside(path) from None
    target = format.written_by(build)
    if version == target or (not exactly and version in format.read_by(build)):
        return Fitted(format, version, None)
    return Fitted(format, version, convert_bytes(data, format, target, name=path))


def unread_by(card: Card, place: Place, tree: Tree, build: Version) -> dict[str, list[str]]:
    """Return the files of a place that `build` does not read, by format and version.

    A file whose version cannot be told is left out: converting says what is wrong with it.
    """
    unread: dict[str, list[str]] = {}
    for path in _convertible(card, tree, None):
        format = card.format_of(path)
        assert format is not None
        try:
            version = format_version(read_bytes(place, path), format)
            if version not in format.read_by(build):
                unread.setdefault(f"{format.name} format {version}", []).append(path)
        except KindredError:
            continue
    return unread


def _convertible(card: Card, tree: Tree, only: Callable[[str], bool] | None) -> list[str]:
    return [
        path
        for path in tree.files
        if (only is None or only(path)) and card.format_of(path) is not None
    ]


def _cannot(path: str, error: KindredError) -> Conflict:
    where = (error.where or "").removeprefix(path).lstrip(": ")
    reason = f"{where}: {error.what}" if where else error.what
    return Conflict(
        path,
        f"{reason}. {error.remedy}".strip(),
        remedy="Put it right, or let such files stay as they are with --leave PATTERN.",
    )
