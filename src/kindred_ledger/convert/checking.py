"""Checking a card: every step on samples and on files made up from its layouts, there and back.

What is found is a fault, or a hint where it may be meant so. Samples are files of the title in any
version; one thing in two versions (see `Sample.is_twin`) tells what the one must become.
"""

from __future__ import annotations

import random
import re
from collections.abc import Iterable, Iterator, Mapping
from itertools import pairwise
from typing import Any

from msgspec import Struct

from ..cards import PROGRAM, Card, Format
from ..cards.steps import Step, read_step
from ..cards.telling import in_words, told_by
from ..errors import BooksUnbalanced, KindredError
from ..finding import Finding, Severity, of_severity
from ..formats import Path, field_differences, format_path, invent
from ..formats.differences import FieldDifference
from ..formats.layouts import LayoutDocument, likely_positions, positions_in
from ..ledger import Ledger
from ..places import read_bytes
from ..statement import Outcome
from ..versions import Version
from .converter import Converted, Converter, hops_of
from .routes import Hop, find_route
from .shapes import Shape, differences
from .wording import describe_step

__all__ = ["CardReport", "FormatCheck", "Sample", "check_card"]

_INVENTED = 12  # files of each version of a layout
_UNMET = 3  # a precondition that a sample does not meet: that is as it should be
_MOST_FIELDS = 6  # that one complaint names


class Sample(Struct, frozen=True):
    """A file to try a card on, or a pack: then `data` has its files by their paths in it.

    >>> with open("mossferry/userdata/saves/midwinter.voyage", "rb") as file:
    ...     sample = kl.Sample("user/saves/midwinter.voyage", file.read())
    ...
    >>> kl.check_card(card, [sample]).samples
    1
    """

    path: str
    data: bytes | Mapping[str, bytes]
    version: str = ""  # of a layout, for what was made up by it; else the file tells it

    def is_of(self, format: Format) -> bool:
        """Tell whether this may be a file, or a pack, of a format."""
        if format.is_folder:
            return not isinstance(self.data, bytes) and format.is_pack(self.data)
        return isinstance(self.data, bytes) and format.fits_name(self.path)

    def is_twin(self, version: Version, other: Sample, of: Version) -> bool:
        """Tell whether another sample is the same thing in another version.

        So it is if both lie in folders named by their versions, side by side, under one name:
        `samples/3/first.voyage` and `samples/4/first.voyage`.
        """
        parts, others = (each.path.replace("\\", "/").split("/") for each in (self, other))
        if len(parts) < 2 or parts[-2] != version.text:
            return False
        return [*parts[:-2], of.text, parts[-1]] == others


class CardReport(Struct, frozen=True):
    """What a check found, by places in the card, and how much was tried. A warning may be meant so.

    >>> report = kl.check_card(card)
    >>> report.is_sound, report.formats
    (True, 9)
    """

    findings: tuple[Finding, ...]
    formats: int
    samples: int
    conversions: int

    @property
    def is_sound(self) -> bool:
        """Tell whether nothing but warnings was found."""
        return not of_severity(self.findings, Severity.ERROR)


def check_card(
    card: Card,
    samples: Iterable[Sample] = (),
    *,
    ledger: Ledger | None = None,
    only: str = "",
    invented: int = _INVENTED,
) -> CardReport:
    """Try all that a card says of its formats, or of `only` one; nothing is written.

    `invented` is how many files are made up for each version of a layout. What the steps make of the
    samples is held against the files that releases on the shelf of a `ledger` ship in that version.

    >>> kl.check_card(card).is_sound
    True
    """
    given = list(samples)
    found: dict[Finding, None] = {}
    tried = conversions = 0
    for format in card.formats.values():
        if only not in ("", format.name):
            continue
        shipped = _shipped(card, format, ledger) if ledger is not None else {}
        check = FormatCheck(format, [s for s in given if s.is_of(format)], invented, shipped)
        found.update(dict.fromkeys(check.findings()))
        tried += len(check.samples)
        conversions += check.conversions
    stray = [s.path for s in given if not any(map(s.is_of, card.formats.values()))]
    if stray:
        what = f"{len(stray)} samples are of no format, such as {stray[0]}"
        found[Finding.warning("sample-unknown", what, where="formats")] = None
    ordered = sorted(found, key=lambda each: each.severity is not Severity.ERROR)
    return CardReport(tuple(ordered), len(card.formats), tried, conversions)


