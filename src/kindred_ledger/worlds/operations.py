"""Operations on worlds: giving one the ids of another build, and reinstating what waits in it."""

from __future__ import annotations

from msgspec.structs import replace

from ..cards import Install
from ..cards.worlds import IdList
from ..changes import Changeset
from ..errors import UsageError
from ..ledger import EntryPlace, Ledger, Tag
from ..planning.context import Context
from ..planning.first_starts import transplants_in
from ..planning.helper_sequence import HelperSequence
from ..planning.operation import Operation
from ..small_files import read_small
from .choices import ContentChoices
from .consent import Consent, read_consent
from .forecast import Forecast, forecast
from .helpers import helper_step
from .opened import OpenedWorld, open_world
from .reinstate import reinstate
from .remap import id_lists, remap
from .transplant import (
    Bundle,
    TransplantChoices,
    TransplantForecast,
    TransplantPlan,
    forecast_transplant,
    read_bundle,
    set_in_bundle,
    transplant,
)
from .transplant.saves import is_called
from .work import RemapWork

__all__ = [
    "Reinstate", "Remap", "SetInBundle", "StepHelper", "Transplant", "opened_world", "world_subject",
]  # fmt: skip

_LARGEST_CONSENT = 4 << 20
_LARGEST_BUNDLE = 1 << 30


class Remap(Operation, frozen=True, tag="remap"):
    """Give a world the ids of another build; see `remap`.

    `target` is the release or install that has them, "" for the install itself; `lists_of` the one that has
    those in force, where the world does not carry them. `substitutes` and `new_names` are texts `OLD=NEW`.
    `consent` is a file that says what becomes of content, and what was agreed to; `agreed` the id of a
    forecast.
    """

    what: str
    target: str = ""
    world: str = ""
    substitutes: tuple[str, ...] = ()
    new_names: tuple[str, ...] = ()
    inert: tuple[str, ...] = ()
    remove: tuple[str, ...] = ()
    consent: str = ""
    agreed: str = ""
    lists_of: str = ""

    def compute(self, context: Context) -> Changeset:
        subject = context.install(self.what)
        consent = self._consent()
        name = self._world(consent)
        return remap(
            subject,
            self._new(context, subject),
            name,
            ledger=context.ledger,
            choices=self._choices(consent),
            agreed=self.agreed or (consent.forecast if consent is not None else ""),
            lists=self._old(context, subject),
            work=_work(context),
            progress=context.progress,
        )

    def forecast(self, context: Context, *, ledger: Ledger | None = None) -> Forecast:
        """Say what it would do, and change nothing; a `ledger` may know what a world was saved with."""
        subject, tag = world_subject(context, self.what)
        consent = self._consent()
        ledger = None if tag is not None else ledger
        opened = open_world(
            subject, self._world(consent), lists=self._old(context, subject), tag=tag, ledger=ledger
        )
        return forecast(
            opened,
            self._new(context, subject),
            choices=self._choices(consent),
            work=_work(context),
            progress=context.progress,
        )

    def _consent(self) -> Consent | None:
        if not self.consent:
            return None
        try:
            text = read_small(self.consent, most=_LARGEST_CONSENT).decode()
        except UnicodeDecodeError as error:
            raise UsageError(f"this is no text: {error}", where=self.consent) from error
        except OSError as error:
            raise UsageError(f"it cannot be read: {error.strerror}", where=self.consent) from error
        return read_consent(text, where=self.consent)

    def _world(self, consent: Consent | None) -> str:
        if consent is None:
            return self.world
        if self.world not in ("", consent.world):
            raise UsageError(
                f"this consent is for the world {consent.world}, not {self.world}",
                where=self.consent,
            )
        return consent.world

    def _choices(self, consent: Consent | None) -> ContentChoices:
        said = consent.choices if consent is not None else ContentChoices()
        return replace(
            said,
            renames={**said.renames, **dict(_pair(text) for text in self.new_names)},
            substitutes={**said.substitutes, **dict(_pair(text) for text in self.substitutes)},
            inert=(*said.inert, *self.inert),
            remove=(*said.remove, *self.remove),
        )

    def _new(self, context: Context, subject: Install) -> dict[str, IdList]:
        return id_lists(_with_lists(context, subject, self.target) if self.target else subject)

    def _old(self, context: Context, subject: Install) -> dict[str, IdList] | None:
        return id_lists(_with_lists(context, subject, self.lists_of)) if self.lists_of else None


class Reinstate(Operation, frozen=True, tag="reinstate"):
    """Reinstate inert content of a world that its build has again; see `reinstate`."""

    what: str
    world: str = ""
    anyway: bool = False

    def compute(self, context: Context) -> Changeset:
        return reinstate(
            context.install(self.what),
            self.world,
            ledger=context.ledger,
            anyway=self.anyway,
            progress=context.progress,
        )


