"""Figures of what changed between two states: fields by file, and the numbers that changed most."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from ..errors import UsageError
from ..places import refusals
from .compare import Comparison, relative_change

if TYPE_CHECKING:
    from matplotlib.figure import Figure

__all__ = ["blank_figure", "draw_comparison", "save_figure"]

_FILES, _FIELDS = 12, 20  # that are drawn
_LONGEST = 44  # characters of a name
_ADDED, _REMOVED, _CHANGED, _LESS = "#2a7f62", "#b3402a", "#3b6ea5", "#c08a2d"


def draw_comparison(compared: Comparison, path: str | os.PathLike[str], *, title: str = "") -> None:
    """Draw a comparison into a file: PNG, SVG or PDF, by its name.

    On the left, records and fields that were added, removed and changed in each file; on the right, the
    numbers that changed most, of what they were.

    Raises:
        UsageError: Matplotlib is not installed, or it knows no such kind of picture.
        PlaceError: the file cannot be written.
    """
    files = sorted(compared.fields.items(), key=lambda item: -len(item[1]))[:_FILES][::-1]
    figure = blank_figure(title or "What changed")
    left, right = figure.subplots(1, 2, width_ratios=(2, 3))
    _draw_files(left, files)
    _draw_numbers(right, compared)
    save_figure(figure, path)


def blank_figure(title: str) -> Figure:
    """Return a figure of 1280 by 800 points with a title, and nothing else in it.

    Raises:
        UsageError: Matplotlib is not installed.
    """
    try:
        from matplotlib.figure import Figure
    except ImportError as error:
        raise UsageError(
            "a figure needs the package matplotlib",
            remedy="Install it: pip install 'kindred-ledger[data]'",
        ) from error
    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    figure.suptitle(title, fontsize=14)
    return figure


def save_figure(figure: Figure, path: str | os.PathLike[str]) -> None:
    """Write a figure into a file: PNG, SVG or PDF, by its name.

    Raises:
        UsageError: Matplotlib knows no such kind of picture.
        PlaceError: the file cannot be written.
    """
    where = os.fspath(path)
    with refusals(where):
        try:
            figure.savefig(where)
        except ValueError as error:
            raise UsageError(
                f"no picture of this kind can be written: {error}",
                where=where,
                remedy="Name it .png, .svg or .pdf.",
            ) from error


def _draw_files(axes, files) -> None:  # type: ignore[no-untyped-def]
    names = [_short(path.rpartition("/")[2]) for path, _ in files]
    start = [0] * len(files)
    for label, colour, fits in (
        ("added", _ADDED, lambda each: each.before is None),
        ("removed", _REMOVED, lambda each: each.after is None),
        ("changed", _CHANGED, lambda each: None not in (each.before, each.after)),
    ):
        counts = [sum(map(fits, fields)) for _, fields in files]
        axes.barh(names, counts, left=start, color=colour, label=label)
        start = [one + more for one, more in zip(start, counts, strict=True)]
    axes.set_title("records and fields that differ, by file", fontsize=11)
    axes.set_xlabel("how many")
    axes.spines[["top", "right"]].set_visible(False)
    if files:
        axes.legend(frameon=False, loc="lower right")


def _draw_numbers(axes, compared: Comparison) -> None:  # type: ignore[no-untyped-def]
    moved = [
        (abs(change), change, each, path.rpartition("/")[2])
        for path, fields in compared.fields.items()
        for each in fields
        if (change := relative_change(each)) is not None
    ]
    largest = sorted(moved, key=lambda one: -one[0])[:_FIELDS][::-1]
    several = len({file for *_, file in largest}) > 1
    names = [
        _short(f"{file}: {each.name}" if several else each.name) for _, _, each, file in largest
    ]
    places = range(len(largest))
    shares = [100 * change for _, change, _, _ in largest]
    axes.barh(places, shares, color=[_ADDED if share > 0 else _LESS for share in shares])
    axes.set_yticks(places, names)
    for place, (_, change, each, _) in zip(places, largest, strict=True):
        told = f" {each.before} to {each.after} "
        axes.annotate(
            told,
            (100 * change, place),
            va="center",
            ha="left" if change > 0 else "right",
            fontsize=8,
        )
    axes.axvline(0, color="#555555", linewidth=0.8)
    axes.margins(x=0.25)
    axes.set_title("numbers that changed most", fontsize=11)
    axes.set_xlabel("change in percent of what it was")
    axes.spines[["top", "right"]].set_visible(False)
    if not largest:
        axes.text(0.5, 0.5, "no number changed", ha="center", transform=axes.transAxes)


def _short(text: str) -> str:
    return text if len(text) <= _LONGEST else f"…{text[-_LONGEST + 1 :]}"
