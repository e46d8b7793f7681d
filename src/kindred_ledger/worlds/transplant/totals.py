"""Totals: numbers of a save that count its things, held against the things themselves."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ...finding import Finding
from ...formats import parse_path
from .thing_table import ColumnTable, ThingTable, open_table
from .things import Things

__all__ = ["Totals", "open_again"]


class Totals:
    """Numbers of a save that tell how many things there are, or a sum of them, as the card says."""

    def __init__(self, things: Things) -> None:
        self.things = things

    def counted(self, tables: Mapping[str, ThingTable]) -> list[int]:
        """Return what each total comes to, counted in the things themselves."""
        out = []
        for row in self.things.rules.totals:
            table = tables[row.kind]
            some = table.where(row.where) if row.where else np.ones(table.count, np.bool_)
            if not row.sum:
                out.append(int(some.sum()))
            else:
                numbers = table.whole_numbers(row.sum) if table.count else np.zeros(0, np.int64)
                out.append(int(numbers[some].sum()))
        return out

    def differing(self) -> list[Finding]:
        """Return what is to be said of totals that are not what the card says they are."""
        found = []
        document = self.things.document
        for row, counted in zip(
            self.things.rules.totals, self.counted(self.things.tables), strict=True
        ):
            path = parse_path(row.at)
            told = document.get(path) if document.find(path) else None
            if told != counted:
                found.append(
                    Finding.conflict(
                        "total-differs",
                        f"{row.at} is {told}, and there are {counted:,}: the rule of the card is wrong here,"
                        " or the save is damaged",
                        where=self.things.where,
                        remedy=f"Put the row of `totals` for {row.at} in the card right.",
                    )
                )
        return found


def open_again(things: Things, kind: str) -> ThingTable:
    """Return the things of a kind as they are in a document that was edited."""
    table = things.tables[kind]
    if isinstance(table, ColumnTable) and table.columns.is_open:
        return ColumnTable(things.document, kind, table.at, table.columns)
    rule = things.rule(kind)
    return open_table(things.document, kind, rule.at, singles=[rule.id] if rule.id else [])