class FormatCheck:
    """The check of one format."""

    def __init__(
        self,
        format: Format,
        samples: list[Sample],
        invented: int,
        shipped: Mapping[Version, Shape] | None = None,
    ) -> None:
        self._format = format
        self._shipped = dict(shipped or {})  # by version: the shape of what releases ship
        self._made: dict[Version, Shape] = {}
        self._name = f"formats.{format.name}"
        self._hops = hops_of(format)
        self.samples = samples
        self._invented = invented
        self.conversions = 0
        self._met: set[tuple[int, int]] = set()  # rows of steps whose path was there
        self._run: set[int] = set()  # steps that were carried out
        self._told: set[tuple[str, frozenset[str]]] = set()  # where, and of which fields
        self._positions: dict[Version, dict[Path, frozenset[str]]] = {}
        self._shown: set[tuple[str, Version]] = set()  # what told versions, and which
        layout = format.layout
        self._is_told_by_fit = layout is not None and layout.is_told_by_fit
        self._converter = Converter(format, watch=self._watch, by_number=True)
        self._steps: dict[tuple[int, int], Step] = {}  # by the number of the step and of its row

    def findings(self) -> Iterator[Finding]:
        """Yield all that is wrong with the format; of the same fields at one place it is told once."""
        sound = True
        for each in self._step_faults():
            sound = False
            yield each
        if not sound:
            return
        yield from self._route_faults()
        versions = self._versions()
        read: list[tuple[Sample, Version]] = []
        for sample in (*self.samples, *self._made_up()):
            version, fault = self._read(sample)
            if fault is not None:
                yield fault
            elif version is not None:
                read.append((sample, version))
        self._positions = {
            version: likely_positions(self._layout_documents(read, version)) for version in versions
        }
        for sample, version in read:
            for target in versions:
                yield from self._convert(sample, version, target, read)
        yield from self._unlike()
        yield from self._unmet()

    def _unlike(self) -> Iterator[Finding]:
        """Name fields in which what the steps make is not as the releases on the shelf have it."""
        for version, made in self._made.items():
            for name, what in differences(made, self._shipped[version]):
                where = f"{self._name}, converted to {version}"
                yield Finding.warning("unlike-release", what, where=where, field=name)

    def _is_new(self, where: str, fields: Iterable[str]) -> bool:
        """Tell whether nothing was found about these fields there yet, in another sample."""
        about = where, frozenset(fields)
        if about in self._told:
            return False
        self._told.add(about)
        return True

    def _watch(self, step: int, row: int, there: bool) -> None:
        self._run.add(step)
        if there:
            self._met.add((step, row))

    def _where(self, step: int, row: int | None = None) -> str:
        table = self._format.table.steps[step]
        place = f"{self._name}.steps[{step + 1}] ({table.source} to {table.to})"
        return place if row is None else f"{place}.do[{row + 1}]"

    def _step_faults(self) -> Iterator[Finding]:
        for step, table in enumerate(self._format.table.steps):
            for row, action in enumerate(table.do):
                try:
                    self._steps[step, row] = read_step(action, self._format.tables)
                except KindredError as error:
                    yield Finding.error(
                        "step-wrong",
                        error.what,
                        where=self._where(step, row),
                        remedy=error.remedy,
                    )

    def _versions(self) -> list[Version]:
        read = self._format.scheme.parse
        table = self._format.table
        texts = {text for row in table.builds for text in (row.writes, *row.reads)}
        ends = {end for hop in self._hops for end in (hop.source, hop.target)}
        return sorted({read(text) for text in texts} | ends)

    def _route_faults(self) -> Iterator[Finding]:
        """Look for versions that are written by some build, and that no later build's files come from."""
        hops = self._hops
        read = self._format.scheme.parse
        written = sorted({read(row.writes) for row in self._format.table.builds})
        for older, newer in pairwise(written):
            writers = [row for row in self._format.table.builds if read(row.writes) == newer]
            as_it_is = all(older in map(read, row.reads) for row in writers)
            if not _leads(hops, older, newer) and as_it_is:
                continue  # nothing need be converted for those builds
            if not _leads(hops, older, newer):
                what = f"no route leads from format {older} to {newer}, which newer builds write"
                remedy = "Add a step, or a layout that knows both."
                yield Finding.error("no-route", what, where=self._name, remedy=remedy)
            elif not _leads(hops, newer, older):
                what = f"no route leads back from format {newer} to {older}"
                yield Finding.warning("no-route-back", what, where=self._name)
        for row in self._format.table.builds:
            for text in row.reads:
                if read(text) not in {*written} | {
                    v for hop in hops for v in (hop.source, hop.target)
                }:
                    what = f"builds {row.builds} read format {text}, which none writes and no step leads to"
                    yield Finding.warning("version-unwritten", what, where=f"{self._name}.builds")

    def _made_up(self) -> Iterator[Sample]:
        layout = self._format.layout
        if layout is None:
            return
        for version in range(layout.low, layout.high + 1):
            for number in range(self._invented):
                rng = random.Random(f"{layout.name} {version} {number}")
                name = f"made up from the layout: format {version}, number {number + 1}"
                yield Sample(name, invent(layout, version, rng), str(version))

    def _read(self, sample: Sample) -> tuple[Version | None, Finding | None]:
        """Read a sample and write it again."""
        try:
            version = self._format.scheme.parse(sample.version) if sample.version else None
            document = self._format.decode(sample.data, version)
            told = told_by(self._format, document, sample.path)
            self._shown.update((each.what, each.version) for each in told)
            if not sample.version or not self._is_told_by_fit:
                version = self._format.version_of(document, sample.path)
            if document.encode() != sample.data:
                what = "unedited, it is not written as the same bytes"
                return None, Finding.error("not-same-bytes", what, where=sample.path)
        except KindredError as error:
            return None, error.inside(sample.path).finding("not-readable")
        return version, None

    def _convert(
        self,
        sample: Sample,
        version: Version,
        target: Version,
        others: list[tuple[Sample, Version]],
    ) -> Iterator[Finding]:
        """Convert there and back, hold against what the sample is in that version."""
        if version == target or not _leads(self._hops, version, target):
            return
        way = f"{self._name}, {version} to {target}"
        self.conversions += 1
        try:
            there = self._converter(sample.data, target, name=sample.path, source=version)
        except BooksUnbalanced as error:
            remedy = f"{error.remedy or ''}\nFrom {sample.path}.".strip()
            yield Finding.error("books-unbalanced", error.what, where=way, remedy=remedy)
            return
        except KindredError as error:
            yield from self._failed(way, error)
            return
        self._run.update(hop.number for hop in self._converter.route(version, target))
        if target in self._shipped and sample in self.samples:
            shape = self._made.setdefault(target, Shape())
            shape.add(self._format.decode(there.data, target))
        yield from self._places(way, version, there)
        for other, as_what in others:
            if as_what == target > version and sample.is_twin(version, other, target):
                yield from self._against(way, there, other)
        yield from self._and_back(way, sample, there)

    def _failed(self, way: str, error: KindredError) -> Iterator[Finding]:
        field = _pattern(error.where.rpartition(": ")[2])
        if error.exit_status != _UNMET and self._is_new(way, [field]):
            what = f"{error.where}: {error.what}"
            yield Finding.error("not-convertible", what, where=way, remedy=error.remedy)

    def _layout_documents(
        self, read: list[tuple[Sample, Version]], version: Version
    ) -> list[LayoutDocument]:
        """Return the real samples of a version, if a layout describes them."""
        if self._format.layout is None:
            return []
        real = [sample for sample, of in read if of == version and sample in self.samples]
        documents: list[Any] = [self._format.decode(sample.data, version) for sample in real]
        return [document for document in documents if isinstance(document, LayoutDocument)]

    def _places(self, way: str, version: Version, there: Converted) -> Iterator[Finding]:
        """Look whether numbers that are places in all samples still are."""
        likely = self._positions.get(version, {})
        result: Any = self._format.decode(there.data, there.target) if likely else None
        if not isinstance(result, LayoutDocument):
            return
        now = positions_in(result)
        for path, meant in likely.items():
            lost = result.find(path) and not (path in now and now[path][1] & meant)
            if lost and self._is_new(way, [format_path(path)]):
                told = " or ".join(sorted(meant)[:2])
                yield Finding.error(
                    "position-lost",
                    f"it is {told} in every sample, and is not in the result",
                    where=way,
                    field=format_path(path),
                    remedy="Describe it in the layout (a size, a directory), so that it follows.",
                )

    def _against(self, way: str, there: Converted, wanted: Sample) -> Iterator[Finding]:
        decode = self._format.decode
        made = decode(there.data, there.target)
        differing = field_differences(decode(wanted.data, there.target), made)
        if differing:
            told = "; ".join(
                f"{d.name} should be {d.before}, is {d.after}" if d.before and d.after
                else f"{d.name} is missing" if d.before else f"{d.name} should not be there"
                for d in differing[:_MOST_FIELDS]
            )  # fmt: skip
            if self._is_new(way, _patterns(differing)):
                what = f"not as the sample {wanted.path}: {told}"
                yield Finding.error("not-as-sample", what, where=way)

    def _and_back(self, way: str, sample: Sample, there: Converted) -> Iterator[Finding]:
        """Convert back; what does not come back must have been told to go."""
        if not _leads(self._hops, there.target, there.source):
            return
        self.conversions += 1
        try:
            back = self._converter(there.data, there.source, name=sample.path, source=there.target)
        except KindredError as error:
            yield from self._failed(f"{way} and back", error)
            return
        decode = self._format.decode
        told = {
            name
            for made in (there, back)
            for line in made.statement.lines
            if line.outcome in (Outcome.REMOVED, Outcome.ADDED)
            for name in (line.item, line.became)
            if name
        } | {loss.field for made in (there, back) for loss in made.losses}
        ignored = {format_path(path) for step in self._steps.values() for path in step.frees}
        ignored |= {_pattern(name) for made in (there, back) for name in _follows(made)}
        strange = [
            d
            for d in field_differences(
                decode(sample.data, back.target), decode(back.data, back.target)
            )
            if not any(_within(d.name, name) or _within(name, d.name) for name in told)
            and _pattern(d.name) not in ignored
        ]
        if strange:
            names = "; ".join(
                f"{d.name}: {d.before} comes back as {d.after}" for d in strange[:_MOST_FIELDS]
            )
            what = f"fields change that no step tells to be lost: {names}"
            if self._is_new(f"{way} and back", _patterns(strange)):
                yield Finding.error("untold-change", what, where=f"{way} and back")

    def _unmet(self) -> Iterator[Finding]:
        """Name signs that no sample shows, steps that ran on none, and rows whose path was in none."""
        for text, sign in self._format.table.version.signs.items():
            if (in_words(sign), self._format.scheme.parse(text)) not in self._shown:
                what = f"no sample shows the sign of format {text}: {in_words(sign)}"
                yield Finding.warning("sign-untried", what, where=f"{self._name}.version")
        for step, table in enumerate(self._format.table.steps):
            if step not in self._run:
                what = f"no sample is of format {table.source}, so this step was not tried"
                yield Finding.warning("step-untried", what, where=self._where(step))
                continue
            read_version = self._format.scheme.parse
            hop = Hop(read_version(table.source), read_version(table.to), number=step)
            told = describe_step(self._format, hop)
            for row in range(len(table.do)):
                if (step, row) not in self._met and not self._steps[step, row].is_condition:
                    what = f"in no sample is there what this is about: {told[row].text}"
                    yield Finding.error("nothing-there", what, where=self._where(step, row))


