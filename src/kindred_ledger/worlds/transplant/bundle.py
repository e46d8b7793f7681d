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
from .thing_table import WholeNumbers, is_number
from .things import NOTHING, Things, Vocabulary, plain_ids, read_things

__all__ = [
    "Bundle", "BundledKind", "BundledLink", "bundle_of", "known_things", "mends_of", "read_bundle",
    "waiting_things",
]  # fmt: skip

_FORMAT = 1
_ENCODER = msgspec.json.Encoder(decimal_format="number")


class BundledKind(Struct, frozen=True):
    """Things of one kind: `records` of those that wait, each with `why`, and of what they refer to.

    The first `waiting` records wait; the others are only named. `now` says which id and name things of the
    others have in the new game, by their place.

    >>> kl.BundledKind("crew", [{"id": 3, "name": "Tam"}], 1, ["nothing holds it"], {}).waiting
    1
    """

    kind: str
    records: list[dict[str, Any]]
    waiting: int
    why: list[str]
    now: dict[str, tuple[Any, str]]


class BundledLink(Struct, frozen=True):
    """A link of a thing in the new game, known by id and name, that should lead to what waits at a place.

    >>> kl.BundledLink("crew", 17, "Ada", "friend", "crew", 0).leads_to
    'crew'
    """

    of: str
    id: Any
    name: str
    field: str
    leads_to: str
    place: int


class Bundle(Struct, frozen=True):
    """Things that wait to be set into a save of the format and version named, with links between them.

    `rules` is the name of the rules of the card by which it was made, `by` those rules as they were.
    `mend` are links of things in the new game that should lead to what waits.
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
    mend: list[BundledLink]
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


def read_bundle(data: bytes, *, where: str = "") -> Bundle:
    """Read a bundle.

    Raises:
        FormatError: it is none, of a newer format, or was changed since it was written.

    >>> kl.read_bundle(bundle.packed()).waiting["ferries"]
    2
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
    others: dict[str, dict[int, tuple[Any, str] | None]] = {kind: {} for kind in old.kinds}
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
        records = old.tables[kind].taken(rows)
        records += [_stand_in(old, kind, row) for row in named]
        now = {
            str(len(rows) + at): known
            for at, row in enumerate(named)
            if (known := others[kind][row]) is not None
        }
        why = [fates.reasons[int(fates.why[kind][row])] for row in rows]
        kinds.append(BundledKind(kind, records, len(rows), why, now))
    return Bundle(kinds=kinds, mend=_mends(setting, place), **told).sealed()


def _now(setting: SettingIn, kind: str, row: int) -> tuple[Any, str] | None:
    """Return the id and name that a thing of the old game has in the new one; None if it is not there."""
    fates = setting.fates
    if fates.state[kind][row] == MOVED:
        at = int(np.searchsorted(setting.order[kind], row))
        id = setting.values_of(kind, setting.ids[kind][at : at + 1])[0]
        return id, fates.old.told(kind, (row,))[0]
    match = int(fates.matches[kind][row])
    if match < 0:
        fates.match_more(kind, row)
        match = int(fates.matches[kind][row])
    if match < 0:
        return None
    ids = fates.new.ids[kind]
    id = plain_ids(ids, ids.numbers[match : match + 1], setting.vocabulary)[0]
    return id, fates.new.told(kind, (match,))[0]


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


def _mends(setting: SettingIn, place: Mapping[str, Mapping[int, int]]) -> list[BundledLink]:
    """Return the links of things that moved which lead to what waits."""
    fates = setting.fates
    old = fates.old
    out: list[BundledLink] = []
    for ends in fates.all_ends():
        link = ends.link
        if link.is_list or not old.rule(link.of).id:
            continue
        waits = (ends.end == EMPTIED) & (link.kind >= 0)
        for at in np.flatnonzero(waits).tolist():
            kind, row = old.kinds[int(link.kind[at])], int(link.row[at])
            known = _now(setting, link.of, int(link.rows[at]))
            if fates.state[kind][row] == BUNDLED and known is not None:
                out.append(BundledLink(link.of, *known, link.field, kind, place[kind][row]))
    return out


# ---- setting one in --------------------------------------------------------------------------


def _document(bundle: Bundle, rules: TransplantTable) -> Document:
    """Return the things of a bundle as a save that holds nothing else."""
    top: dict[str, Any] = {}
    for each in bundle.kinds:
        path = parse_path(rules.things[each.kind].at)
        holder = top
        for part in path[:-1]:
            holder = holder.setdefault(str(part), {})
        holder[str(path[-1])] = each.records
    return decode(_ENCODER.encode(top), "json")


def waiting_things(
    bundle: Bundle, rules: TransplantTable, vocabulary: Vocabulary, where: str
) -> tuple[Things, Selected]:
    """Return the things of a bundle, and those of them that wait.

    Raises:
        FormatError: what is in it does not fit the card.
    """
    things = read_things(_document(bundle, rules), rules, vocabulary, where=where, partial=True)
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
        for text, (id, name) in each.now.items():
            found = _thing_with(new, each.kind, id, name, vocabulary)
            if found >= 0:
                rows[int(text)] = found
    return out


def _thing_with(things: Things, kind: str, id: Any, name: str, vocabulary: Vocabulary) -> int:
    """Return which thing has an id and is called so still; -1: none. Without names the id alone counts."""
    ids = things.ids[kind]
    if ids.named:
        found = int(things.find(kind, vocabulary.codes([id]))[0])
    else:
        number = int(id) if ids.texts and is_number(id) else id
        found = -1
        if type(number) is int:
            found = int(things.find(kind, np.array([number], np.int64))[0])
    if found >= 0 and things.rule(kind).name and things.told(kind, (found,))[0] != name:
        return -1
    return found


def mends_of(
    bundle: Bundle, fates: Fates, vocabulary: Vocabulary
) -> tuple[list[Mend], Iterable[str]]:
    """Return the links of the new game to be mended, and what is said of those that lead elsewhere by now."""
    grouped: dict[tuple[str, str, str], tuple[list[int], list[int]]] = {}
    told = []
    for each in bundle.mend:
        of, field, kind = each.of, each.field, each.leads_to
        if fates.state[kind][each.place] != MOVED:
            continue
        there = fates.new.count(of) > 0
        row = _thing_with(fates.new, of, each.id, each.name, vocabulary) if there else -1
        links = (e for e in fates.new.links_of(of) if e.field == field and not e.is_list)
        link = next(links, None)
        if row < 0 or link is None or link.kind[row] != NOTHING:
            told.append(f"{each.name}: its {field} leads elsewhere by now, and stays so")
            continue
        rows, leads = grouped.setdefault((of, field, kind), ([], []))
        rows.append(row)
        leads.append(each.place)
    mends = [
        Mend(of, field, np.array(rows, np.intp), kind, np.array(leads, np.intp))
        for (of, field, kind), (rows, leads) in grouped.items()
    ]
    return mends, told
