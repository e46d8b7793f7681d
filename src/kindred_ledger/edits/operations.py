"""Operations about edits: bringing them to new originals, from files or from an edit set."""

from __future__ import annotations

import os

from ..cards import Card, Install
from ..changes import Changeset
from ..places import Place
from ..planning.context import Context
from ..planning.deciding import rules_for
from ..planning.operation import Operation
from .edit_set import EditSet
from .putting import put_edits
from .reapply import ReapplyChoices, reapply
from .tables import rows_in, write_table

__all__ = ["PutEdits", "PutTable", "Reapply"]


class Reapply(Operation, frozen=True, tag="reapply"):
    """Bring what was edited in some files to the files of a release; see `reapply`.

    `edited` and `release` are folders, installs, archives, entries or URLs; `title` names the card that says
    what is in them, where no install does.
    """

    edited: str
    release: str
    old: str = ""
    into: str = ""
    title: str = ""
    mine: tuple[str, ...] = ()
    theirs: tuple[str, ...] = ()
    prefer: str = ""
    whole: bool | None = None
    agree: bool = False
    resolutions: str = ""

    def compute(self, context: Context) -> Changeset:
        rules = rules_for(self.resolutions, context.decided, theirs=self.theirs, mine=self.mine)
        return reapply(
            context.subject(self.edited),
            context.subject(self.release),
            ledger=context.ledger,
            old=context.subject(self.old) if self.old else None,
            into=_target(context, self.into),
            card=_card(context, self.title),
            choices=ReapplyChoices(
                rules=rules, prefer=self.prefer, whole=self.whole, agree=self.agree
            ),
            progress=context.progress,
        )


class PutEdits(Operation, frozen=True, tag="put edits"):
    """Bring an edit set to the files of a release; see `put_edits`."""

    edits: str
    release: str
    old: str = ""
    into: str = ""
    title: str = ""
    mine: tuple[str, ...] = ()
    theirs: tuple[str, ...] = ()
    prefer: str = ""
    follow: bool = False
    agree: bool = False
    resolutions: str = ""

    def compute(self, context: Context) -> Changeset:
        edits = EditSet.load(self.edits)
        rules = rules_for(self.resolutions, context.decided, theirs=self.theirs, mine=self.mine)
        release = context.subject(self.release)
        card = _card(context, self.title)
        if card is None and not isinstance(release, Install) and edits.title:
            card = next((each for each in context.cards if each.title == edits.title), None)
        return put_edits(
            edits,
            release,
            ledger=context.ledger,
            old=context.subject(self.old) if self.old else None,
            into=_target(context, self.into),
            card=card,
            choices=ReapplyChoices(rules=rules, prefer=self.prefer, agree=self.agree),
            follow=self.follow,
            progress=context.progress,
        )


class PutTable(Operation, frozen=True, tag="put table"):
    """Put edited rows, a CSV file, into a table of a file; see `write_table`."""

    file: str
    rows: str
    table: str = ""

    def compute(self, context: Context) -> Changeset:
        return write_table(
            self.file,
            rows_in(self.rows),
            self.table,
            ledger=context.ledger,
            card=context.cards,
            source=os.path.basename(self.rows),
            progress=context.progress,
        )


def _target(context: Context, into: str) -> Place | str | None:
    """Return where the result goes; a server opened."""
    return context.place(into) if "://" in into else into or None


def _card(context: Context, title: str) -> Card | None:
    return context.card_of(title) if title else None
