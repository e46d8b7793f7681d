"""What is wrong with the runbooks and remedies of a card: their steps are checked where steps are known."""

from __future__ import annotations

from ..cards import Card
from ..errors import CardError
from ..finding import Finding
from .runbook import read_runbook
from .symptoms import read_symptom

__all__ = ["card_faults"]


def card_faults(card: Card) -> tuple[Finding, ...]:
    """Return every fault of the steps that a card's runbooks and remedies name; see docs/migrating.md.

    >>> from kindred_ledger.migrate import card_faults
    >>> card_faults(card)
    ()
    """
    found: list[Finding] = []
    for table in card.file.runbooks:
        try:
            read_runbook(table, where=card.path)
        except CardError as error:
            found += error.findings
    for row in card.file.symptoms:
        try:
            read_symptom(row, card.path)
        except CardError as error:
            found += error.findings
    return tuple(found)
