"""Converting one file's content: decode, run the steps of the route, encode, read again, account."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ..cards import Format
from ..cards.steps import Step, read_step
from ..errors import KindredError, NoRoute, VersionUntold
from ..finding import Finding, Severity, of_severity
from ..formats import Document, LayoutDocument, Path, changes_between, format_path
from ..formats.layouts import Coming
from ..formats.reading_back import encode_unread
from ..formats.tables import COLUMN_THRESHOLD
from ..statement import Statement
from ..undisturbed import undisturbed
from ..versions import Version
from .bookkeeper import Bookkeeper
from .fields import Fields
from .routes import Hop, find_route
from .wording import describe_step

Data = bytes | Mapping[str, bytes]  # of a file, or of the files of a folder
Watch = Callable[
    [int, int, bool], None
]  # number of the step, of its row, whether it is about something

__all__ = [
    "Converted",
    "Converter",
    "convert_bytes",
    "format_version",
    "hops_of",
    "knows",
    "route_for",
]


class Converted(Struct, frozen=True):
    """The result of a conversion: bytes, books, what it lost, and what is worth knowing.

    Of a folder `data` is the bytes of its files by their paths below it.

    >>> with open("mossferry/userdata/saves/midwinter.voyage", "rb") as file:
    ...     data = file.read()
    ...
    >>> made = kl.convert_bytes(data, card.formats["voyage"], "5", name="midwinter.voyage")
    >>> made.statement.counted_before, made.statement.counted_after
    (69, 72)
    >>> [finding.what for finding in made.findings if finding.severity == kl.Severity.LOSS]
    ['8: lanterns have no glow of their own since 2.0']
    """

    data: Any
    source: Version
    target: Version
    statement: Statement
    findings: tuple[Finding, ...]

    @property
    def losses(self) -> tuple[Finding, ...]:
        """What it lost, field by field."""
        return of_severity(self.findings, Severity.LOSS)


def format_version(
    data: Data, format: Format, builds: Iterable[Version] | None = None, *, name: str = ""
) -> Version:
    """Return the format version a file is in; of one that does not say so, what the card takes it for.

    With the `builds` that may have written it, the card's word alone does not count.

    Raises:
        FormatError: it is damaged, or its number is missing or none the card knows.
    """
    document = format.decode(data)
    return (
        format.version_of(document, name)
        if builds is None
        else format.sure_version_of(document, builds, name=name)
    )


def route_for(format: Format, source: Version, target: Version) -> tuple[Hop, ...]:
    """Return the hops from one version of a format to another; raise `NoRoute` if none lead there."""
    return find_route(hops_of(format), source, target)


def hops_of(format: Format) -> list[Hop]:
    """Return all hops between versions of a format: the card's steps, and those its layout has.

    Between neighbours of a layout's versions there is a hop without a step wherever the layout
    knows what new fields hold; it loses something if fields go.
    """
    read = format.scheme.parse
    hops = [
        _told(format, Hop(read(step.source), read(step.to), number=number))
        for number, step in enumerate(format.table.steps)
    ]
    layout = format.layout
    if layout is None:
        return hops
    told = {(hop.source, hop.target) for hop in hops}
    for low in range(layout.low, layout.high):
        for source, target in ((low, low + 1), (low + 1, low)):
            ends = read(str(source)), read(str(target))
            changes = changes_between(layout, source, target)
            possible = all(
                each.default is not None or each.derived for each in changes if each.comes
            )
            if ends not in told and possible:
                hops.append(_told(format, Hop(*ends, number=-1)))
    return hops


def knows(format: Format, version: str) -> bool:
    """Tell whether a format has a version: some build writes or reads it, or a hop leads to it."""
    try:
        wanted = format.scheme.parse(version)
    except KindredError:
        return False
    told = {text for row in format.table.builds for text in (row.writes, *row.reads)}
    return any(wanted == format.scheme.parse(text) for text in told) or any(
        wanted in (hop.source, hop.target) for hop in hops_of(format)
    )


def _told(format: Format, hop: Hop) -> Hop:
    """Return a hop that says whether it loses something, by the card's steps or by the layout."""
    return replace(hop, loses=any(each.loses for each in describe_step(format, hop)))


