"""Record: a changeset that was applied, and how it is related to entries and to other changes.

Operations say what a change has to do with others by relations; neither the engine nor the ledger has to
know what an operation does with them.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, TypeVar

from msgspec import Struct, field, to_builtins
from msgspec.structs import asdict, replace

from ..os_names import as_name
from ..places import Tree
from .entries import Tag, read_header, with_roots
from .manifest import tree_from_columns, tree_to_columns

__all__ = [
    "BothHold",
    "HelperAtUpdate",
    "HelperPlaced",
    "HelperRemoved",
    "Inert",
    "MigrationStep",
    "Record",
    "Relation",
    "TookIn",
    "Transplanted",
    "Undoes",
    "WorldRemapped",
    "not_undone",
    "relation_of",
]

_FORMAT = 2
_BODY = ("paths", "before", "after", "statements")
_KEYS_OF_FORMAT_1 = (
    ("undoes", "undoes", "change"),
    ("brings", "took in", "entry"),
    ("other", "both hold", "roots"),
)
_WORDS_OF_FORMAT_1 = {
    "kept": "unchanged", "dropped": "removed", "held": "left alone", "in": "before", "out": "after"
}  # fmt: skip
_COMMON = "common"  # the tree of `BothHold` in the body


class Undoes(Struct, frozen=True, tag="undoes", tag_field="is"):
    """It took a change back."""

    change: str


class TookIn(Struct, frozen=True, tag="took in", tag_field="is"):
    """It took in what an entry of another machine holds."""

    entry: str


class BothHold(Struct, frozen=True, tag="both hold", tag_field="is"):
    """Files went as they are between two places; `roots` are the other's, `tree` what both held then."""

    roots: Mapping[str, str]
    tree: Tree = field(default_factory=Tree)


class Inert(Struct, frozen=True):
    """Content of an id list that keeps its place as other content, until a build has it again."""

    list: str
    name: str
    stands_as: str


class WorldRemapped(Struct, frozen=True, tag="world remapped", tag_field="is"):
    """It gave a world other ids.

    `lists` are the old ones, packed, by name, with which what was kept is read; `after` the new ones.
    `became` says what each name of them became, or "" if it was removed: Zstandard of JSON, `{list: {name:
    name}}`.
    """

    world: str
    inert: tuple[Inert, ...] = ()
    lists: Mapping[str, bytes] = field(default_factory=dict)
    became: bytes = b""
    after: Mapping[str, bytes] = field(default_factory=dict)


class Transplanted(Struct, frozen=True, tag="transplanted", tag_field="is"):
    """It set what is a player's in an old save into one of a new game.

    `save` is the result, made of the save `out_of` and of `into` by the `rules` of the card, which are `by`,
    as JSON. `took` is the digest of a bundle that was set in, `bundle` the file of what waits. `state` is how
    the files were that show a first start, `counts` how many things of each kind the result has.
    """

    save: str
    out_of: str = ""
    into: str = ""
    rules: str = ""
    by: bytes = b""
    took: str = ""
    bundle: bytes = b""
    state: Mapping[str, str] = field(default_factory=dict)
    counts: Mapping[str, int] = field(default_factory=dict)


class HelperPlaced(Struct, frozen=True, tag="helper placed", tag_field="is"):
    """It placed a helper, which an entry keeps; `state` is how the files that show a run were then.

    With a `program`, what told the program's files then, it put a helper back that was deleted.
    """

    helper: str
    entry: str
    state: Mapping[str, str] = field(default_factory=dict)
    program: str = ""


class HelperAtUpdate(Struct, frozen=True, tag="helper at update", tag_field="is"):
    """It brought another build while a helper waited; `state` is how what shows runs was before."""

    helper: str
    state: Mapping[str, str] = field(default_factory=dict)


class HelperRemoved(Struct, frozen=True, tag="helper removed", tag_field="is"):
    """It removed a helper: the sequence is over."""

    helper: str


class MigrationStep(Struct, frozen=True, tag="migration step", tag_field="is"):
    """It was a step of a migration; `after` is the mark or record that the step before it ended with."""

    migration: str
    step: str
    after: str


Relation = (
    Undoes
    | TookIn
    | BothHold
    | WorldRemapped
    | Transplanted
    | HelperPlaced
    | HelperAtUpdate
    | HelperRemoved
    | MigrationStep
)
_R = TypeVar(
    "_R",
    Undoes,
    TookIn,
    BothHold,
    WorldRemapped,
    Transplanted,
    HelperPlaced,
    HelperAtUpdate,
    HelperRemoved,
    MigrationStep,
)
_EMPTY = Tree()


def _no_tree() -> Tree:
    """Return the one empty tree: a history has two for each change."""
    return _EMPTY


def relation_of(relations: Iterable[Relation], kind: type[_R]) -> _R | None:
    """Return the relation of one kind, if there is one."""
    return next((each for each in relations if isinstance(each, kind)), None)


