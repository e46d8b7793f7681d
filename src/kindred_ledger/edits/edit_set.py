"""Edit set: what somebody changed in the files of a release, as a file of its own.

It is TOML that people read, keep and share. `[[files]]` says which files were edited and what each was; the
edits themselves are values with the places they stand at (`[[values]]`), runs of lines (`[[lines]]`), or
whole files by digest, whose contents lie beside, in a folder of the same name. `[[records]]` is what an
edited record held before, so that it can be found again when what names it changed.
"""

from __future__ import annotations

import base64
import csv
import io
import math
import os
import tomllib
from collections.abc import Callable, Iterable, Mapping
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

import msgspec
from blake3 import blake3
from msgspec import Struct, field
from msgspec.structs import astuple, replace

from ..errors import UsageError
from ..finding import Finding
from ..merge import ABSENT, Difference, Named, name_of, read_at, told, write_at
from ..places import check_portable, refusals, write_atomic
from ..small_files import read_small
from ..wording import count

__all__ = ["EditRow", "EditSet", "EditedFile", "LineEdit", "SetRecord", "ValueEdit"]

FORMAT = 1
_LARGEST = 256 << 20
_NOT_EXACT = "the values are in the set; comments, spaces or an order of yours are not"
_TOLD_WHOLE = "kept as a whole: what changed in it is not told by values"
_KINDS = ("values", "lines", "whole", "added", "removed")