def convert_bytes(
    data: Data,
    format: Format,
    target: Version | str,
    *,
    name: str,
    source: Version | str | None = None,
) -> Converted:
    """Convert the content of one file to another version of its format.

    `source` is the version it is in, if it does not say so itself.

    The source is decoded once more and the result is decoded again to count the fields; values
    and paths of the re-read result must be those of the edited document.

    Raises:
        FormatError: the file is damaged or of an unknown version.
        VersionUntold: nothing tells the version it is in.
        NoRoute: no steps lead to `target`.
        PreconditionUnmet: a step requires what the file does not have.
        BooksUnbalanced: a field went without a reason, or the result does not read back.

    >>> with open("mossferry/userdata/saves/midwinter.voyage", "rb") as file:
    ...     data = file.read()
    ...
    >>> made = kl.convert_bytes(data, card.formats["voyage"], "5", name="midwinter.voyage")
    >>> str(made.source), str(made.target)
    ('4', '5')
    """
    read = format.scheme.parse
    target = read(target) if isinstance(target, str) else target
    source = read(source) if isinstance(source, str) else source
    return Converter(format)(data, target, name=name, source=source)


class Converter:
    """Converts files of one format; what the card says is made ready once for all of them.

    Tables of `column_threshold` rows or more are converted, and stand in the books, by columns. `watch`
    is told of each row of each step, and whether what it is about was there. `by_number`: the books name
    records by their numbers, whatever the card says they are known by.
    """

    def __init__(
        self,
        format: Format,
        *,
        column_threshold: int = COLUMN_THRESHOLD,
        watch: Watch | None = None,
        by_number: bool = False,
    ) -> None:
        self.format = format
        self._keys = {} if by_number else format.record_keys
        self._watch = watch
        self._column_threshold = column_threshold
        self._hops = hops_of(format)
        self._steps: dict[int, tuple[Step, ...]] = {}
        self._routes: dict[tuple[Version, Version], tuple[Hop, ...]] = {}

    def route(self, source: Version, target: Version) -> tuple[Hop, ...]:
        """Return the hops between two versions; raise `NoRoute` if none lead there."""
        if (source, target) not in self._routes:
            self._routes[source, target] = find_route(self._hops, source, target)
        return self._routes[source, target]

    def leads(self, source: Version, target: Version) -> bool:
        """Tell whether a route leads from one version to another."""
        try:
            return bool(self.route(source, target)) or source == target
        except NoRoute:
            return False

    def __call__(
        self, data: Data, target: Version, *, name: str, source: Version | None = None
    ) -> Converted:
        """Convert the content of a file; see `convert_bytes`."""
        try:
            document = self.format.decode(data)
        except KindredError as error:
            raise error.inside(name) from None
        return self.convert(document, data, target, name=name, source=source)

    def convert(
        self,
        document: Document,
        data: Data,
        target: Version,
        *,
        name: str,
        source: Version | None = None,
    ) -> Converted:
        """Convert a file that was decoded; the document is used up. `source` None: it is asked."""
        with undisturbed():
            return self._convert(document, data, target, name, source)

    def _convert(
        self, document: Document, data: Data, target: Version, name: str, source: Version | None
    ) -> Converted:
        format = self.format
        try:
            said = _said(format, document, name)
            source = source or said or format.sure_version_of(document, name=name)
            document = _read_in(document, source)
            books = Bookkeeper(column_threshold=self._column_threshold, keys=self._keys)
            before = books.counted(document, len(data))
            findings = []
            for hop in self.route(source, target):
                self._carry_out(
                    hop, Fields(document, books, column_threshold=self._column_threshold)
                )
                if hop.number >= 0 and format.table.steps[hop.number].note:
                    findings.append(Finding.note("step-note", format.table.steps[hop.number].note))
            result = encode_unread(document)  # the statement reads it again, and compares
            again = format.decode(result, target)
            read = before or format.decode(data, source)
            statement = books.statement(name, read, document, again)
            _check_version(format, again, target, said, name)
        except KindredError as error:
            raise error.inside(name) from None
        findings += (replace(loss, where=name) for loss in books.losses)
        return Converted(result, source, target, statement, tuple(findings))

    def _carry_out(self, hop: Hop, fields: Fields) -> None:
        if hop.number >= 0:
            if hop.number not in self._steps:
                rows = self.format.table.steps[hop.number].do
                self._steps[hop.number] = tuple(read_step(row, self.format.tables) for row in rows)
            for row, step in enumerate(self._steps[hop.number]):
                if self._watch is not None:
                    self._watch(hop.number, row, step.has_matter(fields))
                step.run(fields)
        if isinstance(fields.document, LayoutDocument):
            _fit_layout(fields, fields.document, hop)
        _raise_version(fields.document, self.format, hop, fields.books)


