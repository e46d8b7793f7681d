"""Operation: what to do, as data; it computes a changeset in a context, and writes nothing.

What always holds: an operation is a value of texts and flags, the same in Python, in JSON and in a card;
what it names is looked up in the context when it is computed.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct, to_builtins

from ..changes import Changeset
from .context import Context

__all__ = ["Operation", "never"]


class Operation(
    Struct,
    frozen=True,
    tag_field="operation",
    omit_defaults=True,
    forbid_unknown_fields=True,
):
    """What to do. A kind of operation is a class with a tag; its fields are what is said of it.

    >>> _ = ledger.backup(install)
    >>> operation = kl.read_operation({"operation": "restore", "entry": "latest", "into": "copy"})
    >>> with kl.Context(ledger, cards=[card]) as context:
    ...     len(operation.compute(context).actions)
    ...
    216
    """

    def compute(self, context: Context) -> Changeset:
        """Return the change that does it; nothing is written.

        Raises:
            KindredError: something it names is not there, or cannot be read; see the function it stands for.
        """
        raise NotImplementedError

    def to_json(self) -> dict[str, Any]:
        """Return it as plain values; what is not said is left out."""
        plain: dict[str, Any] = to_builtins(self)
        return plain


def never(path: str) -> bool:
    """Say no: for patterns of which there are none."""
    return False