class StepHelper(Operation, frozen=True, tag="helper step"):
    """Take the next step of a helper's sequence, if it is one of files; see `helper_step`."""

    what: str
    helper: str
    source: str = ""

    def compute(self, context: Context) -> Changeset:
        return helper_step(
            context.install(self.what),
            self.helper,
            ledger=context.ledger,
            source=self.source or None,
            keep=not context.dry_run,
            progress=context.progress,
        )

    def sequence(self, context: Context) -> HelperSequence:
        """Return the sequence, to be asked where it is."""
        return HelperSequence(context.install(self.what), self.helper, context.ledger)


class Transplant(Operation, frozen=True, tag="transplant"):
    """Set what is the player's in a save of `what` into a fresh save of `target`; see `transplant`.

    `what` may be an entry of an install.
    """

    what: str
    target: str
    save: str = ""
    fresh: str = ""
    name: str = ""
    also: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    played: bool = False

    def compute(self, context: Context) -> Changeset:
        return self.plan(context).change

    def forecast(self, context: Context) -> TransplantForecast:
        """Say what it would do, and make nothing; `target` may be a release, too."""
        source, _ = world_subject(context, self.what)
        here = context.is_install(self.target)
        return forecast_transplant(
            source,
            context.install(self.target) if here else _with_lists(context, source, self.target),
            save=self.save,
            fresh=self.fresh,
            choices=TransplantChoices(self.also, self.without, self.played),
            progress=context.progress,
        )

    def plan(self, context: Context) -> TransplantPlan:
        """Compute it, with what is baked into the old save, counts, and the bundle."""
        source, _ = world_subject(context, self.what)
        return transplant(
            source,
            context.install(self.target),
            save=self.save,
            fresh=self.fresh,
            name=self.name,
            choices=TransplantChoices(self.also, self.without, self.played),
            ledger=context.ledger,
            progress=context.progress,
        )


class SetInBundle(Operation, frozen=True, tag="set in bundle"):
    """Set what waits in a bundle into a save of `what`; see `set_in_bundle`.

    `bundle` is its file; "" for the one of the newest change that left things waiting.
    """

    what: str
    bundle: str = ""
    save: str = ""

    def compute(self, context: Context) -> Changeset:
        return self.plan(context).change

    def plan(self, context: Context) -> TransplantPlan:
        """Compute it, with counts, and the bundle of what still waits."""
        target = context.install(self.what)
        return set_in_bundle(
            target,
            self._bundle(context, target),
            save=self.save,
            ledger=context.ledger,
            progress=context.progress,
        )

    def _bundle(self, context: Context, target: Install) -> Bundle:
        if self.bundle:
            try:
                data = read_small(self.bundle, most=_LARGEST_BUNDLE)
            except OSError as error:
                raise UsageError(
                    f"it cannot be read: {error.strerror}", where=self.bundle
                ) from error
            return read_bundle(data, where=self.bundle)
        for record, relation in transplants_in(target, context.ledger):
            if relation.bundle and is_called(relation.save, self.save):
                return read_bundle(relation.bundle, where=f"the change {record.id}")
        raise UsageError(
            f"nothing waits to be set into {self.save or 'a save'} of this install",
            where=target.place.location,
            remedy="Name the file of the bundle, if there is one.",
        )


def world_subject(context: Context, text: str) -> tuple[Install, Tag | None]:
    """Return what is named as an install whose worlds are meant; an entry of one comes with its tag.

    Raises:
        UsageError: it is no install and no entry of one.
    """
    if not text.startswith("entry:"):
        return context.install(text), None
    place = context.place(text)
    assert isinstance(place, EntryPlace)
    tag = place.tag
    card = context.card_of(tag.title)
    version = card.build(tag.version) if tag.version else None
    return Install(card, place, (), version), tag


def opened_world(
    context: Context, text: str, world: str, *, lists_of: str = "", ledger: Ledger | None = None
) -> tuple[Install, OpenedWorld]:
    """Open a world of an install, or of an entry of one, that is named by text."""
    subject, tag = world_subject(context, text)
    lists = id_lists(_with_lists(context, subject, lists_of)) if lists_of else None
    ledger = None if tag is not None else ledger
    return subject, open_world(subject, world, lists=lists, tag=tag, ledger=ledger)


def _with_lists(context: Context, subject: Install, text: str) -> Install:
    """Return the release, install or entry that has the lists of a build."""
    if text.startswith("entry:"):
        return world_subject(context, text)[0]
    if context.is_install(text):
        return context.install(text, title=subject.card.title, build="")
    return subject.card.open_release(context.release(text))


def _work(context: Context) -> RemapWork:
    return RemapWork(context.executor, context.workers)


def _pair(text: str) -> tuple[str, str]:
    old, sign, new = text.partition("=")
    if not sign or not old.strip() or not new.strip():
        raise UsageError(
            f"{text!r} is not OLD=NEW", remedy="Write it like bog:lantern=bog:oil_lantern."
        )
    return old.strip(), new.strip()
