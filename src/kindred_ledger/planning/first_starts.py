"""First starts: saves that things of a long game were set into, and whether the game was started with them.

What always holds: what this program wrote itself shows no start; a change that was taken back counts no more.
"""

from __future__ import annotations

import msgspec
from blake3 import blake3
from msgspec.structs import replace

from ..cards import Install
from ..cards.helper_models import EvidenceTable
from ..cards.transplant_models import TransplantTable
from ..ledger import Ledger, Record, Transplanted, not_undone, relation_of
from ..places import Tree, roots_of
from .evidence import Evidence

__all__ = ["first_start_of", "is_started", "transplants_in"]


def transplants_in(install: Install, ledger: Ledger) -> list[tuple[Record, Transplanted]]:
    """Return what was set into saves of an install and still is, the newest of each save, newest first."""
    here = roots_of(install.place)
    found: dict[str, tuple[Record, Transplanted]] = {}
    for record in reversed(not_undone(ledger.records())):
        relation = relation_of(record.relations, Transplanted)
        if relation is not None and dict(record.roots) == here:
            found.setdefault(relation.save, (record, relation))
    return list(found.values())


def first_start_of(rules: TransplantTable, save: str) -> list[EvidenceTable]:
    """Return what shows that the game was started with a save of this name."""
    return [
        replace(row, file=row.file.replace("{save}", save), line=row.line.replace("{save}", save))
        for row in rules.first_start
    ]


def is_started(
    install: Install,
    tree: Tree,
    ledger: Ledger,
    made: tuple[Record, Transplanted],
    rules: TransplantTable | None = None,
) -> tuple[bool, str]:
    """Tell whether the game was started with a save, and in words what would show it.

    `rules` None: those by which the save was made.
    """
    record, relation = made
    rules = rules or msgspec.json.decode(relation.by, type=TransplantTable)
    rows = first_start_of(rules, relation.save.rpartition("/")[2])
    after = ledger.record(record.id).after

    def is_ours(path: str, data: bytes) -> bool:
        return path in after and after[path].digest == blake3(data).digest()

    evidence = Evidence(install, rows, tree, is_ours=is_ours)
    if not rows:
        return False, "the card says nothing of what shows it"
    started = evidence.all_show(rows, relation.state)
    return started, "" if started else evidence.what_shows(rows)
