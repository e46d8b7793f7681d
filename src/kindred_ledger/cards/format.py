"""Format: a kind of file of a title, what tells its version, and which builds read and write which."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Mapping
from fnmatch import fnmatchcase as fnmatch
from functools import cached_property
from typing import Any

from msgspec import Struct

from ..errors import (
    UsageError,
    VersionUntold,
)
from ..formats import (
    FOLDER,
    Document,
    Path,
    decode,
    decode_folder,
    format_path,
    load_layout,
    parse_path,
)
from ..places import (
    Patterns,
    Tree,
)
from ..versions import Scheme, Version, VersionRange, scheme
from .models import BuildFormat, FormatTable
from .telling import agreed, told_by

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ..formats import Layout

__all__ = ["Format"]

_ARCHIVE = re.compile(r"(\.tar)?\.(zip|tar|tgz|tbz2|txz|gz|bz2|xz|zst)$", re.I)  # what names end in


class Format(Struct, frozen=True, dict=True):
    """A kind of file of a title: which files, which versions of it which builds read and write.

    >>> card.formats["voyage"].name, sorted(map(str, card.formats["voyage"].versions))
    ('voyage', ['3', '4', '5', '6'])
    """

    name: str
    table: FormatTable
    builds: Scheme
    folder: str = ""  # of the card, where its layouts are
    tables: dict[str, dict[str, Any]] = {}  # of the card, by name: for steps and expressions
    any_case: bool = False  # names of files fit in large and small letters alike

    def __repr__(self) -> str:
        return f"<Format {self.name}>"

    @cached_property
    def record_keys(self) -> dict[Path, str]:
        """Which field names the records of a list, by patterns of paths."""
        return {parse_path(at): field for at, field in self.table.keys.items()}

    @cached_property
    def layout(self) -> Layout | None:
        """What describes files of this format, if they are binary."""
        return load_layout(self.layout_path) if self.table.layout else None

    @property
    def layout_path(self) -> str:
        """Where its layout is, beside the card."""
        return os.path.join(self.folder, self.table.layout)

    @cached_property
    def files(self) -> Patterns:
        """Which paths of an install are of this format."""
        return Patterns(tuple(self.table.files), any_case=self.any_case)

    @cached_property
    def scheme(self) -> Scheme:
        """How the format's versions are ordered."""
        return scheme(self.table.scheme)

    def written_by(self, build: Version) -> Version:
        """Return the format version a build writes.

        Raises:
            UsageError: the card says nothing about that build.
        """
        return self.scheme.parse(self._row(build).writes)

    @property
    def is_folder(self) -> bool:
        """Whether one thing of this format is a folder of files."""
        return self.table.codec == FOLDER

    def is_pack(self, names: Iterable[str]) -> bool:
        """Tell whether a folder with files of these names is of this format: one tells the version."""
        return self.is_folder and str(self.version_path[0]) in names

    def folders(self, tree: Tree) -> dict[str, list[str]]:
        """Return the folders of a tree that are of this format, each with the paths of its files."""
        patterns = [pattern.strip("/").split("/") for pattern in self.table.files]
        found: dict[str, list[str]] = {}
        for path in tree.files:
            parts = path.split("/")
            for wanted in patterns:
                head = parts[: len(wanted)]
                if len(head) < len(parts) and all(map(self.is_named, head, wanted)):
                    found.setdefault("/".join(head), []).append(path)
                    break
        return found

    def decode(self, data: bytes | Mapping[str, bytes], version: Version | None = None) -> Document:
        """Read a file of this format, or the files of a folder.

        `version` counts where files of a layout say it nowhere; without it, they are read in the newest
        that fits.

        Raises:
            FormatError: it is none.
        """
        if not isinstance(data, bytes):
            return decode_folder(data)
        if version is not None and self.layout is not None and self.layout.is_told_by_fit:
            return decode(data, self.table.codec, layout=self.layout, version=int(version.text))
        return decode(data, self.table.codec, layout=self.layout)

    @cached_property
    def version_path(self) -> Path:
        """Where a file says which version it is in; () if files of this format do not."""
        return parse_path(self.version_key) if self.version_key else ()

    @property
    def version_key(self) -> str:
        """The path of that as text: the card's, or that of the layout."""
        own = self.layout.version_path if self.layout is not None else None
        return self.table.version.key or (format_path(own) if own else "")

    @cached_property
    def versions(self) -> frozenset[Version]:
        """The versions the card knows: those that builds write or read, its layout's, its steps'."""
        known = {v for row in self.table.builds for v in (row.writes, *row.reads)}
        if self.layout is not None:
            known |= {str(v) for v in range(self.layout.low, self.layout.high + 1)}
        known |= {v for step in self.table.steps for v in (step.source, step.to)}
        return frozenset(map(self.scheme.parse, known))

    def version_of(self, document: Document, name: str = "") -> Version:
        """Return the version a document says it is in, or a file shows by what is in it, or by its name.

        Raises:
            FormatError: its number is missing, or none the card knows.
        """
        told = self._said(document, name)
        if told is None and self.table.version.default:
            return self.scheme.parse(self.table.version.default)
        if told is None and (fits := self._fits(document)):
            raise self._alike(fits, set())
        if told is None:
            key = self.version_key
            missing = f": there is no {key}" if key else ""
            raise VersionUntold(
                f"it does not say which format it is in{missing}",
                remedy=f"This may be no {self.name} file, or a damaged one.",
            )
        return told

    def sure_version_of(
        self, document: Document, builds: Iterable[Version] = (), *, name: str = ""
    ) -> Version:
        """Return the format version a file is in, by what it says, or by the builds that may have written it.

        The card's `default` counts only where such a build writes it: many formats have no version key
        in any version.

        Raises:
            VersionUntold: nothing tells it, or what there is contradicts itself.
        """
        told = self._said(document, name)
        if told is not None:
            return told
        written = {self.written_by(build) for build in builds}
        fits = self._fits(document)
        if fits and len(written & fits) != 1:
            raise self._alike(fits, written)
        default = self.table.version.default
        if len(written) == 1 and (not default or written == {self.scheme.parse(default)}):
            return written.pop()
        names = " or ".join(v.text for v in sorted(written))
        because = f"; the build would have written {names}" if written else ""
        if default:
            because += f"; the card takes such files for {default}"
        raise VersionUntold(
            f"it does not say which format version it is in{because}",
            remedy="Say it with `source=N`.",
        )

    def _alike(self, fits: set[Version], written: set[Version]) -> VersionUntold:
        """Return the error for a file that can be read in versions that nothing decides between."""
        known = " and ".join(each.text for each in sorted(fits))
        other = " or ".join(each.text for each in sorted(written))
        other = f", and the build would have written {other}" if written else ""
        many = " alike" if len(fits) > 1 else ""
        return VersionUntold(
            f"it can be read in format {known}{many}{other}",
            remedy="Say which it is with `source=N`.",
        )

    def _fits(self, document: Any) -> set[Version]:
        """Return the versions that a file can be read in, where only that tells it; else nothing."""
        if self.layout is None or not self.layout.is_told_by_fit:
            return set()
        return {self.scheme.parse(str(each)) for each in document.fits}

    def _said(self, document: Document, name: str) -> Version | None:
        """Return the version that a file says, or shows; None if it does neither."""
        return agreed(told_by(self, document, name))

    def text_of(self, version: Version) -> str:
        """Return what the version key says in files of a version.

        Raises:
            UsageError: the card has no value for it.
        """
        values = self.table.version.values
        if not values:
            return version.text
        found = [text for text, meant in values.items() if self.scheme.parse(meant) == version]
        if not found:
            raise UsageError(
                f"the card does not say what {self.version_key} is in format {version}",
                remedy=f"Add it to `values` of the version of {self.name}.",
            )
        return found[0]

    def evidence_of(self, document: Document, version: Version, name: str = "") -> str:
        """Return in words what tells the version of a file."""
        told = [each.what for each in told_by(self, document, name) if each.version == version]
        if told == [f"{self.version_key} = {version}"]:
            return told[0]
        if told:
            return f"{', and '.join(told)}, which means {version}"
        return f"there is no {self.version_key}, which means {version}"

    def is_named(self, name: str, pattern: str) -> bool:
        """Tell whether a name is as a pattern says, in the case that counts here."""
        return fnmatch(*((name.lower(), pattern.lower()) if self.any_case else (name, pattern)))

    def fits_name(self, name: str) -> bool:
        """Tell whether a file's name is as the last part of the format's patterns."""
        last = name.replace("\\", "/").rpartition("/")[2]
        return not self.is_folder and any(
            self.is_named(last, pattern.rpartition("/")[2]) for pattern in self.table.files
        )

    def read_by(self, build: Version) -> tuple[Version, ...]:
        """Return the format versions a build reads."""
        return tuple(self.scheme.parse(text) for text in self._row(build).reads)

    def _row(self, build: Version) -> BuildFormat:
        for row in self.table.builds:
            if build in VersionRange.parse(row.builds, self.builds):
                return row
        known = ", ".join(row.builds for row in self.table.builds)
        raise UsageError(
            f"the card says nothing about {self.name} files of build {build}",
            remedy=f"It knows the builds {known}.",
        )
