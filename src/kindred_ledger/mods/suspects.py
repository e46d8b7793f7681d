"""Suspects: which of many parts break a build, found with few trials. Pure: no files, no clock.

A trial is a set of parts that is on, and what came of it. One of some parts that break together is found by
halving the first so many of an order; it stays on while the others are found in what stands before it, as
in the search for minimal conflicts (Junker, QuickXplain, AAAI 2004; Zeller and Hildebrandt, IEEE TSE 28(2),
2002). Parts that need others come after them in the order, so every trial has all that its parts need.

What always holds: nothing is concluded that no trial showed: the found parts alone were tried and broke it,
and all that is left worked in a trial, by itself or with more. What works with some parts is taken to work
with less of them: a part that mends what another breaks cannot be found so.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable, Mapping, Sequence
from enum import StrEnum
from graphlib import CycleError, TopologicalSorter

from msgspec import Struct

from ..errors import UsageError

__all__ = ["Answer", "SuspectsFound", "Trial", "most_trials", "next_trial"]


class Answer(StrEnum):
    """What came of a trial.

    >>> [str(answer) for answer in Answer]
    ['works', 'breaks', 'unclear']
    """

    WORKS = "works"
    BREAKS = "breaks"
    UNCLEAR = "unclear"  # it could not be seen


class Trial(Struct, frozen=True):
    """The parts that were on, and what came of it.

    >>> kl.Trial(frozenset({"a"}), kl.Answer.BREAKS).answer.value
    'breaks'
    """

    on: frozenset[str]
    answer: Answer


class SuspectsFound(Struct, frozen=True):
    """What the trials so far show: the next one to make, or the end.

    `next` are the parts to be on; None at the end. `found` are sets of parts each of which breaks it when all
    of the set are on. `among` are parts of which one is to blame where trials could not tell. `told` says in
    a sentence what is known; `left` is the most trials that are left to find one more part.

    >>> kl.next_trial(["a", "b"], {}).told
    'does it break with all of them?'
    """

    next: frozenset[str] | None
    found: tuple[tuple[str, ...], ...] = ()
    among: tuple[str, ...] = ()
    told: str = ""
    left: int = 0


def most_trials(parts: int, *sizes: int) -> int:
    """Return how many trials are made at most to find sets of so many of `parts`, where each answer is clear.

    >>> most_trials(100, 1), most_trials(100, 2), most_trials(100, 1, 2)
    (11, 19, 28)
    """
    halvings = max(1, (parts - 1).bit_length())
    return 2 + sum(size * (halvings + 1) + 1 for size in sizes)


def next_trial(
    parts: Sequence[str], needs: Mapping[str, Iterable[str]], trials: Sequence[Trial] = ()
) -> SuspectsFound:
    """Return what to try next, after trials that were made in the order they were asked for.

    `needs` are the parts that a part does not work without; others than `parts` are always there.

    Raises:
        UsageError: a trial is another one than was asked for, or parts need each other in a circle.

    >>> next_trial(["a", "b", "c"], {}).next == {"a", "b", "c"}
    True
    """
    search = _Search(parts, needs)
    run = search.run()
    asked = next(run)
    for number, trial in enumerate(trials, 1):
        if asked is None:
            break
        if trial.on != asked:
            raise UsageError(
                f"trial {number} was of other parts than these",
                remedy="The parts have changed since. End this search, and begin a new one.",
            )
        asked = run.send(trial.answer)
    return SuspectsFound(asked, tuple(search.found), tuple(search.among), search.told, search.left)


class _Unclear(Exception):
    """A trial that must be told apart could not be."""


class _Contradiction(Exception):
    """Trials that cannot both be right."""


_Asking = Generator[frozenset[str] | None, Answer, Answer]


class _Search:
    """One search, as a generator that yields the parts to try and is sent what came of it."""

    def __init__(self, parts: Sequence[str], needs: Mapping[str, Iterable[str]]) -> None:
        own = {*parts}
        self.needs = {part: [n for n in needs.get(part, ()) if n in own] for part in parts}
        try:
            order = [*TopologicalSorter(self.needs).static_order()]
        except CycleError as error:
            circle = " needs ".join(error.args[1])
            raise UsageError(
                f"parts need each other in a circle: {circle}", remedy="Take one of them out first."
            ) from error
        self.order = order
        self.known: list[Trial] = []
        self.found: list[tuple[str, ...]] = []
        self.among: list[str] = []
        self.told = ""
        self.left = 0

    def run(self) -> Generator[frozenset[str] | None, Answer, None]:
        try:
            yield from self._run()
        except _Unclear:
            some = f", one of these: {', '.join(self.among)}" if self.among else ""
            self.told = f"it cannot be told further without a clear answer{some}"
        except _Contradiction as told:
            self.told = str(told)
        yield None

    def _run(self) -> Generator[frozenset[str] | None, Answer, None]:
        self.left = max(1, (len(self.order) - 1).bit_length()) + 4
        self.told = "does it break with all of them?"
        if (yield from self._sure(self.order)) is Answer.WORKS:
            self.told = "it works with all of them: what was wrong is not wrong now"
            self.left = 0
            return
        self.left -= 1
        self.told = "does it break without any of them?"
        if (yield from self._sure(())) is Answer.BREAKS:
            self.told = "it breaks without any of them, too: none of them is to blame"
            return
        rest = self.order
        while True:
            base = yield from self._one_set(rest)
            self.found.append(tuple(base))
            self.among = []
            rest = self._without(rest, {*base})
            self.told = f"is {' with '.join(base)} all there is?"
            self.left = 1
            if (yield from self._sure(rest)) is Answer.WORKS:
                break
        sets = "; ".join(" with ".join(each) for each in self.found)
        self.told = f"it breaks with {sets}, and works without"
        self.left = 0

    def _one_set(self, order: Sequence[str]) -> Generator[frozenset[str] | None, Answer, list[str]]:
        """Find parts that break it together, of an order that breaks it as a whole."""
        base: list[str] = []
        end = len(order)
        while True:
            works, breaks = 0, end  # so many of the first work with the base, so many break
            while breaks - works > 1:
                self.left = (breaks - works - 1).bit_length() + 2
                self.told = self._narrowed(order[works:breaks], base)
                middle, answer = yield from self._halved(order, works, breaks, base)
                if answer is Answer.BREAKS:
                    breaks = middle
                else:
                    works = middle
            base.append(order[breaks - 1])
            end = breaks - 1
            self.left = 2
            self.told = f"does {' with '.join(base)} alone break it?"
            self.among = list(base)
            if (yield from self._sure(self._closed(base), inferred=False)) is Answer.BREAKS:
                return base
            if end == 0:
                raise _Contradiction(
                    f"the trials contradict each other: {' with '.join(base)} broke it before, and does not"
                    " now. What is wrong does not come each time, or comes with less"
                )

    def _halved(
        self, order: Sequence[str], works: int, breaks: int, base: Sequence[str]
    ) -> Generator[frozenset[str] | None, Answer, tuple[int, Answer]]:
        """Try the first half; where that stays unclear, another number near it."""
        half = (works + breaks) // 2
        for middle in sorted(range(works + 1, breaks), key=lambda at: (abs(at - half), at)):
            answer = yield from self._ask(self._closed([*base, *order[:middle]]))
            if answer is not Answer.UNCLEAR:
                return middle, answer
        self.among = list(order[works:breaks])
        raise _Unclear

    def _sure(self, on: Iterable[str], *, inferred: bool = True) -> _Asking:
        answer = yield from self._ask(on, inferred=inferred)
        if answer is Answer.UNCLEAR:
            raise _Unclear
        return answer

    def _ask(self, on: Iterable[str], *, inferred: bool = True) -> _Asking:
        """Return what comes of some parts: what was tried, what follows from that, else what is sent."""
        wanted = frozenset(on)
        for trial in self.known:
            if trial.on == wanted:
                return trial.answer
        if inferred:
            for trial in self.known:
                if trial.answer is Answer.WORKS and wanted <= trial.on:
                    return Answer.WORKS
                if trial.answer is Answer.BREAKS and wanted >= trial.on:
                    return Answer.BREAKS
        answer = yield wanted
        self.known.append(Trial(wanted, answer))
        return answer

    def _closed(self, on: Iterable[str]) -> frozenset[str]:
        """Return some parts with all that they need."""
        found: set[str] = set()
        waiting = list(on)
        while waiting:
            part = waiting.pop()
            if part not in found:
                found.add(part)
                waiting += self.needs[part]
        return frozenset(found)

    def _without(self, order: Sequence[str], gone: set[str]) -> list[str]:
        """Return an order without some parts and those that need them."""
        left: list[str] = []
        for part in order:
            if part in gone or any(need in gone for need in self.needs[part]):
                gone.add(part)
            else:
                left.append(part)
        return left

    def _narrowed(self, some: Sequence[str], base: Sequence[str]) -> str:
        beside = f" that breaks with {' with '.join(base)}" if base else ""
        return f"one{beside} is among {len(some)}: {some[0]} … {some[-1]}"
