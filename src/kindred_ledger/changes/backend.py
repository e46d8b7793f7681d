"""Backend: what a change is carried out on, a disk of this machine or a remote, for one change of one place.

The engine says what happens in which order; the backend knows how it is done there. A location is where
something stands or is put aside, in the backend's own terms: `final` is where an operation's path is,
`new` where its content is staged, `old` where what it replaces is put, `foreign` where what somebody
else wrote goes when a change is taken back.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Protocol

from msgspec import Struct

from ..places import Node, Place, Tree
from ..progress import Progress
from .actions import Action
from .journal import Op

__all__ = ["Backend", "Owner", "Sources"]


class Owner(Struct, frozen=True):
    """Whose an unfinished change is, as noted in the place: a ledger, the change's id, and a machine."""

    ledger: str
    id: str = ""
    machine: str = ""


Sources = Mapping[int, tuple[Place, str]]  # by the number of the operation: where its content is


class Backend(Protocol):
    """See the module. `id` is the change's; it is set when there is one.

    `aside_first` tells that all old files are moved aside, durably, before anything new is moved in.
    """

    id: str
    aside_first: bool

    def hold(self) -> AbstractContextManager[None]:
        """Keep other commands of this user from changing the place, for the block."""
        ...

    def check_unfinished(self) -> None:
        """Look for changes that were cut off here.

        Raises:
            PlaceBusy: there is one that has to be finished or taken back first.
        """
        ...

    def check_space(self, actions: Iterable[Action]) -> None:
        """Raise `PlaceError` if it is known that what will be written has no room."""
        ...

    def look(self, paths: Iterable[str], progress: Progress) -> Tree:
        """Return what stands at some paths now, with digests that prove it as well as can be."""
        ...

    def names(self) -> Iterator[str] | None:
        """Return the paths of all there is, files and folders, if that is cheaper than looking at each."""
        ...

    def stage(self, ops: Sequence[Op], sources: Sources, progress: Progress) -> None:
        """Write the new content of every `put` to where it is staged, verified and durable.

        Raises:
            PlaceChanged: a source does not hold what it held when the change was computed.
            PlaceError: the place refuses.
        """
        ...

    def check_present(self) -> None:
        """Raise `PlaceError` unless what was put aside is there: a disk that was pulled out looks empty."""
        ...

    def final(self, op: Op) -> str: ...

    def new(self, op: Op) -> str: ...

    def old(self, op: Op) -> str: ...

    def foreign(self, op: Op) -> str: ...

    def there(self, location: str) -> bool:
        """Tell whether anything stands at a location."""
        ...

    def holds(self, location: str, node: Node) -> bool:
        """Tell whether what stands at a location is what a node says."""
        ...

    def move(self, source: str, target: str) -> None:
        """Move what stands at a location to one where nothing does."""
        ...

    def make_folder(self, location: str) -> None:
        """Make a folder."""
        ...

    def remove_folder(self, location: str) -> bool:
        """Remove a folder; tell whether it could be, False if something is in it."""
        ...

    def set_metadata(self, location: str, node: Node) -> None:
        """Give what stands at a location the time and mode of a node, as far as they can be held."""
        ...

    def sync_aside(self) -> None:
        """Make what was moved aside durable."""
        ...

    def make_durable(self, ops: Sequence[Op]) -> None:
        """Make what was moved durable, and see that what `ops` put aside is what was kept.

        Raises:
            PlaceChanged: it is not.
        """
        ...

    def strangers(self) -> list[Place]:
        """Return places with what somebody else wrote, if anything."""
        ...

    def abandon(self) -> bool:
        """Give up before anything of the place was touched; tell whether what was staged waits."""
        ...

    def clear(self) -> None:
        """Remove all that the change put aside.

        Raises:
            PlaceError: a disk went away, or the system refuses.
        """
        ...
