"""Which backend carries out a change of a place: this machine's disks, or a remote."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..errors import UsageError
from ..ledger import Ledger
from ..places import Place, folders_of
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
    if getattr(place, "remote", None) is not None:
        from .remote import RemoteBackend

        far: RemotePlace = place  # type: ignore[assignment]
        return RemoteBackend(far, ledger, id)
    raise UsageError("this place can be read but not changed", where=place.location)
