"""A census as a figure, or two beside each other: a panel for each kind."""

from __future__ import annotations

import math
import os
from collections.abc import Mapping
from typing import Any

from ..planning.figures import blank_figure, save_figure
from .census import Census

__all__ = ["draw_census"]

_NAMES = 10  # of a kind that are drawn
_KINDS = 9
_LEAST_ROWS = 5  # that a panel has room for, so that few bars are no blocks
_LONGEST = 24  # characters of a name
_BEFORE, _AFTER = "#3b6ea5", "#2a7f62"
_FAR_APART = 200  # times: from there on a scale by powers of ten


def draw_census(
    before: Census, path: str | os.PathLike[str], *, after: Census | None = None, title: str = ""
) -> None:
    """Draw a census into a file, PNG, SVG or PDF by its name; with `after` both beside each other.

    Raises:
        UsageError: Matplotlib is not installed, or it knows no such kind of picture.
        PlaceError: the file cannot be written.

    >>> kl.draw_census(census, "census.png")
    """
    others = after.counts if after is not None else {}
    kinds = sorted({*before.counts, *others})[:_KINDS]
    builds = {before.build, after.build} - {""} if after is not None else set()
    sides = f", build {before.build} and build {after.build}" if after and len(builds) == 2 else ""
    told = title or f"What is in {before.world}{sides or (', before and after' if after else '')}"
    figure = blank_figure(told)
    columns = min(3, max(1, len(kinds)))
    rows = max(1, math.ceil(len(kinds) / columns))
    panels = figure.subplots(rows, columns, squeeze=False).ravel()
    for panel, kind in zip(panels, kinds, strict=False):
        _draw(panel, kind, before.counts.get(kind, {}), others.get(kind, {}) if after else None)
    for panel in panels[len(kinds) :]:
        panel.set_visible(False)
    if after is not None and kinds:
        handles, labels = panels[0].get_legend_handles_labels()
        figure.legend(handles, labels, loc="outside lower center", ncols=2, frameon=False)
    save_figure(figure, path)


def _draw(axes: Any, kind: str, before: Mapping[str, int], after: Mapping[str, int] | None) -> None:
    both = after or {}
    names = sorted(
        {*before, *both}, key=lambda name: (-max(before.get(name, 0), both.get(name, 0)), name)
    )
    left_out = len(names) - _NAMES
    names = names[:_NAMES][::-1]
    height = 0.8 if after is None else 0.4
    places = range(len(names))
    shift = 0.2 if after is not None else 0.0
    sides = [("before", before, shift, _BEFORE)]
    if after is not None:
        sides.append(("after", after, -shift, _AFTER))
    most = 0
    for label, side, offset, colour in sides:
        values = [side.get(name, 0) for name in names]
        most = max([most, *map(abs, values)])
        axes.barh([p + offset for p in places], values, height, label=label, color=colour)
        for place, value in zip(places, values, strict=True):
            axes.annotate(f" {value:,}", (value, place + offset), va="center", fontsize=7)
    shown = [abs(side.get(name, 0)) for _, side, _, _ in sides for name in names]
    if most > _FAR_APART * max(1, min((each for each in shown if each), default=1)):
        axes.set_xscale("symlog")
    axes.margins(x=0.18)
    axes.set_ylim(-0.7 - max(0, _LEAST_ROWS - len(names)), len(names) - 0.3)
    axes.set_yticks(list(places), [_short(name) for name in names], fontsize=8)
    axes.tick_params(axis="x", labelsize=7)
    axes.set_title(kind if left_out <= 0 else f"{kind} (and {left_out} more)", fontsize=11)
    axes.spines[["top", "right"]].set_visible(False)


def _short(text: str) -> str:
    return text if len(text) <= _LONGEST else f"…{text[-_LONGEST + 1 :]}"
