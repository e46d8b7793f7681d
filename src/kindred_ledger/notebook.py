"""Notebooks: values as HTML tables, and as data frames where pandas is installed (the extra `data`)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from .errors import UsageError

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["frame_of", "html_table"]

_MOST_ROWS = 40  # of an HTML table; a notebook is no place to scroll


def html_table(heads: Sequence[str], rows: Iterable[Sequence[object]], *, caption: str = "") -> str:
    """Return rows as an HTML table, with the first of many and how many more there are.

    >>> html_table(("file",), [("a<b",)])
    '<table><tr><th>file</th></tr><tr><td>a&lt;b</td></tr></table>'
    """
    from html import escape  # 2 ms, of tables of characters

    lines = list(rows)
    head = "".join(f"<th>{escape(name)}</th>" for name in heads)
    body = "".join(
        "<tr>" + "".join(f"<td>{escape(str(cell))}</td>" for cell in line) + "</tr>"
        for line in lines[:_MOST_ROWS]
    )
    more = len(lines) - _MOST_ROWS
    if more > 0:
        body += f'<tr><td colspan="{len(heads)}">… and {more:,} more</td></tr>'
    told = f"<caption>{escape(caption)}</caption>" if caption else ""
    return f"<table>{told}<tr>{head}</tr>{body}</table>"


def frame_of(columns: Mapping[str, Any]) -> DataFrame:
    """Return columns of one length as a data frame; texts are `str`, what is missing is None.

    Raises:
        UsageError: pandas is not installed.
    """
    try:
        from pandas import DataFrame
    except ImportError as error:
        raise UsageError(
            "a data frame needs pandas", remedy="Install it: pip install 'kindred-ledger[data]'"
        ) from error
    return DataFrame(dict(columns))