class Record(Struct, frozen=True):
    """One applied changeset: which paths it touched, what they were and what they became.

    `before` and `after` hold the touched paths only (and the folders they lie in); a path of
    `paths` that is missing in one of them did not exist there. `entry` is where the content of
    `before` is kept; `machine` made it. Changes of one `group` were made together, and can be taken back
    together. `touched` is how many `paths` a stored one has, also where they were not read.

    >>> _ = kl.restore(ledger.backup(install), "copy", ledger=ledger).apply(ledger)
    >>> [record.operation for record in ledger.records()]
    ['restore']
    """

    id: str
    when: str
    operation: str
    summary: str
    tag: Tag
    roots: Mapping[str, str]
    entry: str
    version_after: str = ""
    machine: str = ""
    group: str = ""
    relations: tuple[Relation, ...] = ()
    touched: int = 0
    paths: tuple[str, ...] = ()
    before: Tree = field(default_factory=_no_tree)
    after: Tree = field(default_factory=_no_tree)
    statements: tuple[Mapping[str, Any], ...] = ()

    def __repr__(self) -> str:
        return f"<Change {self.id}: {self.summary}>"

    @property
    def undoes(self) -> str:
        """The change it took back; "" if it did not."""
        undone = relation_of(self.relations, Undoes)
        return undone.change if undone is not None else ""

    def header(self) -> dict[str, Any]:
        """Return what stands in the header: all but paths, trees and statements."""
        kept = {name: value for name, value in asdict(self).items() if name not in _BODY}
        kept["relations"] = [_without_tree(each) for each in self.relations]
        return {"format": _FORMAT, **to_builtins(kept), "touched": len(self.paths) or self.touched}

    def body(self) -> dict[str, Any]:
        """Return what stands in the body."""
        shared = relation_of(self.relations, BothHold)
        return {
            "paths": self.paths,
            "before": tree_to_columns(self.before),
            "after": tree_to_columns(self.after),
            "statements": self.statements,
            **({_COMMON: tree_to_columns(shared.tree)} if shared is not None else {}),
        }

    @staticmethod
    def from_json(header: dict[str, Any], body: dict[str, Any] | None = None) -> Record:
        """Read a stored header; without its body, the fields of that stay empty."""
        if header.get("format") == 1:
            header = _from_format_1(header)
            if body is not None:
                body = {**body, "statements": [_renamed(each) for each in body["statements"]]}
        record = with_roots(read_header(header, Record, format=_FORMAT))
        relations = tuple(_named(each) for each in record.relations)
        if body is None:
            return replace(record, relations=relations) if relations else record
        if _COMMON in body:
            tree = tree_from_columns(body[_COMMON])
            relations = tuple(
                replace(each, tree=tree) if isinstance(each, BothHold) else each
                for each in relations
            )
        return replace(
            record,
            relations=relations,
            paths=tuple(body["paths"]),
            before=tree_from_columns(body["before"]),
            after=tree_from_columns(body["after"]),
            statements=tuple(body["statements"]),
        )


def not_undone(records: Iterable[Record]) -> list[Record]:
    """Return the changes that were not taken back, the oldest first, as they are given."""
    undone: set[str] = set()
    found = []
    for record in reversed(list(records)):  # an undo that was undone itself counts for nothing
        if record.undoes and record.id not in undone:
            undone.add(record.undoes)
        found.append(record)
    return [record for record in reversed(found) if record.id not in undone]


def _without_tree(relation: Relation) -> dict[str, Any]:
    if isinstance(relation, BothHold):
        return {"is": "both hold", "roots": dict(relation.roots)}
    plain: dict[str, Any] = to_builtins(relation)
    return plain


def _named(relation: Relation) -> Relation:
    """Return a relation with roots as the system has them; see `os_names`."""
    if not isinstance(relation, BothHold):
        return relation
    return BothHold({name: as_name(root) for name, root in relation.roots.items()})


def _from_format_1(header: dict[str, Any]) -> dict[str, Any]:
    """Return a header of the first format, which had a key for each relation, as one of this."""
    rest = dict(header)
    relations = [
        {"is": kind, name: value}
        for key, kind, name in _KEYS_OF_FORMAT_1
        if (value := rest.pop(key, None))
    ]
    return {**rest, "format": _FORMAT, "relations": relations}


def _renamed(statement: dict[str, Any]) -> dict[str, Any]:
    """Return the books of a record of the first format in the words of this one."""
    renamed = {_WORDS_OF_FORMAT_1.get(key, key): value for key, value in statement.items()}
    totals = statement.get("totals", {})
    renamed["totals"] = {_WORDS_OF_FORMAT_1.get(key, key): value for key, value in totals.items()}
    lines = statement.get("lines")
    if lines is not None:
        renamed["lines"] = [
            {**line, "outcome": _WORDS_OF_FORMAT_1.get(line["outcome"], line["outcome"])}
            for line in lines
        ]
    return renamed