def _said(format: Format, document: Document, name: str) -> Version | None:
    """Return the version that a file says it is in, None if it does not."""
    try:
        return format.sure_version_of(document, name=name)
    except VersionUntold:
        return None


def _read_in(document: Document, version: Version) -> Document:
    """Return a file read in a version, where nothing in it says which it is."""
    if isinstance(document, LayoutDocument) and document.layout.is_told_by_fit:
        return document.in_version(int(version.text))
    return document


def _check_version(
    format: Format, made: Document, target: Version, said: Version | None, name: str
) -> None:
    """Raise unless what was made says the version it is in, if what it was made of said its own."""
    now = _said(format, made, name)
    if now is None and isinstance(made, LayoutDocument) and made.layout.is_told_by_fit:
        return  # it was read back in the version that was wanted, and may be read in others
    if now == target or (now is None and said is None):
        return
    told = f"would say that it is in format {now}" if now else "would not say which format it is in"
    raise KindredError(
        f"converted to format {target} it {told}",
        where=format_path(format.version_path) if format.version_path else "",
        remedy="A step of the card takes the version key away, or what its signs look for. Put that right.",
    )


def _fit_layout(fields: Fields, document: LayoutDocument, hop: Hop) -> None:
    """Drop the fields that the next version of a layout has not, and put those that it has more."""
    source, target = int(hop.source.text), int(hop.target.text)
    for each in changes_between(document.layout, source, target):
        for path in _places(document, each):
            _fit_field(fields, replace(each, path=path), source, target)


def _fit_field(fields: Fields, each: Coming, source: int, target: int) -> None:
    if not each.comes:
        fields.drop(each.path, f"format {target} has no {each.path[-1]}", loss=not each.derived)
    elif each.derived:
        fields.fill(each.path, 0, "made of what is written")
    elif each.default is not None:
        fields.fill(each.path, each.default, f"new in format {target}")
    elif not fields.is_there(each.path) and fields.is_there(each.path[:-1]):
        raise KindredError(
            "the layout has no default for it, and no step fills it",
            where=format_path(each.path),
            remedy=f"Add `default` to the layout, or a step from {source} to {target}.",
        )


def _places(document: LayoutDocument, each: Coming) -> list[Path]:
    """Return the paths of a field that comes or goes, in those parts that are there and of its case."""
    paths: list[Path] = [()]
    done = 0
    for depth, case in each.within:
        found = (one for path in paths for one in document.find((*path, *each.path[done:depth])))
        paths = [path for path in found if document.is_part(path, case)]
        done = depth
    return [(*path, *each.path[done:]) for path in paths]


def _raise_version(document: Document, format: Format, hop: Hop, books: Bookkeeper) -> None:
    """Write the new format version where the file keeps it, as the kind of value it was."""
    path = format.version_path
    if isinstance(document, LayoutDocument):
        document.become(int(hop.target.text))  # where no field tells it
    # Of formats whose files have no key, none gets one; the card's `default` says that older ones lack it.
    if not path or not (document.find(path) or format.table.version.default):
        return
    text = format.text_of(hop.target)
    value: str | int = text
    if text.lstrip("-").isdigit() and not (
        document.find(path) and isinstance(document.get(path), str)
    ):
        value = int(text)
    reason = f"format {hop.source} is now {hop.target}"
    books.explain(document, path, reason)
    document.set(path, value, note=reason)
