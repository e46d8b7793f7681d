"""Transplant: what belongs to the player, out of the save of an old game and into a fresh one.

What always holds: neither save is touched; the result appears only when it is complete and was read again and
compared; work that was cut off goes on behind the last part that was finished, and ends with the same bytes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import msgspec
import numpy as np
from blake3 import blake3
from msgspec import Struct
from msgspec.structs import replace

from ...cards import Install
from ...cards.transplant_models import TransplantTable
from ...changes import Action, Changeset, fitted
from ...errors import BooksUnbalanced, FormatError, UsageError
from ...finding import Finding
from ...formats.expressions import Expression, scope_of
from ...formats.reading_back import encode_unread
from ...ledger import Ledger, Transplanted, not_undone, relation_of
from ...places import FILE, Node, Place, roots_of
from ...planning.evidence import Evidence
from ...planning.first_starts import first_start_of
from ...progress import Progress, Task
from ...statement import Statement
from ...wording import count
from .baked import BakedGroup, baked_groups
from .bundle import Bundle, bundle_of, known_things, mends_of, waiting_things
from .doubts import doubtful_fields, doubtful_totals, nothing_to_carry
from .fates import MOVED, Fates
from .positions import find_places
from .proof import books_of, prove
from .results import Kept, KeptResults, card_state, key_of
from .saves import OpenedSave, converted, find_save, has_saves, opened, rules_for, rules_named
from .selection import TransplantChoices, select
from .setting_in import SettingIn
from .telling import (
    KindCounts,
    LeftLink,
    OtherPlace,
    counts_of,
    findings_of,
    left_links,
    links_left,
    other_places,
)
from .things import Things, Vocabulary, check_lists, read_things
from .totals import Totals

__all__ = [
    "TransplantForecast",
    "TransplantPlan",
    "forecast_transplant",
    "set_in_bundle",
    "transplant",
]

_SMALL = 1 << 18  # bytes of a result that is made again sooner than it is kept
_PARTS = 8  # reading twice, selecting, setting in, writing, reading twice, comparing
_NAMED = 200  # things that are listed by name for one reason


class TransplantForecast(Struct, frozen=True):
    """What a transplant would do: counts by kind, what is baked into the old save, what would be lost.

    `old` and `new` are the paths of the two saves; without a fresh save, and where a decision is needed,
    there are no counts. `places` are things that get other places, `left` links that will lead nowhere:
    each by name, up to 10,000 of each.

    >>> told = kl.forecast_transplant(fleet_install, fresh_install)
    >>> told.counts[2].kind, told.counts[2].moved, told.baked[0].differing[0].name
    ('ferries', 4, 'peat.price')
    """

    rules: str
    old: str
    new: str
    counts: tuple[KindCounts, ...]
    baked: tuple[BakedGroup, ...]
    links_left: int
    findings: tuple[Finding, ...] = ()
    places: tuple[OtherPlace, ...] = ()
    left: tuple[LeftLink, ...] = ()

    @property
    def moved(self) -> int:
        """How many things move."""
        return sum(each.moved for each in self.counts)

    @property
    def waiting(self) -> int:
        """How many things wait in the bundle."""
        return sum(each.bundled for each in self.counts)


class TransplantPlan(Struct, frozen=True):
    """A transplant that was computed: what it does, the change, and the bundle of what waits.

    >>> plan = kl.transplant(fleet_install, fresh_install, ledger=ledger)
    >>> plan.forecast.moved, plan.result
    (39, 'user/saves/long.fleet')
    """

    forecast: TransplantForecast
    result: str
    bundle: Bundle | None
    change: Changeset


class _Decided(Struct, frozen=True):
    """What becomes of every thing, and what is to be said of it; `setting` None: a decision is needed."""

    setting: SettingIn | None
    findings: tuple[Finding, ...]
    baked: tuple[BakedGroup, ...]

    def told(self, rules: str, old: OpenedSave, new: OpenedSave) -> TransplantForecast:
        """Return it in numbers."""
        fates = self.setting.fates if self.setting is not None else None
        counts = counts_of(fates) if fates is not None else ()
        left = links_left(fates) if fates is not None else 0
        places = other_places(self.setting) if self.setting is not None else ()
        links = left_links(fates) if fates is not None else ()
        return TransplantForecast(
            rules, old.path, new.path, counts, self.baked, left, self.findings, places, links
        )


def forecast_transplant(
    source: Install,
    target: Install,
    *,
    save: str = "",
    fresh: str = "",
    choices: TransplantChoices | None = None,
    progress: Progress | None = None,
) -> TransplantForecast:
    """Say what a transplant would do, and what is baked into the old save, and make nothing.

    `target` may be a release without saves: then only what is baked in is told, by the build's own files.

    Raises:
        UsageError: no rules are for these two, or a save is missing.
        FormatError: a save is damaged, or not as the card says.

    >>> kl.forecast_transplant(fleet_install, fresh_install).waiting
    17
    """
    progress = progress or Progress()
    with progress.task("long game", total=_PARTS, unit="parts") as whole:
        made = _Transplant(source, target, None, progress, whole)
        return made.forecast(save, fresh, choices or TransplantChoices())


def transplant(
    source: Install,
    target: Install,
    *,
    ledger: Ledger,
    save: str = "",
    fresh: str = "",
    name: str = "",
    choices: TransplantChoices | None = None,
    progress: Progress | None = None,
) -> TransplantPlan:
    """Compute how what is the player's in a save of `source` is set into a fresh save of `target`.

    `save` and `fresh` name the two, where there are several; `name` is that of the result, which stands
    beside the fresh save, else that of the old one. What the new game cannot hold is a loss to be consented
    to, and waits in the bundle. Losses: `not-ready`, `no-place`, `cannot-be-set-in`, `link-left`.

    Raises:
        UsageError: no rules are for these two, a save is missing, or the name is taken.
        FormatError: a save is damaged, or not as the card says.
        BooksUnbalanced: what was made is not what was meant; nothing was written.

    >>> change = kl.transplant(fleet_install, fresh_install, ledger=ledger).change
    >>> change.summary
    'set 39 things of long.fleet into fresh.fleet, as long.fleet'
    """
    progress = progress or Progress()
    with progress.task("long game", total=_PARTS, unit="parts") as whole:
        made = _Transplant(source, target, ledger, progress, whole)
        return made.of_save(save, fresh, name, choices or TransplantChoices())


def set_in_bundle(
    target: Install,
    bundle: Bundle,
    *,
    ledger: Ledger,
    save: str = "",
    progress: Progress | None = None,
) -> TransplantPlan:
    """Compute how what waits in a bundle is set into a save of the new game, as it is now.

    The save stays what it is, with those things more; what still has no place goes on waiting.

    Raises:
        UsageError: the bundle is for another title or format, or the save is missing.
        FormatError: the save is damaged, or not as the card says.
        BooksUnbalanced: what was made is not what was meant; nothing was written.

    >>> plan = kl.transplant(fleet_install, fresh_install, ledger=ledger)
    >>> _ = plan.change.apply(ledger, allow_loss=True)
    >>> later = kl.set_in_bundle(fresh_install, plan.bundle, ledger=ledger, save="long")
    >>> later.change.summary
    'set 17 things of a bundle into long.fleet'
    """
    progress = progress or Progress()
    with progress.task("bundle", total=_PARTS, unit="parts") as whole:
        return _Transplant(target, target, ledger, progress, whole).of_bundle(bundle, save)


class _Transplant:
    def __init__(
        self,
        source: Install,
        target: Install,
        ledger: Ledger | None,
        progress: Progress,
        whole: Task,
    ) -> None:
        self.source, self.target, self.whole = source, target, whole
        self.ledger, self.progress = ledger, progress
        self.results = KeptResults(ledger, target.place)
        self.vocabulary = Vocabulary()
        place = target.place
        self.before = ledger.scan(place, progress=progress) if ledger else place.survey()

    # ---- a save ------------------------------------------------------------------------------

    def of_save(
        self, save: str, fresh: str, name: str, choices: TransplantChoices
    ) -> TransplantPlan:
        rules_name, rules = rules_for(self.source, self.target)
        old, new = self._old(rules, save), find_save(self.target, self.before, rules, fresh)
        result = self._result(old, new, name)
        made = self._decided(old, new, rules, choices)
        key = key_of(
            self.target, "transplant", old.version.text, new.version.text, rules_name, choices,
            blake3(old.data).digest(), blake3(new.data).digest(), card_state(self.source),
        )  # fmt: skip
        texts = {
            "rules": rules_name,
            "out_of": old.path,
            "out_of_digest": blake3(old.data).hexdigest(),
        }
        return self._plan(made, old, new, result, texts, key)

    def forecast(self, save: str, fresh: str, choices: TransplantChoices) -> TransplantForecast:
        rules_name, rules = rules_for(self.source, self.target)
        old = self._old(rules, save)
        if not fresh and not has_saves(self.target, self.before, rules):
            document = opened(self.source, rules, old.data, old.version)
            baked = baked_groups(document, rules, None, self.target, where=old.name)
            return TransplantForecast(rules_name, old.path, "", (), baked, 0)
        new = find_save(self.target, self.before, rules, fresh)
        return self._decided(old, new, rules, choices).told(rules_name, old, new)

    def _old(self, rules: TransplantTable, save: str) -> OpenedSave:
        here = self.source.place.location == self.target.place.location
        return find_save(
            self.source, self.before if here else self.source.place.survey(), rules, save
        )

    def _decided(
        self, old: OpenedSave, new: OpenedSave, rules: TransplantTable, choices: TransplantChoices
    ) -> _Decided:
        """Return what becomes of every thing of the old save."""
        if (old.path, self.source.place.location) == (new.path, self.target.place.location):
            raise UsageError(
                "the old save and the fresh one are the same file",
                where=new.path,
                remedy="Begin a new game in the new build, save it, and name it with `fresh=NAME`.",
            )
        data, findings = self._converted(old, new, rules)
        things_old = self._read(self.target, data, new.version, rules, old.name)
        things_new = self._read(self.target, new.data, new.version, rules, new.name)
        baked = baked_groups(
            things_old.document,
            rules,
            things_new.document,
            self.target,
            where=old.name,
            new_name=new.name,
        )
        check_lists(things_old, things_new)
        findings += [*things_old.findings, *things_new.findings]
        findings += self._not_fresh(things_new, choices)
        findings += [*doubtful_fields(things_old), *nothing_to_carry(things_old)]
        findings += Totals(things_new).differing()
        if _conflicts(findings):
            return _Decided(None, tuple(findings), baked)
        self.whole.tell("selecting")
        self.whole.advance()
        fates = Fates(things_old, things_new, select(things_old, choices))
        findings += self._not_ready(fates)
        fates.settle()
        setting = SettingIn(fates, find_places(fates), self.vocabulary)
        findings += [*setting.findings, *findings_of(setting), *doubtful_totals(setting)]
        return _Decided(setting, tuple(findings), baked)

    def _result(self, old: OpenedSave, new: OpenedSave, name: str) -> str:
        """Return the path of the result."""
        last = name or old.name
        ending = new.name.rpartition(".")[2]
        if "/" in last or "\\" in last:
            raise UsageError(
                f"{last!r} is a path, not a name", remedy="Say only the name of the file."
            )
        if "." not in last and "." in new.name:
            last = f"{last}.{ending}"
        path = "/".join((*new.path.split("/")[:-1], last))
        if path in self.before and not (name and path == new.path):
            raise UsageError(
                f"the new game has a save {last} already",
                where=self.target.place.location,
                remedy="Say how the result is to be called: `name=NAME`.",
            )
        return path

    def _converted(
        self, old: OpenedSave, new: OpenedSave, rules: TransplantTable
    ) -> tuple[bytes, list[Finding]]:
        """Return the old save in the format version of the new one."""
        if old.version == new.version:
            return old.data, []
        key = key_of(
            self.target, "converted", old.path, old.version.text, new.version.text, blake3(old.data).digest(),
            card_state(self.source),
        )  # fmt: skip
        found = self.results.find(key)
        if found is not None:
            return found[1], []
        self.whole.tell("converting")
        made = converted(self.source, old, rules, new.version)
        data = bytes(made.data)
        if not made.findings:  # what there is to say is said each time
            self.results.keep(Kept.of(key, data, proven=True), data)
        return data, list(made.findings)

    def _read(
        self, install: Install, data: bytes, version: Any, rules: TransplantTable, where: str
    ) -> Things:
        self.whole.tell(f"reading {where}")
        self.whole.advance()
        total = sum(1 + len(rule.links) for rule in rules.things.values())
        with self.progress.task("reading", total=total, unit="lists") as task:
            task.tell(where)
            try:
                document = opened(install, rules, data, version)
            except FormatError as error:
                raise error.inside(where) from None
            return read_things(document, rules, self.vocabulary, where=where, task=task)

    def _not_fresh(self, new: Things, choices: TransplantChoices) -> Iterator[Finding]:
        for text in new.rules.fresh:
            if Expression.parse(text)(scope_of(new.document, (), inside=True)) is True:
                continue
            what = f"this is no fresh game: {text} does not hold"
            if choices.played:
                yield Finding.warning("not-fresh", what, where=new.where)
            else:
                yield Finding.conflict(
                    "not-fresh",
                    what,
                    where=new.where,
                    remedy="Begin a new game in the new build, save it at once, and use that; or say"
                    " `played=True`.",
                )

    def _not_ready(self, fates: Fates) -> Iterator[Finding]:
        """Have what cannot be taken yet wait in the bundle, each thing told by its name."""
        old = fates.old
        for row in old.rules.conditions:
            which = old.tables[row.kind].where(row.where) & (fates.state[row.kind] == MOVED)
            rows = np.flatnonzero(which).tolist()
            fates.bundle(row.kind, which, row.what)
            for each in old.told(row.kind, rows[:_NAMED]):
                told = f"{each}: {row.what}" + (f"; {row.do}" if row.do else "")
                yield Finding.loss("not-ready", told, where=row.kind)
            if len(rows) > _NAMED:
                told = f"and {len(rows) - _NAMED:,} more: {row.what}"
                yield Finding.loss("not-ready", told, where=row.kind)

    # ---- a bundle ----------------------------------------------------------------------------

    def of_bundle(self, bundle: Bundle, save: str) -> TransplantPlan:
        target = self.target
        rules = rules_named(target, bundle.rules, bundle.by)
        if bundle.title != target.card.title or rules.format != bundle.format:
            raise UsageError(
                f"this bundle is for {bundle.title} by the rules {bundle.rules}, not for"
                f" {target.card.title}",
                where=target.place.location,
            )
        new = find_save(target, self.before, rules, save or bundle.into)
        if new.version.text != bundle.format_version:
            raise UsageError(
                f"this bundle is for saves of format {bundle.format_version}, {new.name} is of"
                f" {new.version}",
                where=new.path,
                remedy="Set it in before the save is converted: restore the save of that time.",
            )
        things_new = self._read(target, new.data, new.version, rules, new.name)
        things_old, selected = waiting_things(bundle, rules, self.vocabulary, "the bundle")
        findings = [*things_old.findings, *things_new.findings, *Totals(things_new).differing()]
        findings += self._set_in_before(bundle, new)
        setting = None
        if not _conflicts(findings):
            known = known_things(bundle, things_old, things_new, self.vocabulary)
            fates = Fates(things_old, things_new, selected, known=known)
            places = find_places(fates)
            mends, told = mends_of(bundle, fates, self.vocabulary)
            findings += [Finding.note("link-elsewhere", each, where=new.path) for each in told]
            setting = SettingIn(fates, places, self.vocabulary, mends)
            findings += [*setting.findings, *findings_of(setting, again=True)]
        old = OpenedSave("a bundle", b"", new.version)
        key = key_of(self.target, "bundle", bundle.digest, blake3(new.data).digest())
        texts = {
            "rules": bundle.rules,
            "out_of": bundle.out_of,
            "out_of_digest": bundle.out_of_digest,
            "took": bundle.digest,
        }
        made = _Decided(setting, tuple(findings), ())
        return self._plan(made, old, new, new.path, texts, key)

    def _set_in_before(self, bundle: Bundle, new: OpenedSave) -> Iterator[Finding]:
        """Yield a conflict if the history says that a bundle is in a save already."""
        here = roots_of(self.target.place)
        for record in not_undone(self.ledger.records()) if self.ledger else ():
            relation = relation_of(record.relations, Transplanted)
            if relation is None or relation.took != bundle.digest or dict(record.roots) != here:
                continue
            if relation.save == new.path:
                yield Finding.conflict(
                    "set-in-already",
                    f"this bundle was set in already, by the change {record.id}: all would be there twice",
                    where=new.path,
                    remedy=f"To set it in anew, take that back first: kindred undo {record.id}",
                )

    # ---- the change --------------------------------------------------------------------------

    def _plan(
        self,
        decided: _Decided,
        old: OpenedSave,
        new: OpenedSave,
        result: str,
        texts: dict[str, Any],
        key: str,
    ) -> TransplantPlan:
        last = result.rpartition("/")[2]
        took = texts.pop("took", "")
        again = bool(took)
        told = decided.told(texts["rules"], old, new)
        setting = decided.setting
        change = Changeset(
            place=self.target.place,
            operation="set in bundle" if again else "transplant",
            summary=f"set things of {old.name} into {new.name}: a decision is needed",
            before=self.before,
            actions=(),
            tag=self.target.tag,
            version_after=self.target.tag.version,
            findings=decided.findings,
        )
        if setting is None or change.conflicts:
            return TransplantPlan(told, result, None, change)
        texts = {
            **texts, "title": self.target.card.title, "format": setting.new.rules.format,
            "format_version": new.version.text, "into": last,
            "by": msgspec.to_builtins(setting.new.rules),
        }  # fmt: skip
        if not told.moved:
            why = "all still wait" if again else "nothing in this save is yours by the rules"
            change = replace(change, summary=f"nothing is set into {new.name}: {why}")
            return TransplantPlan(told, result, bundle_of(setting, texts), change)
        made, place = self._made(setting, new, key)
        bundle = bundle_of(setting, texts)
        was = self.before.get(result)
        mode = (was or self.before[new.path]).mode
        node = Node(FILE, made.size_bytes, made.digest, mode=mode)
        things = count(told.moved, "thing")
        shows = first_start_of(setting.new.rules, last)
        relation = Transplanted(
            result,
            out_of=texts["out_of"],
            into=new.path,
            rules=texts["rules"],
            by=msgspec.json.encode(texts["by"]),
            took=took,
            bundle=bundle.packed() if bundle is not None else b"",
            state=Evidence(self.target, shows, self.before).state(),
            counts={
                kind: setting.new.count(kind) + len(setting.order[kind])
                for kind in setting.new.kinds
            },
        )
        summary = f"set {things} of {old.name} into {new.name}, as {last}"
        change = fitted(
            replace(
                change,
                summary=f"set {things} of a bundle into {new.name}" if again else summary,
                actions=(Action(result, was, node, place, key, f"{things} set in"),),
                statements=made.statements,
                relations=(relation,),
                clear=self.results.clear,
            )
        )
        return TransplantPlan(told, result, bundle, change)

    def _made(self, setting: SettingIn, new: OpenedSave, key: str) -> tuple[Kept, Place]:
        """Return the result and where it is: made, or found as an earlier run left it; proven in any case."""
        found = self.results.find(key)
        if found is not None and found[0].proven:
            return found[0], self.results.folder
        if found is not None:
            data = found[1]
        else:
            self.whole.tell("setting in")
            self.whole.advance()
            setting.carry_out(self.progress)
            self.whole.tell("writing")
            self.whole.advance()
            data = encode_unread(setting.new.document)
            self.results.keep(Kept.of(key, data, proven=False), data)
        statements = self._proven(setting, new, data)
        made = Kept.of(key, data, statements, proven=True)
        return made, self.results.keep(made, data)

    def _proven(self, setting: SettingIn, new: OpenedSave, data: bytes) -> tuple[Statement, ...]:
        rules = setting.new.rules
        again = self._read(self.target, new.data, new.version, rules, new.name)
        try:
            made = self._read(self.target, data, new.version, rules, new.name)
        except FormatError as error:
            raise BooksUnbalanced(
                f"what was made cannot be read again: {error.what}", where=error.where
            ) from error
        self.whole.tell("comparing")
        self.whole.advance()
        total = len(made.kinds) + len(made.links)
        with self.progress.task("comparing", total=total, unit="lists") as task:
            prove(made, setting.old, again, setting, task)
        return books_of(setting.fates, made, setting.old, again)


def _conflicts(findings: Sequence[Finding]) -> bool:
    return any(each.severity.value == "conflict" for each in findings)
