"""What was there: every manifest names those written last before it, so that a deletion is noticed.

The body of each manifest has `known`: the ledger's id, and by folder the ids of the newest manifests that
its writer saw. One that is named, not retired and not there any more was deleted. What is newest is named
by none yet: the cache remembers it. Copies in a mirror name what was in the ledger they were made for;
there they say nothing.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from .storage import Storage

__all__ = ["FOLDERS", "KNOWN", "LEDGER", "SUFFIX", "known", "named_in"]

KNOWN = "known"
LEDGER = "ledger"  # under which the cache knows the ledger's id
FOLDERS = ("entries", "history", "marks")
SUFFIX = ".json.zst"  # of every manifest
_LAST = 16  # of each kind: more than write at once, so that each is named by some that come later


def known(storage: Storage) -> dict[str, Any]:
    """Return what a manifest that is written now says of those before it."""
    return {"ledger": storage.ledger_id, **{folder: _newest(storage, folder) for folder in FOLDERS}}


def _newest(storage: Storage, folder: str) -> list[str]:
    ids = [name[: -len(SUFFIX)] for name in storage.names(folder) if name.endswith(SUFFIX)]
    return sorted(ids)[-_LAST:]


def named_in(body: Mapping[str, Any], ledger_id: str) -> Iterator[tuple[str, str]]:
    """Yield the folder and id of each manifest that one of this ledger names."""
    found = body.get(KNOWN)
    if not isinstance(found, dict) or not ledger_id or found.get("ledger") != ledger_id:
        return
    for folder in FOLDERS:
        ids = found.get(folder)
        for id in ids if isinstance(ids, list) else ():
            if isinstance(id, str) and id.isalnum():
                yield folder, id
