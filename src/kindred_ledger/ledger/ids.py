"""Ids of entries and history records: short, sortable by time, easy to type.

Seven characters are the tenths of a second since 2020 in Crockford's base 32 (no i, l, o, u),
two are random, so that machines that share a ledger do not meet.
"""

from __future__ import annotations

import os

__all__ = ["new_id"]

_DIGITS = "0123456789abcdefghjkmnpqrstvwxyz"
_START = 1_577_836_800  # 2020-01-01 UTC
_TIME_LENGTH = 7


def new_id(now: float, *, after: str = "") -> str:
    """Return an id for the time `now` (seconds since 1970) that sorts behind `after`.

    A clock that went backwards, or two ids in one tick, do not disturb the order.
    """
    tick = max(0, int((now - _START) * 10))
    if after:
        tick = max(tick, _value(after[:_TIME_LENGTH]) + 1)
    text = ""
    for _ in range(_TIME_LENGTH):
        text = _DIGITS[tick % 32] + text
        tick //= 32
    return text + "".join(_DIGITS[byte % 32] for byte in os.urandom(2))


def _value(text: str) -> int:
    value = 0
    for letter in text:
        value = value * 32 + _DIGITS.index(letter)
    return value
