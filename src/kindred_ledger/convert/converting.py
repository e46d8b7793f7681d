"""Converting the files of an install, or loose ones: a changeset with the books of every file."""

from __future__ import annotations

import errno
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Executor
from functools import partial

from msgspec import Struct
from msgspec.structs import replace

from ..cards import Card, Format, Install, as_install
from ..changes import Action, Changeset, fitted
from ..errors import FormatError, KindredError, NoRoute, UsageError, VersionUntold
from ..finding import Finding
from ..formats.tables import COLUMN_THRESHOLD
from ..ledger import Ledger, Tag
from ..places import (
    FILE,
    AnyPlace,
    AnySelection,
    FolderPlace,
    MemoryPlace,
    Node,
    Place,
    Tree,
    as_place,
    as_selection,
    check_patterns,
    check_selected,
    parents,
    read_bytes,
    refused,
)
from ..progress import Progress
from ..statement import Line, Statement
from ..versions import Version
from ..wording import count
from .bulk import Done, Failed, Job, ResultCache, condensed, convert_all
from .converter import Converted, Converter, convert_bytes, format_version, knows, route_for
from .coverage import covered
from .evidence import Evidence
from .routes import Hop

__all__ = [
    "Fitted",
    "Work",
    "convert_files",
    "convert_install",
    "fit_among",
    "fit_file",
    "unread_by",
]

_LARGEST_PACK = 256 << 20  # bytes of a folder that is converted as one
_OF_A_DISK = (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EIO)
_AS_RELEASED = "it stays: it is as the release of this build has it"
_MANY = 200  # files; of so many, what was kept is one line each


class Work(Struct, frozen=True):
    """How a conversion is carried out: by whom, and where results are kept until they are applied.

    `executor` None converts here; `workers` is how many it has. `cache` None keeps results in memory,
    and nothing of them if the work is cut off. What has `column_threshold` rows or more stands in the
    books by its columns, not value by value. Of very many files, what was kept has a line of its own
    only if `shown` says so.

    >>> work = kl.Work(column_threshold=500)
    >>> kl.convert_install(install, "2.0", ledger=ledger, work=work).summary
    'convert 6 files to the formats of Mossferry 2.0, in place'
    """

    executor: Executor | None = None
    workers: int = 1
    cache: ResultCache | None = None
    column_threshold: int = COLUMN_THRESHOLD
    shown: Callable[[Line], bool] = lambda line: False


class Fitted(Struct, frozen=True):
    """One file against the build it shall serve: unchanged (None) or converted."""

    format: Format
    version: Version
    converted: Converted | None


