"""Identifying a file: its kind by content, its format by the cards, its version by all evidence.

Nothing is guessed: a number that covers a range of builds is given as that range, from the card's
table; where pieces of evidence disagree, all are shown.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ..errors import KindredError, VersionUntold
from ..finding import Finding
from ..formats import HEAD, FileKind, confirm, kind_of, misnamed, valid
from .card import Card, Install
from .format import Format

__all__ = ["Identity", "Match", "identify"]


class Match(Struct, frozen=True):
    """A format of a card that a file is of, or seems to be.

    `version` "" means that it cannot be told; `writes` and `reads` are the ranges of builds that
    write and read that version; `evidence` tells why, `finding` what speaks against it.
    """

    title: str
    format: str
    version: str
    writes: tuple[str, ...]
    reads: tuple[str, ...]
    evidence: tuple[str, ...]
    finding: Finding | None = None


class Identity(Struct, frozen=True):
    """What a file is.

    >>> with open("mossferry/userdata/saves/midwinter.voyage", "rb") as file:
    ...     found = kl.identify("midwinter.voyage", file.read(), [card])
    ...
    >>> found.kind, found.matches[0].format, str(found.matches[0].version)
    ('json', 'voyage', '4')
    """

    name: str
    size_bytes: int
    kind: str
    evidence: str
    matches: tuple[Match, ...] = ()
    findings: tuple[Finding, ...] = ()


def identify(
    name: str,
    data: bytes,
    cards: Iterable[Card],
    *,
    paths: Sequence[str] = (),
    install: Install | None = None,
) -> Identity:
    """Tell what a file is. `name` is its path; `paths` are its paths in the `install` it lies in.

    A card's format fits by the file's path in an install, or by the last part of its name. That the
    install's build does not read the file's version is an oddity. What fits the install's own card
    is not looked for in others; what a title's card knows need not be known to its variants'.

    >>> with open("mossferry/userdata/saves/midwinter.voyage", "rb") as file:
    ...     found = kl.identify("midwinter.voyage", file.read(), [card])
    ...
    >>> found.matches[0].format, str(found.matches[0].version)
    ('voyage', '4')
    """
    cards = list(cards)
    found = kind_of(data[:HEAD], whole=len(data) <= HEAD)
    matches = [
        match
        for card in cards
        for format in card.formats.values()
        if (match := _match(card, format, name, data, paths)) is not None
    ]
    if install is not None:
        matches = [each for each in matches if each.title == install.card.title] or matches
    sound = [match for match in matches if match.finding is None]
    if sound:
        variants = {card.title for card in cards if card.file.variant is not None}
        matches = [each for each in matches if each in sound or each.title not in variants]
    odd: list[Finding] = []
    if sound:
        codec = _codec_of(cards, sound[0])
        if codec in ("layout", found.kind):
            kind = found.kind if codec != "layout" else "binary"
            told = "a layout describes it" if codec == "layout" else valid(kind)
            found = FileKind(kind, told)
    else:
        found, fault = confirm(data, found)
        if fault:
            odd.append(Finding.error("damaged", f"it begins as {found.kind}, but: {fault}"))
    wrong_name = misnamed(name.replace("\\", "/").rpartition("/")[2], found.kind)
    if wrong_name:
        odd.append(Finding.warning("misnamed", wrong_name))
    if install is not None and install.version is not None:
        unread = (_unread(install, match) for match in sound)
        odd += (Finding.warning("not-read-here", fault) for fault in unread if fault)
    if len(sound) > 1:
        names = ", ".join(f"{match.title} {match.format}" for match in sound)
        odd.append(Finding.warning("formats-alike", f"more than one format fits: {names}"))
    odd += (match.finding for match in matches if match.finding is not None)
    odd = [replace(finding, where=name) for finding in odd]
    return Identity(name, len(data), found.kind, found.evidence, tuple(matches), tuple(odd))


def _unread(install: Install, match: Match) -> str:
    """Return how a file contradicts the build of the install it lies in, "" if it does not."""
    if match.title != install.card.title or install.version is None:
        return ""
    format = install.card.formats[match.format]
    build = install.version
    try:
        writes, reads = format.written_by(build), format.read_by(build)
    except KindredError:
        return ""
    if format.scheme.parse(match.version) in reads:
        return ""
    told = ", ".join(each.text for each in reads)
    return (
        f"it lies in an install of {build.text}, which writes format {writes.text} and reads {told}: "
        f"format {match.version} is of another build"
    )


def _codec_of(cards: Iterable[Card], match: Match) -> str:
    return next(c.formats[match.format].table.codec for c in cards if c.title == match.title)


def _match(
    card: Card, format: Format, name: str, data: bytes, paths: Sequence[str]
) -> Match | None:
    evidence = []
    placed = [path for path in paths if format.files(path)]
    if placed:
        evidence.append(f"it lies where the card says: {placed[0]}")
    elif format.fits_name(name):
        evidence.append("its name fits")
    if not evidence and format.layout is None:
        return None  # some number under a common key tells nothing
    name = max(paths, key=len, default=name)  # the folders it lies in may tell its version
    try:
        document = format.decode(data)
        version = format.version_of(document, name)
    except VersionUntold as error:
        if not evidence:
            return None
        finding = Finding.warning("version-untold", f"{card.title} {format.name}: {error.what}")
        return Match(card.title, format.name, "", (), (), tuple(evidence), finding)
    except KindredError as error:
        if not evidence:
            return None
        where = f"{error.where}: " if error.where else ""
        what = f"{card.title} {format.name}: {where}{error.what}"
        finding = Finding.error("damaged", what)
        return Match(card.title, format.name, "", (), (), tuple(evidence), finding)
    if evidence or document.find(format.version_path):
        evidence.append(format.evidence_of(document, version, name))
    if format.layout is not None:
        evidence.append(f"it is as the layout {format.layout.name} says, to its last byte")
    writes = tuple(row.builds for row in format.table.builds if row.writes == version.text)
    reads = tuple(row.builds for row in format.table.builds if version.text in row.reads)
    return Match(card.title, format.name, version.text, writes, reads, tuple(evidence))
