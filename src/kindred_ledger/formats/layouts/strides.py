"""Following: where things begin that lie one behind another, each of a size that only it tells.

A chain of them can only be followed from one to the next, but chains that begin anywhere soon fall together.
So hundreds are followed side by side, one from the begin of each stretch of the data, and on into the next
stretch until they meet the chain that was followed there: the true one is put together of them.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

__all__ = ["follow", "walk"]

_FIRST = 200  # things that are followed one by one; they tell how long the others are
_LEAST = 64  # things in a stretch: many against what is followed until chains meet
_MOST_STRETCHES = 2048
_MOST_AT_ONCE = 1 << 21  # things
_ROUNDS = 32  # things a round of following chains on, down to which that is worth more than a loop
_PATIENCE = 3  # times the rounds that a stretch should take
_FAR = 8  # times the mean size

Step = Callable[[Any], Any]


def follow(
    step: Step, first: int, count: int, size: int, *, mean: float = 0.0, gives_up: bool = False
) -> Any:
    """Return the places of `count` things and the place behind them: `(count + 1,)` int64.

    `step` returns, for places `(n,) int64`, where the things there end, beyond `size` where there can be
    none. The result is shorter, and right so far, if the chain comes to such a place, or to the end.
    `mean` is how large the things are, if that is known. Where chains do not fall together it takes a round
    of NumPy for each thing; with `gives_up` the result is None then.
    """
    import numpy as np

    alone = 0 if mean else min(count, _FIRST)
    places, at, failed = _one_by_one(step, first, alone, size)
    out, found = [places], len(places)
    multiple = _multiple(places, at)
    while found < count and at < size and not failed:
        wanted = min(count - found, _MOST_AT_ONCE)
        mean = (at - first) / found if found else mean
        end = min(size, at + int(mean * wanted * 17 / 16) + 1)
        stretches = min(wanted // _LEAST, _MOST_STRETCHES, (end - at) // (2 * multiple))
        if stretches < 2:
            places, at, failed = _one_by_one(step, at, wanted, size)
        else:
            bounds = np.linspace(at, end, stretches + 1, dtype=np.int64)
            bounds[1:-1] -= (bounds[1:-1] - at) % multiple
            window = _window(
                step, bounds, size, mean, rounds=wanted // (_ROUNDS if gives_up else 1) + _LEAST
            )
            if window is None:
                return None
            places, at, failed = window
        if len(places) > count - found:
            at, failed = int(places[count - found]), False
            places = places[: count - found]
        out.append(places)
        found += len(places)
    return np.append(np.concatenate(out), at)


def walk(lengths: Any, first: int, count: int, *, before: int, fixed: int) -> Any:
    """Return the same of things whose length stands `before` bytes behind their begin, by a plain loop.

    `lengths` (n,) has what would be a length at every place; the next thing is `fixed` and that much on.
    """
    import numpy as np

    places: list[int] = []
    at, room = first, len(lengths)
    numbers = np.ascontiguousarray(lengths, lengths.dtype.newbyteorder("=")).data
    while len(places) < count and at + before < room:
        places.append(at)
        at += fixed + numbers[at + before]
    return np.array([*places, at], np.int64)


def _multiple(places: Any, at: int) -> int:
    """Return what the sizes of the last things are multiples of.

    Chains that begin at other places than multiples of it from there might never meet the true one.
    """
    import numpy as np

    sizes = np.diff(np.append(places, at))
    return int(np.gcd.reduce(sizes)) if len(sizes) else 1


def _one_by_one(step: Step, at: int, count: int, size: int) -> tuple[Any, int, bool]:
    """Follow one chain; return its places, where it goes on, and whether it cannot."""
    import numpy as np

    places: list[int] = []
    while len(places) < count and at < size:
        after = int(step(np.array([at], np.int64))[0])
        if after > size or after <= at:
            return np.array(places, np.int64), at, True
        places.append(at)
        at = after
    return np.array(places, np.int64), at, False


def _window(
    step: Step, bounds: Any, size: int, mean: float, *, rounds: int
) -> tuple[Any, int, bool] | None:
    """Follow the chain between bounds; return its places, where it goes on, and whether it cannot."""
    import numpy as np

    first, end, stops = int(bounds[0]), int(bounds[-1]), bounds[1:]
    places, after, died = _side_by_side(step, bounds[:-1], stops, size, mean)
    marks = np.zeros(end - first, np.bool_)
    marks[places - first] = True
    found = _on(step, np.where(died, end, after), marks, first, size, rounds)
    if found is None:
        return None
    joints, met, failed = found
    # The true chain: that of the first stretch, what leads on from there, the one that was met, and so on.
    cuts = np.searchsorted(places, bounds).tolist()
    if died[0]:
        return places[: cuts[1]], int(after[0]), True
    out = []
    stretch, begin = 0, 0
    while True:
        out += [places[begin : cuts[stretch + 1]], joints[stretch]]
        at = int(met[stretch])
        if failed[stretch] or at >= end:
            return np.concatenate(out), at, bool(failed[stretch])
        stretch = int(np.searchsorted(stops, at, side="right"))
        begin = int(np.searchsorted(places, at))


def _side_by_side(
    step: Step, starts: Any, stops: Any, size: int, mean: float
) -> tuple[Any, Any, Any]:
    """Follow a chain from each start up to its stop; one that cannot go on begins anew, a byte further on.

    So does one that comes to a thing far larger than those before, as what lies in a text mostly is. Return
    all places, sorted; where each chain goes on; and which have none. The first is not begun anew.
    """
    import numpy as np

    at, which = starts.copy(), np.arange(len(starts))
    births, born = starts.copy(), np.zeros(len(starts), np.int64)  # place and round
    after, died = starts.copy(), np.zeros(len(starts), np.bool_)
    recorded: list[tuple[Any, Any]] = []
    far = int(_FAR * mean) + _LEAST
    stretch = int(stops[-1] - starts[0]) // len(starts)
    patience = int(_PATIENCE * (stretch / mean + mean)) + _LEAST
    while len(which) and len(recorded) < patience:
        recorded.append((which, at))
        ends = step(at)
        bad = (ends > size) | (ends <= at) | ((ends - at > far) & (which > 0))
        if bad.any():
            lost = which[bad]
            births[lost] += 1
            born[lost] = len(recorded)
            if lost[0] == 0:
                after[0], births[0] = at[0], stops[0]
            ends = np.where(bad, births[which], ends)
            died[lost[births[lost] >= stops[lost]]] = True
        going = ends < stops[which]
        done = which[~going]
        after[done[~died[done]]] = ends[~going][~died[done]]
        which, at = which[going], ends[going]
    after[which] = at  # for those that took too long
    chains = np.concatenate([chain for chain, _ in recorded])
    places = np.concatenate([place for _, place in recorded])
    rounds = np.repeat(np.arange(len(recorded)), [len(chain) for chain, _ in recorded])
    valid = (rounds >= born[chains]) & ~died[chains]
    if died[0]:
        valid |= (chains == 0) & (places < after[0])
    return np.sort(places[valid]), after, died


def _on(
    step: Step, at: Any, marks: Any, first: int, size: int, rounds: int
) -> tuple[list[Any], Any, Any] | None:
    """Follow chains on until each meets a mark; return their places, where, and which could not go on.

    None if that takes more than so many rounds.
    """
    import numpy as np

    end = first + len(marks)
    met, failed = at.copy(), np.zeros(len(at), np.bool_)
    which = np.flatnonzero(at < end)
    at = at[which]
    recorded: list[tuple[Any, Any]] = [(which[:0], at[:0])]
    while len(which):
        going = ~marks[np.minimum(at - first, len(marks) - 1)] & (at < end)
        met[which[~going]] = at[~going]
        which, at = which[going], at[going]
        if len(recorded) > rounds:
            return None
        ends = step(at)
        bad = (ends > size) | (ends <= at)
        failed[which[bad]] = True
        met[which[bad]] = at[bad]
        which, at, ends = which[~bad], at[~bad], ends[~bad]
        recorded.append((which, at))
        at = ends
    chains = np.concatenate([chain for chain, _ in recorded])
    places = np.concatenate([place for _, place in recorded])
    order = np.argsort(chains, kind="stable")
    cuts = np.searchsorted(chains[order], np.arange(len(met) + 1)).tolist()
    places = places[order]
    return [places[cuts[n] : cuts[n + 1]] for n in range(len(met))], met, failed
