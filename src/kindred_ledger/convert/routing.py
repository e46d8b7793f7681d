"""Routing: which conversions the files of an install, a folder or a pack need, each said once."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from ..cards import Card, Format, Install
from ..errors import KindredError, UsageError, VersionUntold
from ..places import AnyPlace, Place, Tree, as_place, read_bytes
from ..versions import Version
from .converter import format_version, route_for
from .converting import convertible, loose_formats
from .routes import Hop

__all__ = ["FileRoute", "routes_in"]


class FileRoute(Struct, frozen=True):
    """The route that some files take: `files` are in version `source` of a format, and `target` is wanted.

    `source` None means that it cannot be told; `fault` says that, or that no route leads there.

    >>> for each in kl.routes_in(install, card, "2.0"):
    ...     print(each.format.name, each.source, each.target, len(each.files), len(each.hops))
    ...
    controls 1 2 1 1
    voyage 4 5 3 1
    voyage 3 5 1 2
    settings 1 2 1 1
    mod 1 1 1 0
    """

    format: Format
    source: Version | None
    target: Version
    hops: tuple[Hop, ...]
    files: tuple[str, ...]
    fault: str = ""


def routes_in(
    subject: Install | AnyPlace,
    card: Card,
    build: Version | str | None = None,
    *,
    version: str = "",
    source: str = "",
) -> list[FileRoute]:
    """Return the routes that what is in an install, a folder or a pack takes to what a build writes.

    Instead of a build, the format version may be told. Files that are in it are listed, too: their route
    has no hops. `source` is the format version of files that do not say theirs.

    Raises:
        UsageError: neither or both are told, or nothing there is of a format of the card.

    >>> for each in kl.routes_in("mossferry/userdata/saves", card, "2.0"):
    ...     print(each.source, [str(hop.target) for hop in each.hops], len(each.files))
    ...
    4 ['5'] 3
    3 ['4', '5'] 1
    """
    if (build is None) == (not version):
        raise UsageError("either a build or a format version is needed")
    build = card.build(build) if build is not None else None
    place = subject.place if isinstance(subject, Install) else as_place(subject)
    tree = place.survey()
    groups: dict[tuple[str, str, str, str], FileRoute] = {}
    for path, format, data in _files(subject, place, tree, card, build, version):
        target = format.written_by(build) if build is not None else format.scheme.parse(version)
        route = _route(format, path, data, target, source)
        key = format.name, str(route.source), str(target), route.fault
        before = groups[key].files if key in groups else ()
        groups[key] = FileRoute(
            format, route.source, target, route.hops, (*before, path), route.fault
        )
    if not groups:
        raise UsageError("nothing here is of a format of the card", where=place.location)
    return list(groups.values())


def _files(
    subject: Install | AnyPlace,
    place: Place,
    tree: Tree,
    card: Card,
    build: Version | None,
    version: str,
) -> Iterator[tuple[str, Format, bytes | dict[str, bytes]]]:
    """Yield the files and packs of a place, each with its format and what is in it."""
    for format in card.formats.values():
        if format.is_folder and format.is_pack(tree.files):
            yield "", format, {path: read_bytes(place, path) for path in tree.files}
            return
    if isinstance(subject, Install):
        formats = {path: card.format_of(path) for path in convertible(card, tree, None)}
    else:
        formats = dict(loose_formats(card, tree, None, build=build, version=version)[0])
    for path, kind in formats.items():
        if kind is not None:
            yield path, kind, read_bytes(place, path)
    for format in card.formats.values() if isinstance(subject, Install) else ():
        for folder, paths in format.folders(tree).items() if format.is_folder else ():
            inside = {path[len(folder) + 1 :]: path for path in paths}
            yield folder, format, {name: read_bytes(place, path) for name, path in inside.items()}


def _route(
    format: Format, path: str, data: bytes | dict[str, bytes], target: Version, said: str
) -> FileRoute:
    source: Version | None = None
    try:
        try:
            source = format_version(data, format, name=path)
        except VersionUntold:
            if not said:
                raise
            source = format.scheme.parse(said)
        return FileRoute(format, source, target, route_for(format, source, target), (path,))
    except KindredError as error:
        return FileRoute(format, source, target, (), (path,), error.what)
