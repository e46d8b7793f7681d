"""Bundle: what the new game cannot hold yet, kept to be set in later; docs/long-games.md has the format.

What always holds: a bundle reads back as it was written, or not at all: its digest is checked. What its
things refer to stands in it, by name and by the id it has in the new game.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from decimal import Decimal
from typing import Any

import msgspec
import numpy as np
from blake3 import blake3
from msgspec import Struct
from msgspec.structs import replace

from ...cards.transplant_models import TransplantTable
from ...errors import FormatError
from ...formats import Document, decode, parse_path
from .fates import BUNDLED, EMPTIED, MOVED, Fates
from .selection import Selected
from .setting_in import Mend, SettingIn
from .thing_table import WholeNumbers
from .things import NOTHING, Things, Vocabulary, read_things

__all__ = [
    "Bundle", "BundledKind", "bundle_of", "known_things", "mends_of", "read_bundle", "waiting_things",
]  # fmt: skip

_FORMAT = 1
_ENCODER = msgspec.json.Encoder(decimal_format="number")


class BundledKind(Struct, frozen=True):
    """Things of one kind: `records` of those that wait, each with `why`, and of what they refer to.

    The first `waiting` records wait; the others are only named. `now` says which id things of the others have
    in the new game, by their place.

    >>> kl.BundledKind("crew", [{"id": 3, "name": "Tam"}], 1, ["nothing holds it"], {}).waiting
    1
    """

    kind: str
    records: list[dict[str, Any]]
    waiting: int
    why: list[str]
    now: dict[str, Any]


class Bundle(Struct, frozen=True):
    """Things that wait to be set into a save of the format and version named, with links between them.

    `rules` is the name of the rules of the card by which it was made, `by` those rules as they were.
    `mend` are links of things in the new game that should lead to what waits: kind, id, field, kind, place.
    `digest` is the BLAKE3 of everything else.

    >>> kl.read_bundle(bundle.packed()) == bundle
    True
    """

    title: str
    rules: str
    format: str
    format_version: str
    out_of: str
    out_of_digest: str
    into: str
    kinds: list[BundledKind]
    mend: list[tuple[str, Any, str, str, int]]
    by: dict[str, Any]
    bundle: int = _FORMAT
    digest: str = ""

    @property
    def waiting(self) -> dict[str, int]:
        """How many things of each kind wait."""
        return {each.kind: each.waiting for each in self.kinds if each.waiting}

    def packed(self) -> bytes:
        """Return it as a file: JSON in UTF-8, indented."""
        return msgspec.json.format(_ENCODER.encode(self), indent=1) + b"\n"

    def sealed(self) -> Bundle:
        """Return it with its digest."""
        return replace(self, digest=self._digest())

    def _digest(self) -> str:
        return blake3(_ENCODER.encode(replace(self, digest=""))).hexdigest()

    def document(self, rules: TransplantTable) -> Document:
        """Return its things as a save that holds nothing else."""
        top: dict[str, Any] = {}
        for each in self.kinds:
            path = parse_path(rules.things[each.kind].at)
            holder = top
            for part in path[:-1]:
                holder = holder.setdefault(str(part), {})
            holder[str(path[-1])] = each.records
        return decode(_ENCODER.encode(top), "json")


def read_bundle(data: bytes, *, where: str = "") -> Bundle:
    """Read a bundle.

    Raises:
        FormatError: it is none, of a newer format, or was changed since it was written.
    """
    try:
        plain = msgspec.json.Decoder(float_hook=Decimal).decode(data)
        number = plain.get("bundle") if isinstance(plain, dict) else None
        if number != _FORMAT:
            told = f"this is {number}" if number is not None else "this says no number"
            raise FormatError(
                f"bundles of format {_FORMAT} are read, {told}",
                where=where,
                remedy="Update this program, or name another file.",
            )
        found = msgspec.convert(plain, Bundle)
    except msgspec.MsgspecError as error:
        raise FormatError(f"this is no bundle: {error}", where=where) from error
    if found.digest != found._digest():
        raise FormatError(
            "the bundle is not as it was written: its digest does not fit",
            where=where,
            remedy="Make it again: run the transplant anew, or take it from the ledger.",
        )
    return found


# ---- making one ------------------------------------------------------------------------------


def bundle_of(setting: SettingIn, told: Mapping[str, Any]) -> Bundle | None:
    """Return what waits after things were set in; None if nothing does. `told` are the texts of a bundle."""
    fates = setting.fates
    old = fates.old
    waiting = {kind: fates.rows(kind, BUNDLED).tolist() for kind in old.kinds}
    if not any(waiting.values()):
        return None
    others: dict[str, dict[int, Any]] = {kind: {} for kind in old.kinds}
    for link in old.links:
        waits = fates.state[link.of][link.rows] == BUNDLED
        for at in np.flatnonzero(waits & (link.kind >= 0)).tolist():
            kind, row = old.kinds[int(link.kind[at])], int(link.row[at])
            if fates.state[kind][row] != BUNDLED:
                others[kind].setdefault(row, _now(setting, kind, row))
    place = {kind: {row: at for at, row in enumerate(rows)} for kind, rows in waiting.items()}
    kinds = []
    for kind in old.kinds:
        rows = waiting[kind]
        named = sorted(others[kind])
        if not rows and not named:
            continue
        records = [old.tables[kind].record(row) for row in rows]
        records += [_stand_in(old, kind, row) for row in named]
        now = {
            str(len(rows) + at): others[kind][row]
            for at, row in enumerate(named)
            if others[kind][row] is not None
        }
        why = [fates.reasons[int(fates.why[kind][row])] for row in rows]
        kinds.append(BundledKind(kind, records, len(rows), why, now))
    return Bundle(kinds=kinds, mend=_mends(setting, place), **told).sealed()


def _now(setting: SettingIn, kind: str, row: int) -> Any:
    """Return the id that a thing of the old game has in the new one; None if it is not there."""
    fates = setting.fates
    if fates.state[kind][row] == MOVED:
        at = int(np.searchsorted(setting.order[kind], row))
        return setting._values_of(kind, setting.ids[kind][at : at + 1])[0]
    match = int(fates.matches[kind][row])
    if match < 0:
        fates.match_more(kind, row)
        match = int(fates.matches[kind][row])
    if match < 0:
        return None
    ids = fates.new.ids[kind]
    number = int(ids.numbers[match])
    return setting.vocabulary.values[number] if ids.named else number


def _stand_in(old: Things, kind: str, row: int) -> dict[str, Any]:
    """Return what tells which thing is meant: its id, name, position, and what it is matched by."""
    rule = old.rule(kind)
    out: dict[str, Any] = {}
    for field in dict.fromkeys((rule.id, rule.name, *rule.match, rule.x, rule.z)):
        if not field or not old.tables[kind].has(field):
            continue
        path = parse_path(field)
        holder = out
        for part in path[:-1]:
            holder = holder.setdefault(str(part), {})
        holder[str(path[-1])] = old.tables[kind].plain(field, (row,))[0]
    return out


def _mends(
    setting: SettingIn, place: Mapping[str, Mapping[int, int]]
) -> list[tuple[str, Any, str, str, int]]:
    """Return the links of things that moved which lead to what waits."""
    fates = setting.fates
    old = fates.old
    out: list[tuple[str, Any, str, str, int]] = []
    for ends in fates.all_ends():
        link = ends.link
        if link.is_list or not old.rule(link.of).id:
            continue
        waits = (ends.end == EMPTIED) & (link.kind >= 0)
        for at in np.flatnonzero(waits).tolist():
            kind, row = old.kinds[int(link.kind[at])], int(link.row[at])
            if fates.state[kind][row] == BUNDLED:
                out.append(
                    (
                        link.of,
                        _now(setting, link.of, int(link.rows[at])),
                        link.field,
                        kind,
                        place[kind][row],
                    )
                )
    return out


# ---- setting one in --------------------------------------------------------------------------


def waiting_things(
    bundle: Bundle, rules: TransplantTable, vocabulary: Vocabulary, where: str
) -> tuple[Things, Selected]:
    """Return the things of a bundle, and those of them that wait.

    Raises:
        FormatError: what is in it does not fit the card.
    """
    things = read_things(bundle.document(rules), rules, vocabulary, where=where, partial=True)
    taken = {kind: np.zeros(things.count(kind), np.bool_) for kind in things.kinds}
    for each in bundle.kinds:
        if each.kind not in taken:
            raise FormatError(f"the card has no things {each.kind!r} any more", where=where)
        taken[each.kind][: each.waiting] = True
    return things, Selected(taken, dict(taken))


def known_things(
    bundle: Bundle, old: Things, new: Things, vocabulary: Vocabulary
) -> dict[str, WholeNumbers]:
    """Return which things of the new game those are that a bundle names: by id, if the name is the same."""
    out: dict[str, WholeNumbers] = {}
    for each in bundle.kinds:
        rows = np.full(old.count(each.kind), -1, np.int64)
        out[each.kind] = rows
        if not new.count(each.kind):
            continue
        for text, id in each.now.items():
            at = int(text)
            found = _thing_with(new, each.kind, id, vocabulary)
            if found >= 0 and _is_called(
                new, each.kind, found, old.told(each.kind, (at,))[0], old, at
            ):
                rows[at] = found
    return out


def _thing_with(things: Things, kind: str, id: Any, vocabulary: Vocabulary) -> int:
    ids = things.ids[kind]
    if ids.named:
        return int(things.find(kind, vocabulary.codes([id]))[0])
    return int(things.find(kind, np.array([id], np.int64))[0]) if type(id) is int else -1


def _is_called(new: Things, kind: str, row: int, name: str, old: Things, at: int) -> bool:
    """Tell whether a thing is still called as it was; of things without names the id alone counts."""
    field = new.rule(kind).name
    if not field:
        return True
    before = old.tables[kind].plain(field, (at,))[0]
    return before in (None, "") or new.told(kind, (row,))[0] == name


def mends_of(
    bundle: Bundle, fates: Fates, vocabulary: Vocabulary
) -> tuple[list[Mend], Iterable[str]]:
    """Return the links of the new game to be mended, and what is said of those that lead elsewhere by now."""
    grouped: dict[tuple[str, str, str], tuple[list[int], list[int]]] = {}
    told = []
    for of, id, field, kind, place in bundle.mend:
        if fates.state[kind][place] != MOVED:
            continue
        row = _thing_with(fates.new, of, id, vocabulary) if fates.new.count(of) else -1
        link = next((e for e in fates.new.links_of(of) if e.field == field and not e.is_list), None)
        if row < 0 or link is None or link.kind[row] != NOTHING:
            told.append(f"{of} {id}: its {field} leads elsewhere by now")
            continue
        rows, leads = grouped.setdefault((of, field, kind), ([], []))
        rows.append(row)
        leads.append(place)
    mends = [
        Mend(of, field, np.array(rows, np.intp), kind, np.array(leads, np.intp))
        for (of, field, kind), (rows, leads) in grouped.items()
    ]
    return mends, told
