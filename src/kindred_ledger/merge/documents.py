"""Merging documents: leaf by leaf and record by record, written as edits of theirs.

Where the lines of a text merge cleanly and say what the values ask for, they are taken: so comments and
layout of both sides stay. Else theirs is edited, value by value. Either way the result is read again and
must hold the merged values, all of them and nothing else.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from msgspec import Struct

from ..errors import BooksUnbalanced, FormatError
from ..formats import ANY, Document, Path, format_path
from .comments import lost_comments
from .keys import Keys, same
from .lines import merge_lines
from .sides import ABSENT, Question
from .values import Asked, Decided, Edit, New, ValueMerge, merge_values, nobody

__all__ = ["DocumentMerge", "edit_document", "merge_documents", "values_of"]


_NESTED = frozenset((dict, list))


class DocumentMerge(Struct, frozen=True):
    """The merged bytes, empty while there are questions; the values, and what was decided.

    `base`, `mine`, `theirs` and `result` are plain values, the result's as it was read again. `by_lines`
    tells whether the lines of the texts were merged; `lost` are comments of mine that are not in the result.
    """

    data: bytes
    merge: ValueMerge
    base: Any = None
    mine: Any = None
    theirs: Any = None
    result: Any = None
    by_lines: bool = False
    lost: tuple[str, ...] = ()

    @property
    def questions(self) -> tuple[Question, ...]:
        """What nobody could decide."""
        return self.merge.questions

    @property
    def decided(self) -> tuple[Decided, ...]:
        """What was decided, a line each."""
        return self.merge.decided


def merge_documents(
    base: bytes | None,
    mine: bytes,
    theirs: bytes,
    *,
    decode: Callable[[bytes], Document],
    keys: Keys | None = None,
    asked: Asked = nobody,
    skip: Path = (),
    known: bool = True,
    is_text: bool = False,
) -> DocumentMerge:
    """Merge three files that `decode` reads; without a base both added it, or it is not `known`.

    `skip` is the path of the version theirs says it has; `is_text` says that they are made of lines.

    Raises:
        FormatError: one of them cannot be read, or the result cannot be written.
    """
    document = decode(theirs)
    old = ABSENT if base is None else values_of(decode(base))
    values = old, values_of(decode(mine)), values_of(document)
    merge = merge_values(*values, keys=keys, asked=asked, skip=skip, known=known)
    if merge.questions:
        return DocumentMerge(b"", merge, *values)
    if is_text and base is not None:
        lines = _by_lines(base, mine, theirs, decode, merge.value)
        if lines is not None:
            return DocumentMerge(lines, merge, *values, merge.value, by_lines=True)
    edit_document(document, merge.edits)
    data = document.encode()
    result = values_of(decode(data))
    if not same(result, merge.value):
        raise BooksUnbalanced("the merged file does not read back as it was merged")
    lost = lost_comments(base or b"", mine, data) if is_text else ()
    return DocumentMerge(data, merge, *values, result, lost=lost)


def values_of(document: Document) -> Any:
    """Return what a document holds as plain values, without what is computed from them: checksums, sizes."""
    value = document.get(())
    is_computed = getattr(document, "is_computed", None)
    if is_computed is None:
        return value
    known: dict[Path, bool] = {}  # the members of a list are alike

    def computed(path: Path) -> bool:
        pattern = tuple(ANY if isinstance(part, int) else part for part in path)
        if pattern not in known:
            known[pattern] = is_computed(path)
        return known[pattern]

    return _told((), value, computed)


def _told(path: Path, value: Any, computed: Callable[[Path], bool]) -> Any:
    if isinstance(value, dict):
        return {
            key: _told((*path, key), inner, computed)
            for key, inner in value.items()
            if isinstance(inner, (dict, list)) or not computed((*path, key))
        }
    if isinstance(value, list) and _is_bare(path, value, computed):
        return value
    if isinstance(value, list):
        return [_told((*path, at), inner, computed) for at, inner in enumerate(value)]
    return value


def _is_bare(path: Path, value: list[Any], computed: Callable[[Path], bool]) -> bool:
    """Tell whether a list holds records of the same scalars, none of which is computed."""
    if not value or not isinstance(value[0], dict):
        return False
    names = value[0].keys()
    return not any(computed((*path, 0, name)) for name in names) and all(
        isinstance(each, dict)
        and each.keys() == names
        and _NESTED.isdisjoint(map(type, each.values()))
        for each in value
    )


def _by_lines(
    base: bytes, mine: bytes, theirs: bytes, decode: Callable[[bytes], Document], wanted: Any
) -> bytes | None:
    """Return the merged lines, if they merge and hold the wanted values and nothing twice."""
    try:
        lines = merge_lines(base, mine, theirs)
        if lines.conflicts:
            return None
        document = decode(lines.data)
        read = same(values_of(document), wanted) and not _says_twice(document)
    except FormatError:
        return None
    return lines.data if read else None


def _says_twice(document: Document) -> bool:
    """Tell whether a key stands twice in one mapping: readers differ in which they take."""
    tell: Callable[[], bool] | None = getattr(document, "repeats_keys", None)
    if tell is not None:
        return tell()
    paths = [leaf.path for leaf in document.leaves()]
    return len(set(paths)) < len(paths)


def edit_document(document: Document, edits: Iterable[Edit]) -> None:
    """Carry out edits of theirs, in their order: what is inside a list comes before the list."""
    for edit in edits:
        if edit.kind == "set":
            _set(document, edit.path, edit.value)
        elif edit.kind == "remove":
            document.remove(edit.path)
        else:
            _rearrange(document, edit.path, edit.order)


def _set(document: Document, path: Path, value: Any) -> None:
    """Put a value; where it is not taken as a whole, key by key and element by element."""
    try:
        document.set(path, value, note="yours")
    except FormatError:
        if isinstance(value, dict) and value:
            for key, inner in value.items():
                _set(document, (*path, key), inner)
        elif isinstance(value, list) and value:
            for at, inner in enumerate(value):
                _set(document, (*path, at), inner)
        else:
            raise


def _rearrange(document: Document, path: Path, order: tuple[Any, ...]) -> None:
    """Have a list hold the members of theirs that `order` names, and new ones, in that order."""
    count = len(document.get(path))
    kept = [each for each in order if not isinstance(each, New)]
    for at in sorted(set(range(count)) - set(kept), reverse=True):
        document.remove((*path, at))
    place = {at: number for number, at in enumerate(sorted(kept))}
    behind = len(kept)
    wanted = []
    for each in order:
        if isinstance(each, New):
            _set(document, (*path, behind), each.value)
            wanted.append(behind)
            behind += 1
        else:
            wanted.append(place[each])
    if wanted != sorted(wanted):
        try:
            document.reorder(path, wanted)
        except FormatError as error:
            raise FormatError(
                f"members cannot be put where they belong: {error.what}",
                where=format_path(path) or "the document",
            ) from error