class EditedFile(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A file with edits: how they are told, and what it was: its digest and format before them.

    `kind` is values, lines, whole (another content), added or removed; `after` is the digest of the content
    of what is whole or added. In a `restyled` file comments, spaces or an order were
    changed beside the values.

    >>> edits = kl.take_edits(install, old="downloads/mossferry-1.4.zip", ledger=ledger)
    >>> edits.files[0].kind, edits.files[0].codec
    ('values', 'ini')
    """

    file: str
    kind: str
    before: str = ""
    after: str = ""
    codec: str = ""
    format: str = ""
    restyled: bool = False


class ValueEdit(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A value that was set, added (no `before`) or removed (no `after`); `behind` is the record before it.

    >>> edit = kl.ValueEdit("program/data/tides.ini", "Tides.spring", "2.40", "3.10")
    >>> edit.difference().name
    'Tides.spring'
    """

    file: str
    at: str
    before: Any = ABSENT
    after: Any = ABSENT
    behind: str = ""

    def difference(self) -> Difference:
        """Return it as a difference of two sides."""
        behind = read_at(self.behind)[0] if self.behind else None
        return Difference(
            read_at(self.at),
            self.before,
            self.after,
            behind if isinstance(behind, Named) else None,
        )


class SetRecord(Struct, frozen=True, forbid_unknown_fields=True):
    """What a record that was edited held before.

    >>> kl.SetRecord("program/tables/goods.xml", "good[@id=peat]", {"@id": "peat", "@price": "12"}).at
    'good[@id=peat]'
    """

    file: str
    at: str
    content: Any


class LineEdit(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Lines that stood in a text, those that stand there now, and some above and below them.

    >>> kl.LineEdit("notice.txt", ("No peat.",), ("No peat, Tobias!",), above=("Mind the step.",)).after
    ('No peat, Tobias!',)
    """

    file: str
    before: tuple[str, ...] = ()
    after: tuple[str, ...] = ()
    above: tuple[str, ...] = ()
    below: tuple[str, ...] = ()


class EditRow(Struct, frozen=True):
    """One edit as texts, for people: the file, what was done, where, and the value before and after.

    >>> row = kl.take_edits(install, old="downloads/mossferry-1.4.zip", ledger=ledger).rows()[0]
    >>> row.where, row.before, row.after
    ('Tides.spring', '2.40', '3.10')
    """

    file: str
    what: str
    where: str
    before: str
    after: str


class EditSet(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Somebody's edits of one title, made on the release `base`; `contents` are whole files by digest.

    >>> edits = kl.take_edits(install, old="downloads/mossferry-1.4.zip", ledger=ledger)
    >>> [each.file for each in edits.files], len(edits.values)
    (['program/data/tides.ini'], 2)
    """

    edits: int = FORMAT
    title: str = ""
    base: str = ""
    version: str = ""
    by: str = ""
    note: str = ""
    files: tuple[EditedFile, ...] = ()
    values: tuple[ValueEdit, ...] = ()
    lines: tuple[LineEdit, ...] = ()
    records: tuple[SetRecord, ...] = ()
    contents: Mapping[str, bytes] = field(default_factory=dict)

    def __repr__(self) -> str:
        return f"<EditSet {self}>"

    def __str__(self) -> str:
        """Return it in a line.

        "3 edits in 2 files of mossferry 1.4"
        """
        of = " ".join(filter(None, (self.title, self.version)))
        where = f" in {count(len(self.files), 'file')}" + (f" of {of}" if of else "")
        return f"{count(self.size, 'edit')}{where}"

    @property
    def size(self) -> int:
        """How many edits there are: values, runs of lines, whole files."""
        whole = sum(each.kind in ("whole", "added", "removed") for each in self.files)
        return len(self.values) + len(self.lines) + whole

    @staticmethod
    def load(path: str | os.PathLike[str]) -> EditSet:
        """Read an edit set, and the contents beside it.

        Raises:
            UsageError: it is none, or of a newer format.
            PlaceError: it cannot be read.
        """
        where = os.fspath(path)
        if not os.path.lexists(where):
            raise UsageError("there is no such edit set", where=where, remedy="Check the path.")
        try:
            text = read_small(where, most=_LARGEST).decode()
            plain = tomllib.loads(text, parse_float=Decimal)
            newer = plain.get("edits", 0)
            if isinstance(newer, int) and newer > FORMAT:
                raise UsageError(
                    f"this edit set is of format {newer}, which this kindred does not read",
                    where=where,
                    remedy="Update kindred.",
                )
            if "edits" not in plain:
                raise UsageError("this is no edit set: it does not say `edits = 1`", where=where)
            found = _read_set(plain)
        except (UnicodeDecodeError, tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
            raise UsageError(
                f"this is no edit set: {error}", where=where, remedy="Take one: kindred edits take"
            ) from error
        return replace(found, contents=_contents(found, where))

    def save(self, path: str | os.PathLike[str]) -> None:
        """Write the set, and contents of whole files in a folder beside it.

        Raises:
            PlaceError: the system refuses.
        """
        where = os.fspath(path)
        with refusals(where):
            for digest, data in self.contents.items():
                folder = _beside(where)
                os.makedirs(folder, exist_ok=True)
                if not os.path.exists(os.path.join(folder, digest)):
                    write_atomic(os.path.join(folder, digest), data)
            write_atomic(where, self.to_toml().encode())

    def to_toml(self) -> str:
        """Return the text of the set."""
        import tomli_w

        plain = {
            name: getattr(self, name)
            for name in ("edits", "title", "base", "version", "by", "note")
            if getattr(self, name)
        }
        for name in ("files", "values", "lines", "records"):
            rows = [_row(each) for each in getattr(self, name)]
            if rows:
                plain[name] = rows
        return tomli_w.dumps(plain, multiline_strings=False)

    def only(self, wanted: Callable[[str, str], bool]) -> EditSet:
        """Return the edits that `wanted` picks, by file and the name of the place in it."""
        values = tuple(v for v in self.values if wanted(v.file, name_of(read_at(v.at))))
        lines = tuple(one for one in self.lines if wanted(one.file, ""))
        inside = {*(each.file for each in values), *(each.file for each in lines)}
        files = tuple(
            f
            for f in self.files
            if (f.file in inside if f.kind in ("values", "lines") else wanted(f.file, ""))
        )
        kept = {f.after for f in files}
        places = {(each.file, _record_of(each.at)) for each in values}
        return replace(
            self,
            files=files,
            values=values,
            lines=lines,
            records=tuple(r for r in self.records if (r.file, r.at) in places),
            contents={digest: data for digest, data in self.contents.items() if digest in kept},
        )

    def rows(self) -> list[EditRow]:
        """Return every edit as a row of texts: the file, what was done, where, and the value on each side."""
        rows = [
            EditRow(
                each.file,
                "added"
                if each.before is ABSENT
                else "removed"
                if each.after is ABSENT
                else "changed",
                name_of(read_at(each.at)) or "the whole",
                told(each.before),
                told(each.after),
            )
            for each in self.values
        ]
        rows += [
            EditRow(
                each.file,
                "added" if not each.before else "removed" if not each.after else "changed",
                f"behind {each.above[-1].strip()!r}" if each.above else "the first lines",
                " / ".join(each.before),
                " / ".join(each.after),
            )
            for each in self.lines
        ]
        kinds = {"whole": "replaced", "added": "added", "removed": "removed"}
        rows += [
            EditRow(each.file, kinds[each.kind], "the file", each.before[:16], each.after[:16])
            for each in self.files
            if each.kind in kinds
        ]
        return rows

    def to_csv(self) -> str:
        """Return the rows as CSV (RFC 4180) with a line of heads."""
        out = io.StringIO()
        table = csv.writer(out)
        table.writerow(EditRow.__struct_fields__)
        table.writerows(astuple(row) for row in self.rows())
        return out.getvalue()

    def to_json(self) -> dict[str, Any]:
        """Return the set as plain values, each edit as a row of texts; contents are left out."""
        return {
            "title": self.title,
            "version": self.version,
            "base": self.base,
            "by": self.by,
            "note": self.note,
            "size": self.size,
            "files": [each.file for each in self.files],
            "edits": [msgspec.to_builtins(row) for row in self.rows()],
        }

    def findings(self) -> tuple[Finding, ...]:
        """Return what is wrong with the set, contents that are not beside it, and what it leaves out."""
        lacking = [f.file for f in self.files if f.after and f.after not in self.contents]
        return (
            *(
                Finding.error(
                    "content-missing", "its content is not beside the edit set", where=path
                )
                for path in lacking
            ),
            *(
                Finding.note("told-whole", _TOLD_WHOLE, where=file.file)
                for file in self.files
                if file.kind == "whole"
            ),
            *(
                Finding.note("comments-stay", _NOT_EXACT, where=file.file)
                for file in self.files
                if file.restyled
            ),
        )


def _record_of(at: str) -> str:
    """Return the place of the innermost record that a place lies in; "" for none."""
    parts = read_at(at)
    for number in range(len(parts) - 1, -1, -1):
        if isinstance(parts[number], Named):
            return write_at(parts[: number + 1])
    return ""


def _beside(path: str) -> str:
    return os.path.splitext(path)[0]


def _contents(found: EditSet, where: str) -> dict[str, bytes]:
    contents = {}
    for each in found.files:
        if not each.after:
            continue
        path = os.path.join(_beside(where), os.path.basename(each.after))
        if os.path.isfile(path):
            data = read_small(path, most=_LARGEST)
            if blake3(data).hexdigest() != each.after:
                raise UsageError(
                    "this content is damaged: it is not what its name says",
                    where=path,
                    remedy="Get the edit set again.",
                )
            contents[each.after] = data
    return contents


# ---- values as TOML has them -------------------------------------------------------------------


def _row(each: Struct) -> dict[str, Any]:
    row: dict[str, Any] = {}
    for name in each.__struct_fields__:
        value = getattr(each, name)
        is_side = isinstance(each, ValueEdit) and name in ("before", "after")
        if value is ABSENT or (value in ("", (), False) and not is_side):
            continue
        row[name] = _plain(value)
    return row


def _plain(value: Any) -> Any:
    """Return a value as TOML can say it; what it cannot say is marked by a key with a dollar."""
    if value is None:
        return {"$null": True}
    if isinstance(value, bool | str | int | Decimal | datetime | date | time):
        return value
    if isinstance(value, float):
        return {"$float": repr(value) if math.isfinite(value) else str(value)}
    if isinstance(value, bytes):
        return {"$bytes": base64.b64encode(value).decode()}
    if isinstance(value, dict):
        plain = {str(key): _plain(inner) for key, inner in value.items()}
        odd = any(not isinstance(key, str) for key in value)
        if odd or any(key.startswith("$") for key in plain):
            return {"$pairs": [[_plain(key), _plain(inner)] for key, inner in value.items()]}
        return plain
    if isinstance(value, list | tuple):
        return [_plain(each) for each in value]
    raise UsageError(f"a value of the kind {type(value).__name__} cannot be kept in an edit set")


def _real(value: Any) -> Any:
    if isinstance(value, list):
        return [_real(each) for each in value]
    if not isinstance(value, dict):
        return value
    if len(value) == 1:
        ((key, inner),) = value.items()
        if key == "$null":
            return None
        if key == "$float":
            return float(inner)
        if key == "$bytes":
            return base64.b64decode(inner)
        if key == "$pairs":
            return {_real(name): _real(each) for name, each in inner}
    return {key: _real(inner) for key, inner in value.items()}


def _read_set(plain: dict[str, Any]) -> EditSet:
    def rows(name: str) -> Iterable[dict[str, Any]]:
        found = plain.pop(name, [])
        if not isinstance(found, list) or not all(isinstance(row, dict) for row in found):
            raise msgspec.ValidationError(f"{name} are no rows")
        return found

    def texts(row: dict[str, Any], names: Iterable[str]) -> dict[str, Any]:
        for name in names:
            if not isinstance(row.get(name, ""), str):
                raise msgspec.ValidationError(f"`{name}` is no text in {row}")
        return row

    values = []
    for row in rows("values"):
        texts(row, ("file", "at", "behind"))
        unknown = row.keys() - {"file", "at", "before", "after", "behind"}
        if unknown or "at" not in row or not row.get("file"):
            raise msgspec.ValidationError(f"an edit of a value needs file and at, no more: {row}")
        sides = {name: _real(row[name]) for name in ("before", "after") if name in row}
        if not sides:
            raise msgspec.ValidationError(f"an edit has neither `before` nor `after`: {row}")
        read_at(row["at"])
        values.append(ValueEdit(row["file"], row["at"], behind=row.get("behind", ""), **sides))
    records = [
        SetRecord(row["file"], row["at"], _real(row["content"]))
        for row in rows("records")
        if texts(row, ("file", "at")) and {"file", "at", "content"} <= row.keys()
    ]
    lines = msgspec.convert(rows("lines"), tuple[LineEdit, ...])
    files = msgspec.convert(rows("files"), tuple[EditedFile, ...])
    for file in files:
        check_portable(file.file)
        if file.kind not in _KINDS:
            raise msgspec.ValidationError(f"{file.kind!r} is no kind of edit, of {file.file}")
    lacking = {*(v.file for v in values), *(one.file for one in lines)} - {f.file for f in files}
    if lacking:
        raise msgspec.ValidationError(f"{min(lacking)} has edits and is not among the files")
    plain.pop("contents", None)
    head = msgspec.convert(plain, EditSet)
    return replace(head, files=files, values=tuple(values), lines=lines, records=tuple(records))
