"""Routes: the chain of steps between two format versions. Knows no files."""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Sequence
from itertools import count

from msgspec import Struct

from ..errors import NoRoute
from ..versions import Version

__all__ = ["Hop", "find_route"]


class Hop(Struct, frozen=True):
    """One hop between two versions; `loses` tells that it drops something, `number` its place."""

    source: Version
    target: Version
    loses: bool = False
    number: int = 0


def find_route(hops: Iterable[Hop], source: Version, target: Version) -> tuple[Hop, ...]:
    """Return the route that loses in the fewest hops and, among those, has the fewest hops.

    Dijkstra's algorithm over (lossy hops, hops).

    Raises:
        NoRoute: no chain of hops leads there; the message names what can be reached.
    """
    if source == target:
        return ()
    leaving: dict[Version, list[Hop]] = {}
    for hop in hops:
        leaving.setdefault(hop.source, []).append(hop)
    order = count()
    queue: list[tuple[tuple[int, int], int, Version, tuple[Hop, ...]]] = [
        ((0, 0), next(order), source, ())
    ]
    done: set[Version] = set()
    while queue:
        cost, _, version, route = heapq.heappop(queue)
        if version == target:
            return route
        if version in done:
            continue
        done.add(version)
        for hop in leaving.get(version, ()):
            if hop.target not in done:
                further = (cost[0] + hop.loses, cost[1] + 1)
                heapq.heappush(queue, (further, next(order), hop.target, (*route, hop)))
    raise _no_route(source, target, sorted(done - {source}))


def _no_route(source: Version, target: Version, reached: Sequence[Version]) -> NoRoute:
    back = " back" if target < source else ""
    remedy = (
        f"From {source} the card's steps reach {', '.join(map(str, reached))}."
        if reached
        else f"The card has no steps from {source}."
    )
    return NoRoute(f"no route leads{back} from format {source} to {target}", remedy=remedy)
