"""Which backend carries out a change of a place: this machine's disks, or a remote."""

from __future__ import annotations

from typing import TYPE_CHECKING, cast

from ..errors import UsageError
from ..ledger import Ledger
from ..places import Place, capabilities_of, folders_of
from .backend import Backend
from .disk import DiskBackend

if TYPE_CHECKING:
    from ..places.remotes import RemotePlace

__all__ = ["backend_of"]


def backend_of(place: Place, ledger: Ledger, id: str = "") -> Backend:
    """Return the backend a place is on.

    Raises:
        UsageError: it can be read, but not changed.
    """
    if folders_of(place):
        return DiskBackend(place, ledger, id)
    if capabilities_of(place).remote is not None:
        from .remote import RemoteBackend

        return RemoteBackend(cast("RemotePlace", place), ledger, id)
    raise UsageError("this place can be read but not changed", where=place.location)
