"""Proof: what was made is read again, and compared with both saves, thing by thing and link by link.

What always holds: nothing here asks what the setting in noted; both saves and the result are read anew from
their bytes, and the links of the result are resolved as those of any save.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ...errors import BooksUnbalanced, FormatError
from ...formats import (
    Document,
    LayoutDocument,
    Path,
    Values,
    Words,
    as_tabular,
    distinct,
    format_path,
    parse_path,
)
from ...progress import Task
from ...statement import Line, Outcome, Statement
from .fates import BUNDLED, EMPTIED, MOVED, STAYS, TO_MATCHED, TO_MOVED, Fates, goes_from_list
from .setting_in import SettingIn
from .thing_table import ColumnTable, RecordTable, ThingTable
from .things import NOTHING, NOWHERE, Link, Things, leaves_beside
from .totals import Totals

__all__ = ["books_of", "prove"]


def prove(made: Things, old: Things, new: Things, setting: SettingIn, task: Task) -> None:
    """Raise unless a result has all things of the new game as they were, and all that moves as it is meant.

    `made`, `old` and `new` were read anew; `setting` says which things move, and where to.

    Raises:
        BooksUnbalanced: it has something else.
    """
    if made.findings:
        _fail(made, made.findings[0].what)
    for kind in made.kinds:
        task.tell(kind)
        moved = len(setting.order[kind])
        if made.count(kind) != new.count(kind) + moved:
            _fail(
                made,
                f"{kind}: {made.count(kind):,} are there; {new.count(kind):,} were in the new game and"
                f" {moved:,} move",
            )
        _same_as_before(made, new, setting, kind)
        if moved:
            _as_meant(made, old, new, setting, kind)
        task.advance()
    for link in made.links:
        _leads_as_meant(made, old, new, setting, link)
        task.advance()
    for finding in Totals(made).differing():
        _fail(made, finding.what)
    _rest_stays(made, new, setting)


def _fail(things: Things, what: str) -> None:
    raise BooksUnbalanced(f"the result is not what was meant: {what}", where=things.where)


def _same_as_before(made: Things, new: Things, setting: SettingIn, kind: str) -> None:
    """Compare the things that the new game had, all but links that lead to what was set in now."""
    before, after = new.tables[kind], made.tables[kind]
    mended = {mend.field: mend.rows for mend in setting.mends if mend.of == kind}
    every = np.arange(before.count)
    for field in _fields(before, every):
        rows = np.setdiff1d(every, mended[field]) if field in mended else every
        if not _alike(before, rows, after, rows, field):
            _fail(made, f"{field} of {kind} is otherwise than in the new game")


def _as_meant(made: Things, old: Things, new: Things, setting: SettingIn, kind: str) -> None:
    """Compare the things that moved, all but their links and ids, which stand for others now."""
    before, after = old.tables[kind], made.tables[kind]
    order = setting.order[kind]
    behind = np.arange(new.count(kind), made.count(kind))
    rule = old.rule(kind)
    theirs = {str(parse_path(link.field)[0]) for link in old.links_of(kind)}
    positions = {rule.x: "x", rule.z: "z"} if kind in setting.places else {}
    for field in _fields(before, order):
        if field in theirs or field == rule.id:
            continue
        if field in positions:
            meant = getattr(setting.places[kind], positions[field])[order]
            if not np.array_equal(after.measures(field)[behind], meant):
                _fail(made, f"{field} of {kind} is not where it was meant to be")
        elif not _alike(before, order, after, behind, field):
            _fail(made, f"{field} of {kind} is otherwise than in the old game")


def _fields(table: ThingTable, rows: Any) -> list[str]:
    """Return the fields that things have, at their top."""
    if isinstance(table, ColumnTable):
        return list(table.columns.cells)
    assert isinstance(table, RecordTable)
    names: dict[str, None] = {}
    for row in rows.tolist():
        names.update(dict.fromkeys(table.records[row]))
    return [format_path((name,)) for name in names]


def _alike(one: ThingTable, rows: Any, other: ThingTable, behind: Any, field: str) -> bool:
    """Tell whether a field has the same values in some rows of two tables."""
    if isinstance(one, ColumnTable) and isinstance(other, ColumnTable):
        name = str(parse_path(field)[0])
        if name not in other.columns.cells:
            return False
        pair = one.columns.cells[name], other.columns.cells[name]
        if one.columns.kind(name) == other.columns.kind(name) and not _only_here(one, name):
            first, second = pair[0][rows], pair[1][behind]
            if hasattr(first, "differ"):
                return not first.differ(second).any() or _equal(one, rows, other, behind, name)
            if hasattr(first, "dtype") and first.dtype == second.dtype:
                return bool(first.tobytes() == second.tobytes())
        return _equal(one, rows, other, behind, name)
    path = parse_path(field)
    return all(
        _plain(one, row, path) == _plain(other, at, path)
        for row, at in zip(rows.tolist(), behind.tolist(), strict=True)
    )


def _only_here(table: ColumnTable, name: str) -> bool:
    return name in table.columns.only_here


def _equal(one: ColumnTable, rows: Any, other: ColumnTable, behind: Any, name: str) -> bool:
    if one.columns.is_nested(name):
        first, second = one.lists(name), other.lists(name)
        pairs = zip(rows.tolist(), behind.tolist(), strict=True)
        return all(first[row] == second[at] for row, at in pairs)
    return _listed(one.values(name), rows) == _listed(other.values(name), behind)


def _plain(table: ThingTable, row: int, path: Any) -> Any:
    if isinstance(table, RecordTable):
        return table.records[row].get(path[0])
    document = table.document
    where = (*table.path_of(row), path[0])
    return document.get(where) if document.find(where) else None


def _listed(column: Any, rows: Any) -> list[Any]:
    if not isinstance(column, (Values, Words)):
        plain: list[Any] = column[rows].tolist()
        return plain
    found = Values(column.codes, column.texts) if isinstance(column, Words) else distinct(column)
    return [found.values[code] for code in found.codes[rows].tolist()]


# ---- links -----------------------------------------------------------------------------------


def _leads_as_meant(made: Things, old: Things, new: Things, setting: SettingIn, link: Link) -> None:
    """Compare where the links of one field of the result lead."""
    first = new.count(link.of)
    mine = link.rows >= first
    theirs = next((each for each in new.links if _is_same(each, link)), None)
    if theirs is not None or (~mine).any():
        kind, row = _as_it_was(theirs, setting)
        if not np.array_equal(link.kind[~mine], kind) or not np.array_equal(link.row[~mine], row):
            _fail(made, f"{link.field} of {link.of} leads elsewhere than in the new game")
    if (link.kind[mine] == NOWHERE).any():
        row = int(link.rows[mine][(link.kind[mine] == NOWHERE).argmax()])
        _fail(made, f"{link.field} of {made.told(link.of, (row,))[0]} leads nowhere")
    source = next((each for each in old.links if _is_same(each, link)), None)
    if source is None:
        if mine.any():
            _fail(made, f"{link.field} of {link.of} was not in the old game")
        return
    kinds, rows = _meant(old, new, setting, source)
    if not np.array_equal(link.kind[mine], kinds) or not np.array_equal(link.row[mine], rows):
        _fail(made, f"{link.field} of {link.of} does not lead to what it led to")


def _as_it_was(link: Link | None, setting: SettingIn) -> tuple[Any, Any]:
    """Return where the links of the new game lead, those included that lead to what was set in now."""
    if link is None:
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    kind, row = link.kind.copy(), link.row.copy()
    for mend in setting.mends:
        if (mend.of, mend.field) == (link.of, link.field):
            kind[mend.rows] = setting.old.kinds.index(mend.kind)
            at = np.searchsorted(setting.order[mend.kind], mend.leads_to)
            row[mend.rows] = setting.new.count(mend.kind) + at
    return kind, row


def _is_same(one: Link, other: Link) -> bool:
    return (one.of, one.field) == (other.of, other.field)


def _meant(old: Things, new: Things, setting: SettingIn, link: Link) -> tuple[Any, Any]:
    """Return to which kind and thing of the result each link of what moves leads: `(m,)` each."""
    ends = setting.fates.ends(link)
    kinds = np.where((ends.end == TO_MOVED) | (ends.end == TO_MATCHED), link.kind, NOTHING)
    rows = np.where(ends.end == TO_MATCHED, ends.there, -1)
    for number in link.kinds:
        kind = old.kinds[number]
        some = link.leads_to(number) & (ends.end == TO_MOVED)
        at = np.searchsorted(setting.order[kind], link.row[some])
        rows[some] = new.count(kind) + at
    moves = setting.fates.state[link.of][link.rows] == MOVED
    if goes_from_list(link):
        moves &= ends.end != EMPTIED
    return kinds[moves], rows[moves]


# ---- what is no thing ------------------------------------------------------------------------


def _rest_stays(made: Things, new: Things, setting: SettingIn) -> None:
    """Compare what is in neither a list of things nor a counter or total."""
    rules = new.rules
    changed = {parse_path(path) for path in (*setting.next, *rules.carry)}
    changed |= {parse_path(row.at) for row in rules.totals}
    terrain = rules.terrain.at if rules.terrain is not None else ""
    if terrain and not _same_terrain(made.document, new.document, parse_path(terrain)):
        _fail(made, f"{terrain} is otherwise than in the new game")
    before, after = ({leaf.path: leaf.text for leaf in leaves_beside(each)} for each in (new, made))
    for path in dict.fromkeys((*before, *after)):
        if before.get(path) == after.get(path) or any(path[: len(at)] == at for at in changed):
            continue
        if not _follows(made.document, new.document, path):
            _fail(made, f"{format_path(path)} is otherwise than in the new game")
    source = setting.old.document
    for carried in map(parse_path, rules.carry):
        if source.find(carried) and made.document.get(carried) != source.get(carried):
            _fail(made, f"{format_path(carried)} is not that of the old game")


def _follows(made: Document, new: Document, path: Path) -> bool:
    """Tell whether a value is another because of what was set in: a count or checksum, a pool that grew."""
    if not isinstance(made, LayoutDocument):
        return False
    if made.follows(path):
        return True
    if not made.is_pool(path) or not new.find(path):
        return False
    return bool(made.get(path).startswith(new.get(path)))


def _same_terrain(made: Document, new: Document, path: Any) -> bool:
    columns = []
    for document in (made, new):
        tabular = as_tabular(document)
        found = tabular.open_columns(path) if tabular is not None else None
        if found is None or "value" not in found.cells:
            return bool(made.get(path) == new.get(path))
        columns.append(np.asarray(found.read("value")))
    return bool(np.array_equal(columns[0], columns[1]))


# ---- books -----------------------------------------------------------------------------------


def books_of(fates: Fates, made: Things, old: Things, new: Things) -> tuple[Statement, Statement]:
    """Return the accounts of the things of the old game and of the new one, both sides counted anew.

    Raises:
        BooksUnbalanced: they do not balance.
    """
    lines: list[Line] = []
    more: list[Line] = []
    for kind in old.kinds:
        state = fates.state[kind]
        matched = fates.matched(kind) & (state == STAYS)
        moved = int((state == MOVED).sum())
        if moved:
            lines.append(Line(Outcome.CHANGED, kind, "moved into the new game", count=moved))
            more.append(Line(Outcome.ADDED, kind, "out of the old game", count=moved))
        if matched.any():
            many = int(matched.sum())
            lines.append(Line(Outcome.LEFT_ALONE, kind, "matched: the new game has it", count=many))
        for number in np.unique(fates.why[kind][state == BUNDLED]).tolist():
            many = int(((state == BUNDLED) & (fates.why[kind] == number)).sum())
            reason = f"waits in the bundle: {fates.reasons[number]}"
            lines.append(Line(Outcome.LEFT_ALONE, kind, reason, count=many))
        rest = int(((state == STAYS) & ~matched).sum())
        if rest:
            lines.append(
                Line(Outcome.LEFT_ALONE, kind, "stays behind: it is not yours", count=rest)
            )
        if new.count(kind):
            more.append(Line(Outcome.UNCHANGED, kind, count=new.count(kind)))
    counts_old = {kind: old.count(kind) for kind in old.kinds if old.count(kind)}
    counts_new = {kind: new.count(kind) for kind in new.kinds if new.count(kind)}
    counts_made = {kind: made.count(kind) for kind in made.kinds if made.count(kind)}
    came = {
        kind: many - counts_new.get(kind, 0)
        for kind, many in counts_made.items()
        if many > counts_new.get(kind, 0)
    }
    return (
        Statement(f"the old game, {old.where}", "things", tuple(lines)).balanced(counts_old, came),
        Statement(f"the new game, {new.where}", "things", tuple(more)).balanced(
            counts_new, counts_made
        ),
    )


def read_error(error: FormatError, where: str) -> BooksUnbalanced:
    """Return the error for a result that cannot be read."""
    return BooksUnbalanced(f"what was made cannot be read again: {error.what}", where=where)