def _shipped(card: Card, format: Format, ledger: Ledger) -> dict[Version, Shape]:
    """Return the shapes of the files that releases on the shelf ship, by format version."""
    shapes: dict[Version, Shape] = {}
    seen: set[bytes] = set()
    for release in ledger.shelf.releases(card.title) if not format.is_folder else ():
        place = ledger.shelf.place(release)
        tree = ledger.shelf.tree(release)
        held = ledger.tree(release.entry)
        for path in tree.files:
            node = tree[path]
            if not format.files(f"{PROGRAM}/{path}") or path not in held or node.digest in seen:
                continue
            seen.add(node.digest or b"")
            try:
                document = format.decode(read_bytes(place, path))
                version = format.version_of(document, f"{PROGRAM}/{path}")
            except KindredError:
                continue  # told where it is converted
            shapes.setdefault(version, Shape()).add(document)
    return shapes


def _leads(hops: list[Hop], source: Version, target: Version) -> bool:
    try:
        find_route(hops, source, target)
    except KindredError:
        return False
    return True


def _follows(made: Converted) -> set[str]:
    """Return the fields that changed because others did, such as checksums and offsets."""
    return {line.item for line in made.statement.lines if line.reason.startswith("follows from")}


def _patterns(differing: Iterable[FieldDifference]) -> set[str]:
    return {_pattern(each.name) for each in differing}


def _pattern(name: str) -> str:
    return re.sub(r"\[\d+\]", "[*]", name)


def _within(name: str, other: str) -> bool:
    return name == other or (
        name.startswith(other) and name[len(other) : len(other) + 1] in (".", "[")
    )
