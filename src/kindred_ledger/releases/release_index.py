"""Release index: which releases a server or folder has, in a small JSON format of our own.

docs/releases.md has the format, key by key. An index comes from strangers: names in it are relative paths
below it, pages that lead back to themselves are refused, and it says a size and a digest for all that
can be fetched, so that nothing else is taken for it.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Iterable, Sequence

import msgspec
from msgspec import Struct

from ..errors import DecisionNeeded, FormatError, KindredError, UsageError
from ..ledger import STABLE
from ..places import Patterns, check_portable
from ..versions import Version

__all__ = [
    "ChosenRelease",
    "IndexedRelease",
    "Part",
    "ReleaseIndex",
    "choose_release",
    "parts_with",
    "read_index",
]

_FORMAT = 1
_LARGEST = 16 << 20  # bytes of an index
_MOST_PAGES = 100
_HEX = re.compile(r"[0-9a-f]{64}")
_DATE = re.compile(r"\d{4}-\d{2}-\d{2}(T\d{2}:\d{2}:\d{2}Z)?")
_ANY = ("", "any")


class Part(Struct, frozen=True, forbid_unknown_fields=True):
    """One file to fetch: where it is below the index, its size in bytes, its BLAKE3 in hex.

    `files` are the paths it holds, or patterns of them; empty if nobody says. `optional` parts are
    fetched where they are asked for.
    """

    file: str
    size: int
    digest: str
    files: tuple[str, ...] = ()
    optional: bool = False

    @property
    def name(self) -> str:
        """Its name without folders."""
        return posixpath.basename(self.file)


class IndexedRelease(Struct, frozen=True, forbid_unknown_fields=True):
    """A release as an index describes it; `version` is empty for a build that has only a date.

    >>> index = kl.read_index("releases.json", kl.source_at("downloads/releases.json").read)
    >>> [(release.version, release.channel) for release in index.releases][0]
    ('1.4', 'stable')
    """

    parts: tuple[Part, ...]
    version: str = ""
    date: str = ""
    channel: str = STABLE
    platform: str = ""
    variant: str = ""
    notes: str = ""

    def __str__(self) -> str:
        more = [self.channel if self.channel != STABLE else "", self.platform, self.variant]
        more += [f"of {self.date}" if self.date and self.version else ""]
        told = ", ".join(filter(None, more))
        name = self.version or f"untitled build of {self.date}"
        return f"{name} ({told})" if told else name


class _Page(Struct, frozen=True, forbid_unknown_fields=True):
    kindred: str
    format: int
    title: str
    releases: tuple[IndexedRelease, ...] = ()
    pages: tuple[str, ...] = ()


class ReleaseIndex(Struct, frozen=True):
    """All pages of an index: a title and its releases.

    >>> index = kl.read_index("releases.json", kl.source_at("downloads/releases.json").read)
    >>> index.title, len(index.releases)
    ('mossferry', 3)
    """

    title: str
    releases: tuple[IndexedRelease, ...]


class ChosenRelease(Struct, frozen=True):
    """A release that was chosen of several, and why.

    >>> source = kl.source_at("downloads/releases.json")
    >>> chosen = kl.choose_release(kl.read_index(source.name, source.read))
    >>> chosen.release.version, chosen.reasons[-1]
    ('2.0', 'the newest')
    """

    release: IndexedRelease
    reasons: tuple[str, ...] = ()


def read_index(name: str, read: Callable[[str], bytes]) -> ReleaseIndex:
    """Read an index and its further pages; `read` gives the bytes under a name below its folder.

    Raises:
        FormatError: a page is none, or leads back to one before it.
        UnsafeName: a name in it is absolute or leads elsewhere.

    >>> source = kl.source_at("downloads/releases.json")
    >>> kl.read_index(source.name, source.read).releases[0].version
    '1.4'
    """
    releases: list[IndexedRelease] = []
    waiting: list[tuple[str, tuple[str, ...]]] = [(name, ())]
    done, title = set[str](), ""
    while waiting:
        current, trail = waiting.pop(0)
        if current in trail:
            raise FormatError(f"its pages go round: {' → '.join((*trail, current))}", where=name)
        if current in done:
            continue
        if len(done) >= _MOST_PAGES:
            raise FormatError(f"it has more than {_MOST_PAGES} pages", where=name)
        done.add(current)
        page = _page(read(current), current)
        if title and page.title != title:
            raise FormatError(f"this page is of {page.title}, the first of {title}", where=current)
        title = page.title
        releases += page.releases
        waiting += [(_below(current, other), (*trail, current)) for other in page.pages]
    return ReleaseIndex(title, tuple(releases))


def _page(data: bytes, name: str) -> _Page:
    if len(data) > _LARGEST:
        raise FormatError("it is larger than 16 MB", where=name)
    try:
        page = msgspec.json.decode(data, type=_Page)
    except msgspec.ValidationError as error:
        raise FormatError(f"this is no release index: {error}", where=name) from error
    except msgspec.DecodeError as error:
        raise FormatError(
            f"this is no JSON: {error}",
            where=name,
            remedy="The address may lead to a page for people; a release index is a .json file.",
        ) from error
    if page.kindred != "releases" or page.format != _FORMAT:
        raise FormatError(
            f"release indexes of format {_FORMAT} are read, this is"
            f" {page.kindred!r} of format {page.format}",
            where=name,
        )
    for at, release in enumerate(page.releases):
        try:
            _check(release)
        except KindredError as error:
            raise error.inside(f"{name}: releases[{at}]") from None
    return page


def _check(release: IndexedRelease) -> None:
    if not (release.version or release.date):
        raise FormatError("it has neither a version nor a date")
    if release.date and not _DATE.fullmatch(release.date):
        raise FormatError(f"the date {release.date!r} is not like 2026-05-28")
    if not release.parts:
        raise FormatError(f"{release} has no parts to fetch")
    names = [part.name for part in release.parts]
    for number, part in enumerate(release.parts):
        try:
            check_portable(part.file)
            if part.size < 0 or not _HEX.fullmatch(part.digest):
                raise FormatError(
                    "it needs a size in bytes and a BLAKE3 digest of 64 small hex digits"
                )
            if names.count(part.name) > 1:
                raise FormatError(f"two parts are called {part.name}")
        except KindredError as error:
            raise error.inside(f"parts[{number}]") from None


def _below(page: str, name: str) -> str:
    check_portable(name, where=page)
    return posixpath.join(posixpath.dirname(page), name)


def parts_with(release: IndexedRelease, wanted: Sequence[str]) -> tuple[Part, ...]:
    """Return the parts that hold some files: all that are not optional if none is wanted.

    Raises:
        UsageError: no part says that it holds one of them.
    """
    if not wanted:
        return tuple(part for part in release.parts if not part.optional)
    found: dict[str, Part] = {}
    for path in wanted:
        holding = [part for part in release.parts if part.files and Patterns(part.files)(path)]
        if not holding:
            silent = [part.name for part in release.parts if not part.files]
            raise UsageError(
                f"no part of {release} says that it holds {path}",
                remedy=f"These do not say what they hold: {', '.join(silent)}." if silent else "",
            )
        found.update((part.file, part) for part in holding)
    return tuple(part for part in release.parts if part.file in found)


def choose_release(
    index: ReleaseIndex,
    wanted: str = "",
    *,
    parse: Callable[[str], Version] = Version.parse,
    channel: str = "",
    platform: str = "",
    variant: str = "",
) -> ChosenRelease:
    """Choose a release by version, date, or `OLDER..NEWER`: a build that came between two named ones.

    Empty is the newest. Stable comes before other channels; what is for all platforms fits any.

    Raises:
        UsageError: none fits.
        DecisionNeeded: several do, or only another channel has it.

    >>> source = kl.source_at("downloads/releases.json")
    >>> index = kl.read_index(source.name, source.read)
    >>> kl.choose_release(index, "1.4").release.version
    '1.4'
    """
    found = _named(index, wanted, parse)
    reasons: list[str] = []
    found = _narrowed(
        found,
        [one for one in found if one.variant == variant],
        f"the variant {variant}" if variant else "no variant, as none was asked for",
        reasons,
    )
    if platform:
        own = [one for one in found if one.platform == platform]
        fitting = own or [one for one in found if one.platform in _ANY]
        found = _narrowed(found, fitting, f"it runs on {platform}", reasons)
    if channel:
        fitting = [one for one in found if one.channel == channel]
        found = _narrowed(found, fitting, f"the channel {channel}", reasons)
    else:
        stable = [one for one in found if one.channel == STABLE]
        if found and not stable:
            channels = sorted({one.channel for one in found})
            raise DecisionNeeded(
                f"{wanted or 'any release'} is there only as {' and '.join(channels)}",
                choices=tuple(map(str, found)),
                remedy=f"If that will do: `channel={channels[0]}`",
            )
        found = _narrowed(found, stable, f"{STABLE} comes before other channels", reasons)
    if found and not wanted:
        found = _newest(found, parse)
        reasons.append("the newest")
    if not found:
        raise UsageError(
            f"the index has no {index.title} {wanted} that fits".replace("  ", " "),
            remedy=f"It has: {'; '.join(map(str, index.releases))}.",
        )
    if len(found) > 1:
        raise DecisionNeeded(
            f"{wanted} could be {len(found)} builds",
            choices=tuple(map(str, found)),
            remedy="Say which by its date, or with `platform=NAME`, `channel=NAME` or `variant=NAME`.",
        )
    return ChosenRelease(found[0], tuple(reasons))


def _narrowed(
    before: list[IndexedRelease], after: list[IndexedRelease], why: str, reasons: list[str]
) -> list[IndexedRelease]:
    if after and len(after) < len(before):
        reasons.append(why)
    return after


def _named(
    index: ReleaseIndex, wanted: str, parse: Callable[[str], Version]
) -> list[IndexedRelease]:
    older, between, newer = wanted.partition("..")
    if between:
        bounds = [_date_of(index, text, parse) for text in (older, newer)]
        return [
            one
            for one in index.releases
            if not one.version and bounds[0] <= one.date[:10] <= bounds[1]
        ]
    if not wanted:
        return [one for one in index.releases if one.version]
    if _DATE.match(wanted):
        return [one for one in index.releases if one.date.startswith(wanted)]
    version = parse(wanted)
    return [one for one in index.releases if one.version and parse(one.version) == version]


def _date_of(index: ReleaseIndex, text: str, parse: Callable[[str], Version]) -> str:
    """Return the day of a version, or of a date as it is."""
    if _DATE.match(text):
        return text[:10]
    dates = [one.date[:10] for one in _named(index, text, parse) if one.date]
    if not dates:
        raise UsageError(f"the index has no date of {text}", remedy="Give a date instead.")
    return min(dates)


def _newest(
    found: Iterable[IndexedRelease], parse: Callable[[str], Version]
) -> list[IndexedRelease]:
    versions = [(parse(one.version), one) for one in found]
    newest = max(version for version, _ in versions)
    return [one for version, one in versions if version == newest]
