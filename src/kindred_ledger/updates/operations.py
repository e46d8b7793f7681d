"""Operations that bring an install to another build: over the top, clean, beside, from parts."""

from __future__ import annotations

from ..cards import Install
from ..changes import Changeset
from ..errors import UsageError
from ..ledger import ReleasePlace
from ..places import Place, wanted
from ..planning.context import Context
from ..planning.deciding import rules_for
from ..planning.operation import Operation
from .assemble import Assembly, assemble
from .beside import install_beside
from .markers import remove_marker, write_marker
from .reinstall import reinstall
from .reset import reset_settings
from .update import UpdateChoices, update

__all__ = [
    "Assemble",
    "InstallBeside",
    "Reinstall",
    "RemoveMarker",
    "ResetSettings",
    "Update",
    "WriteMarker",
]


def _sides(context: Context, install: str, release: str) -> tuple[Install, Place]:
    """Open an install and the release it shall be brought to, which may say the title."""
    new = context.release(release)
    title = new.release.title if isinstance(new, ReleasePlace) else ""
    return context.install(install, title=title), new


class Update(Operation, frozen=True, tag="update"):
    """Bring an install to a release over the top; see `update`.

    `mine` and `theirs` say whose file counts, or whose field (`PATTERN:FIELD`); so does the file
    `resolutions`, as far as it was filled in, where nothing else is said.
    """

    install: str
    release: str
    old: str = ""
    mine: tuple[str, ...] = ()
    theirs: tuple[str, ...] = ()
    components: tuple[str, ...] = ()
    also: tuple[str, ...] = ()
    resolutions: str = ""

    def compute(self, context: Context) -> Changeset:
        install, release = _sides(context, self.install, self.release)
        rules = rules_for(self.resolutions, context.decided, theirs=self.theirs, mine=self.mine)
        choices = UpdateChoices(components=self.components, also=self.also, rules=rules)
        return update(
            install,
            release,
            ledger=context.ledger,
            old=context.release(self.old) if self.old else None,
            choices=choices,
            progress=context.progress,
        )


class Reinstall(Operation, frozen=True, tag="reinstall"):
    """Bring an install to a release and its keep-list, with nothing else; see `reinstall`."""

    install: str
    release: str
    old: str = ""
    keep: tuple[str, ...] = ()

    def compute(self, context: Context) -> Changeset:
        install, release = _sides(context, self.install, self.release)
        return reinstall(
            install,
            release,
            ledger=context.ledger,
            old=context.release(self.old) if self.old else None,
            keep=wanted(self.keep),
            progress=context.progress,
        )


class InstallBeside(Operation, frozen=True, tag="install beside"):
    """Make a new install of a release beside an untouched one; see `install_beside`."""

    install: str
    release: str
    into: str = ""

    def compute(self, context: Context) -> Changeset:
        install, release = _sides(context, self.install, self.release)
        return install_beside(
            install, release, ledger=context.ledger, target=self.into, progress=context.progress
        )


class ResetSettings(Operation, frozen=True, tag="reset settings"):
    """Remove settings, for the title to start with its own; see `reset_settings`."""

    install: str
    categories: tuple[str, ...] = ("settings",)
    only: tuple[str, ...] = ()
    keep: tuple[str, ...] = ()

    def compute(self, context: Context) -> Changeset:
        return reset_settings(
            context.install(self.install),
            self.categories,
            ledger=context.ledger,
            only=wanted(self.only),
            keep=self.keep,
            progress=context.progress,
        )


class WriteMarker(Operation, frozen=True, tag="write marker"):
    """Write a small text file into an install; see `write_marker`."""

    install: str
    path: str
    text: str

    def compute(self, context: Context) -> Changeset:
        return write_marker(
            context.install(self.install),
            self.path,
            self.text,
            ledger=context.ledger,
            progress=context.progress,
        )


class RemoveMarker(Operation, frozen=True, tag="remove marker"):
    """Remove a marker; see `remove_marker`."""

    install: str
    path: str

    def compute(self, context: Context) -> Changeset:
        return remove_marker(
            context.install(self.install),
            self.path,
            ledger=context.ledger,
            progress=context.progress,
        )


class Assemble(Operation, frozen=True, tag="assemble"):
    """Lay parts over each other into a folder or an archive; see `assemble`."""

    parts: tuple[str, ...]
    into: str
    at: str = ""
    title: str = ""
    first: tuple[str, ...] = ()
    overwrite: tuple[str, ...] = ()
    drop: tuple[str, ...] = ()

    def compute(self, context: Context) -> Changeset:
        if not self.parts:
            raise UsageError("nothing to assemble", remedy="Name the parts: folders, zips, tars.")
        how = Assembly(
            card=context.card_of(self.title) if self.title else None,
            overwrite=wanted(self.overwrite),
            first=wanted(self.first),
            drop=wanted(self.drop),
            at=self.at.strip("/"),
        )
        return assemble(
            self.parts,
            self.into,
            ledger=context.ledger,
            how=how,
            progress=context.progress,
        )