def convert_install(
    install: Install,
    build: Version | str | None = None,
    *,
    ledger: Ledger,
    only: AnySelection = None,
    leave: AnySelection = None,
    source: str = "",
    beside: bool = False,
    work: Work | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that brings an install's files into the formats a build writes.

    `source` is the format version of files that do not say theirs; without it, the ledger and the
    shelf may tell it, and what they do not tell is a conflict.

    `build` None is the install's own. `only` selects files; `leave` names files that may stay as
    they are if they cannot be converted: without it such a file is a conflict. `beside` puts the
    results beside the files under names of their own.

    Raises:
        DecisionNeeded: the version of the install is not certain.
        UsageError: the card says nothing about the build.

    >>> change = kl.convert_install(install, "2.0", ledger=ledger)
    >>> change.summary
    'convert 6 files to the formats of Mossferry 2.0, in place'
    """
    install, wanted, stays = as_install(install), as_selection(only), as_selection(leave)
    card = install.card
    build = card.build(build) if build else install.sure_version
    now = ledger.scan(install.place, progress=progress)
    check_selected(wanted, now.files)
    check_patterns(stays, paths=now.files)
    disposes = install.tag.disposes if wanted is None else (lambda path: False)
    found = convertible(card, now, wanted)
    lasting = [path for path in found if not disposes(path)]
    formats = {path: format for path in lasting if (format := card.format_of(path))}
    targets = {path: format.written_by(build).text for path, format in formats.items()}
    summary = f"to the formats of {card.name} {build}"
    work = work or Work()
    made = _Conversion(
        card, install.place, now, formats, targets, install.tag, stays,
        Evidence(ledger, card, install.place, build=install.version, said=source), beside=beside,
        build=build,
    )  # fmt: skip
    for format in card.formats.values() if not beside else ():
        if format.is_folder:
            converter = Converter(format, column_threshold=work.column_threshold)
            made.convert_folders(
                converter, format.written_by(build), wanted, progress or Progress()
            )
    change = made.changeset(summary, work, progress or Progress())
    more = _unread_here(install, formats, targets)
    if len(lasting) < len(found):
        what = f"{count(len(found) - len(lasting), 'disposable file')} are not converted"
        more.append(Finding.note("disposable-stay", what))
    return replace(change, findings=(*change.findings, *more))


def _unread_here(
    install: Install, formats: Mapping[str, Format], targets: Mapping[str, str]
) -> list[Finding]:
    """Return what is to be said of files that the install's own build will not read."""
    unread: dict[str, int] = {}
    for path, format in formats.items() if install.version is not None else ():
        target = format.scheme.parse(targets[path])
        try:
            read = target in format.read_by(install.sure_version)
        except KindredError:
            continue
        if not read:
            name = f"{format.name} format {target}"
            unread[name] = unread.get(name, 0) + 1
    build = f"{install.card.name} {install.tag.version}"
    return [
        Finding.warning(
            "not-read-here",
            f"{build}, which is installed here, does not read {name}: {count(number, 'file')}",
        )
        for name, number in unread.items()
    ]


def convert_files(
    place: AnyPlace,
    card: Card,
    build: Version | str | None = None,
    *,
    ledger: Ledger,
    version: str = "",
    only: AnySelection = None,
    leave: AnySelection = None,
    source: str = "",
    beside: bool = False,
    work: Work | None = None,
    progress: Progress | None = None,
) -> Changeset:
    """Compute the change that converts loose files: those whose names fit a format of the card.

    They are brought into the formats `build` writes, or into the format version `version`; files of
    formats that have no such version are left alone. The rest is as in `convert_install`.

    Raises:
        UsageError: neither or both are told, or the card says nothing about the build.

    >>> change = kl.convert_files("mossferry/userdata/saves", card, "2.0", ledger=ledger)
    >>> change.summary
    'convert 4 files to the formats of Mossferry 2.0, in place'
    """
    place, wanted, stays = as_place(place), as_selection(only), as_selection(leave)
    build = card.build(build) if build else None
    if (build is None) == (not version):
        raise UsageError("either a build or a format version is needed")
    now = ledger.scan(place, progress=progress)
    check_selected(wanted, now.files)
    check_patterns(stays, paths=now.files)
    formats, targets = loose_formats(card, now, wanted, build=build, version=version)
    summary = f"to format {version}" if version else f"to the formats of {card.name} {build}"
    made = _Conversion(
        card, place, now, formats, targets, Tag(title=card.title), stays,
        Evidence(ledger, card, place, build=None, said=source), beside=beside, build=build,
    )  # fmt: skip
    return made.changeset(summary, work or Work(), progress or Progress())


def loose_formats(
    card: Card,
    tree: Tree,
    wanted: Callable[[str], bool] | None,
    *,
    build: Version | None,
    version: str,
) -> tuple[dict[str, Format], dict[str, str]]:
    """Return the formats of loose files by their names, and the versions they are wanted in, by path."""
    formats: dict[str, Format] = {}
    for path in tree.files:
        fits = [
            format
            for format in card.formats.values()
            if format.fits_name(path) and (not version or knows(format, version))
        ]
        if fits and (wanted is None or wanted(path)):
            formats[path] = fits[0]
    targets = {
        path: version or format.written_by(build).text  # type: ignore[arg-type]
        for path, format in formats.items()
    }
    return formats, targets


class _Conversion:
    """What is to be converted, and what becomes of it."""

    def __init__(
        self,
        card: Card,
        place: Place,
        now: Tree,
        formats: Mapping[str, Format],
        targets: Mapping[str, str],
        tag: Tag,
        leave: Callable[[str], bool] | None,
        evidence: Evidence,
        *,
        beside: bool,
        build: Version | None,
    ) -> None:
        self._build = build  # that shall read the files
        self._card, self._place, self._now = card, place, now
        self._formats, self._targets = formats, targets
        self._tag, self._leave, self._beside = tag, leave, beside
        self._evidence = evidence
        self._untold: list[Failed] = []
        self._actions: list[Action] = []
        self._taken: list[str] = []  # keys of results
        self._statements: list[Statement] = []
        self._findings: dict[Finding, None] = {}
        self._names = {path.casefold() for path in now} if beside else set()

    def changeset(self, summary: str, work: Work, progress: Progress) -> Changeset:
        """Convert, and return the change."""
        memory = MemoryPlace({})
        if work.cache is not None:
            work.cache.tidy()
        results: Place = memory if work.cache is None else FolderPlace(work.cache.folder)
        with progress.task("converting", total=len(self._formats)) as task:
            for sources in (
                None,
                self._sources(),
            ):  # what the files say, then what is known of others
                for told in convert_all(
                    self._card, self._jobs(sources, local=work.executor is not None), cache=work.cache,
                    executor=work.executor, workers=work.workers,
                    column_threshold=work.column_threshold, check=progress.check,
                ):  # fmt: skip
                    if isinstance(told, Failed) and told.code in _OF_A_DISK:  # not of the file
                        raise refused(OSError(told.code, told.what), told.where)
                    if isinstance(told, Failed) and told.is_untold and sources is None:
                        self._untold.append(told)
                        continue
                    if isinstance(told, Failed):
                        self._failed(told)
                    elif isinstance(told, Done):
                        if work.cache is None:
                            memory.contents[told.key] = told.data
                        self._done(told, results, work.shown)
                    elif told.version != self._targets[told.path]:
                        format, target = self._formats[told.path], self._targets[told.path]
                        what = (
                            f"{format.name} format {told.version} stays: {self._card.name} {self._build}"
                            f" reads it, and no step leads to {target}"
                        )
                        self._note("read-as-it-is", what)
                    task.advance()
        place = "beside them" if self._beside else "in place"
        return fitted(
            Changeset(
                place=self._place,
                operation="convert",
                summary=f"convert {count(len(self._actions), 'file')} {summary}, {place}",
                before=self._now,
                actions=tuple(self._actions),
                tag=self._tag,
                version_after=self._tag.version,
                statements=tuple(self._statements),
                findings=tuple(self._findings),
                clear=None if work.cache is None else partial(work.cache.clear, self._taken),
            )
        )

    def convert_folders(
        self,
        converter: Converter,
        target: Version,
        only: Callable[[str], bool] | None,
        progress: Progress,
    ) -> None:
        """Convert the folders of a format: files move and go, and what is in them changes."""
        format = converter.format
        folders = {
            folder: paths
            for folder, paths in format.folders(self._now).items()
            if only is None or any(map(only, paths))
        }
        with progress.task(f"converting {format.name}", total=len(folders)) as task:
            for folder, paths in folders.items():
                self._convert_folder(converter, target, folder, paths)
                task.advance()

    def _convert_folder(
        self, converter: Converter, target: Version, folder: str, paths: Sequence[str]
    ) -> None:
        format = converter.format
        below = {path[len(folder) + 1 :]: path for path in paths}
        try:
            size = sum(self._now[path].size for path in paths)
            if size > _LARGEST_PACK:
                raise FormatError(f"the pack has more than {_LARGEST_PACK >> 20} MB")
            files = {name: read_bytes(self._place, path) for name, path in below.items()}
            version = self._folder_version(format, folder, files)
            made = None
            if version is None:
                self._note("as-released", _AS_RELEASED, where=folder)
            elif version != target:
                made = converter(files, target, name=folder, source=version)
        except KindredError as error:
            self._failed(Failed(folder, error.what, error.where or "", error.remedy or ""))
            return
        if made is not None:
            self._put_folder(folder, files, made, f"{format.name} {version} is now {target}")
        held = made.data if made is not None else below
        for what in covered(format, folder, held, tree=self._now):
            self._note("not-covered", what)

    def _folder_version(
        self, format: Format, folder: str, files: Mapping[str, bytes]
    ) -> Version | None:
        """Return the version a pack is in; None if it says none and is as the release has it."""
        document = format.decode(files)
        try:
            return format.sure_version_of(document)
        except VersionUntold:
            path = f"{folder}/{format.version_path[0]}" if format.version_path else ""
            if path not in self._now:
                raise
            return self._evidence.version(format, path, self._now[path], document)

    def _put_folder(
        self, folder: str, files: Mapping[str, bytes], made: Converted, reason: str
    ) -> None:
        source = MemoryPlace(made.data)
        after = source.survey()
        for name in dict.fromkeys((*files, *made.data)):
            path = f"{folder}/{name}"
            before = self._now.get(path)
            if name not in made.data:
                self._actions.append(Action(path, before, None, reason=reason))
            elif files.get(name) != made.data[name]:
                mode = before.mode if before is not None else after[name].mode
                node = after[name]._replace(mode=mode)
                self._actions.append(Action(path, before, node, source, name, reason))
        left = {f"{folder}/{part}" for name in made.data for part in parents(name)}
        for part in dict.fromkeys(part for name in files for part in parents(name)):
            path = f"{folder}/{part}"
            if path not in left and path in self._now:
                self._actions.append(
                    Action(path, self._now[path], None, reason="nothing is left in it")
                )
        self._statements.append(made.statement)
        self._findings.update(dict.fromkeys(made.findings))

    def _note(self, code: str, what: str, *, where: str = "") -> None:
        self._findings[Finding.note(code, what, where=where)] = None

    def _sources(self) -> Iterator[tuple[str, str]]:
        """Yield the files that do not say their version, each with the one it is in."""
        for told in self._untold:
            format = self._formats[told.path]
            try:
                version = self._evidence.version(format, told.path, self._now[told.path])
            except KindredError as error:
                self._failed(Failed(told.path, error.what, error.where or "", error.remedy or ""))
                continue
            if version is None:
                self._note("as-released", _AS_RELEASED, where=told.path)
            elif version.text != self._targets[told.path]:
                yield told.path, version.text

    def _jobs(self, sources: Iterable[tuple[str, str]] | None, *, local: bool) -> Iterable[Job]:
        wanted = ((path, "") for path in self._formats) if sources is None else sources
        on_disk = self._place.path if local and isinstance(self._place, FolderPlace) else None
        for path, source in wanted:
            format, target = self._formats[path], self._targets[path]
            reads = format.read_by(self._build) if self._build is not None else ()
            job = Job(path, format.name, target, source=source, reads=tuple(map(str, reads)))
            if on_disk is not None:
                yield replace(job, location=on_disk(path))
            else:
                yield replace(job, data=read_bytes(self._place, path))

    def _done(self, done: Done, results: Place, shown: Callable[[Line], bool]) -> None:
        before = self._now[done.path]
        reason = f"{done.format} {done.source} is now {done.target}"
        after = Node(FILE, done.size_bytes, done.digest)._replace(mode=before.mode)
        path = self._name_beside(done) if self._beside else done.path
        if not path:
            return
        there = None if self._beside else before
        self._actions.append(Action(path, there, after, results, done.key, reason))
        self._taken.append(done.key)
        many = len(self._formats) > _MANY
        self._statements.append(condensed(done.statement, shown) if many else done.statement)
        self._findings.update(dict.fromkeys(done.findings))

    def _name_beside(self, done: Done) -> str:
        """Return a name that nothing has, whatever the case: the version goes before the extension.

        It is "" if the very result is there already, from an earlier run.
        """
        folder, slash, name = done.path.rpartition("/")
        stem, dot, extension = name.rpartition(".")
        if not stem:
            stem, dot, extension = name, "", ""
        number = 1
        while True:
            again = f" {number}" if number > 1 else ""
            path = f"{folder}{slash}{stem}.{done.target}{again}{dot}{extension}"
            if path in self._now and self._now[path].digest == done.digest:
                self._note("there-already", f"it is there already as {path}", where=done.path)
                return ""
            if path.casefold() not in self._names:
                self._names.add(path.casefold())
                return path
            number += 1

    def _failed(self, failed: Failed) -> None:
        if self._leave is not None and self._leave(failed.path):
            self._note("not-converted", f"it stays as it is: {failed.what}", where=failed.path)
            return
        where = failed.where.removeprefix(failed.path).lstrip(": ")
        conflict = Finding.conflict(
            "version-unknown" if failed.is_untold else "not-convertible",
            f"{failed.what}. {failed.remedy}".strip(),
            where=failed.path,
            field=where,
            remedy="Put it right, or let such files stay as they are with `leave=PATTERN`.",
        )
        self._findings[conflict] = None


def fit_file(
    card: Card,
    path: str,
    data: bytes,
    build: Version,
    *,
    written_by: Version | None = None,
    exactly: bool = False,
) -> Fitted | None:
    """Return a file as `build` can use it; None if it is of no format the card describes.

    `written_by` is the build it comes from, which counts where the file does not say its version.

    A file in a version that the build reads stays as it is, unless `exactly` asks for the version
    the build writes.

    Raises:
        KindredError: it is damaged, or no route leads to what the build reads.
    """
    format = card.format_of(path)
    if format is None:
        return None
    try:
        version = format_version(data, format, [written_by] if written_by else (), name=path)
    except KindredError as error:
        raise error.inside(path) from None
    target = format.written_by(build)
    if version == target or (not exactly and version in format.read_by(build)):
        return Fitted(format, version, None)
    made = convert_bytes(data, format, target, name=path, source=version)
    return Fitted(format, version, made)


def fit_among(
    format: Format,
    path: str,
    data: bytes,
    *,
    versions: Sequence[Version],
    written_by: Version | None = None,
) -> Fitted:
    """Return a file in one of several versions: as it is, or by the route that loses least.

    Raises:
        KindredError: it is damaged, or no route leads to any of them.
    """
    try:
        version = format_version(data, format, [written_by] if written_by else (), name=path)
    except KindredError as error:
        raise error.inside(path) from None
    if version in versions:
        return Fitted(format, version, None)
    routes: dict[Version, tuple[Hop, ...]] = {}
    fault = None
    for target in versions:
        try:
            routes[target] = route_for(format, version, target)
        except NoRoute as error:
            fault = error
    if not routes:
        raise (fault or NoRoute(f"nothing reads {format.name}")).inside(path)
    best = min(routes, key=lambda end: (sum(hop.loses for hop in routes[end]), len(routes[end])))
    made = convert_bytes(data, format, best, name=path, source=version)
    return Fitted(format, version, made)


def unread_by(card: Card, place: Place, tree: Tree, *, build: Version) -> dict[str, list[str]]:
    """Return the files of a place that `build` does not read, by format and version.

    A file whose version cannot be told is left out: converting says what is wrong with it.
    """
    unread: dict[str, list[str]] = {}
    for path in convertible(card, tree, None):
        format = card.format_of(path)
        assert format is not None
        try:
            version = format_version(read_bytes(place, path), format, name=path)
            if version not in format.read_by(build):
                unread.setdefault(f"{format.name} format {version}", []).append(path)
        except KindredError:
            continue
    return unread


def convertible(card: Card, tree: Tree, only: Callable[[str], bool] | None) -> list[str]:
    return [
        path
        for path in tree.files
        if (only is None or only(path)) and card.format_of(path) is not None
    ]
