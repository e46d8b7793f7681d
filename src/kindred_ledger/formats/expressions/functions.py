"""The functions of expressions: of numbers, texts and lists, single values and columns alike."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from decimal import ROUND_CEILING, ROUND_FLOOR, ROUND_HALF_EVEN, Decimal
from typing import Any

from ..columns import Words, words_of
from .values import (
    DIGITS,
    EXACT,
    LONGEST,
    Fault,
    arithmetic,
    bounded,
    choose,
    column_of,
    compare,
    is_column,
    is_number,
    mapped,
    negative,
    numbers,
    shown,
)

__all__ = ["FUNCTIONS", "looked_up"]

_MOST = 1 << 16  # parts of a list


def _of_numbers(
    name: str, single: Callable[[Any], Any], many: Callable[[Any], Any]
) -> Callable[[Any], Any]:
    def call(value: Any) -> Any:
        return many(numbers(value, name)) if is_column(value) else single(_one(name, value))

    return call


def _one(name: str, value: Any) -> Any:
    if not is_number(value):
        raise Fault(f"{name} of {shown(value)}: it must be a number")
    return value


def _rounded(way: str, value: Any, digits: Any = 0) -> Any:
    """Round to whole numbers, or to so many digits behind the point; halves go to even ones."""
    if not isinstance(digits, int) or not 0 <= digits <= 15:
        raise Fault("a number is rounded to 0 to 15 digits")
    if is_column(value):
        import numpy as np

        value = numbers(value, "round")
        if value.dtype.kind != "f":
            return value
        call: Any = {ROUND_HALF_EVEN: np.rint, ROUND_FLOOR: np.floor, ROUND_CEILING: np.ceil}[way]
        if digits:
            return call(value * 10.0**digits) / 10.0**digits
        out = call(value)
        if len(out) and max(abs(float(out.max())), abs(float(out.min()))) >= 2.0**63:
            return np.array([int(each) for each in out], object)
        return out.astype(np.int64)
    number = Decimal(_one("round", value))
    if digits == 0:
        return int(number.to_integral_value(way))
    try:
        return number.quantize(Decimal(1).scaleb(-digits), way, EXACT)
    except ArithmeticError as error:
        raise Fault(f"a number has more than {EXACT.prec} digits") from error


def _extreme(word: str, *values: Any) -> Any:
    if len(values) == 1 and isinstance(values[0], list):
        values = tuple(values[0])
    if not values:
        raise Fault(f"{word} of nothing")
    best = values[0]
    for value in values[1:]:
        better = compare("<" if word == "min" else ">", value, best)
        best = value if better is True else best if better is False else choose(better, value, best)
    return best


def _number(value: Any) -> Any:
    """Return the number a text holds."""
    if isinstance(value, Words):
        return mapped(value, _number)
    if is_column(value):
        return numbers(value, "number")
    if isinstance(value, bool):
        return int(value)
    if is_number(value):
        return value
    try:
        number = Decimal(value.strip()) if isinstance(value, str) and len(value) <= DIGITS else None
    except ArithmeticError:
        number = None
    if number is None or not number.is_finite() or abs(number.adjusted()) > DIGITS:
        raise Fault(f"{shown(value)} is no number")
    exact = number == number.to_integral_value() and "." not in value and "e" not in value.lower()
    return int(number) if exact else number


def _text(value: Any) -> Any:
    if isinstance(value, Words):
        return value
    if is_column(value):
        return words_of([_text(each) for each in value.tolist()])
    if isinstance(value, bool):
        return "true" if value else "false"
    if value is None or isinstance(value, (list, dict)):
        raise Fault(f"text of {shown(value)}")
    return (
        value if isinstance(value, str) else repr(value) if isinstance(value, float) else str(value)
    )


def _on_text(name: str, call: Callable[..., Any], *kinds: type) -> Callable[..., Any]:
    """Return a function of a text, single or in a column, and of single values of these kinds."""

    def run(value: Any, *rest: Any) -> Any:
        for each, kind in zip(rest, kinds, strict=False):
            if not isinstance(each, kind) or isinstance(each, bool):
                raise Fault(f"{name}: {shown(each)} is not what it takes")
        if isinstance(value, Words):
            return mapped(value, lambda text: call(text, *rest))
        if not isinstance(value, str):
            raise Fault(f"{name} of {shown(value)}: it must be a text")
        return call(value, *rest)

    return run


def _split(text: str, sign: str) -> list[str]:
    if not sign:
        raise Fault("split needs a text to split at")
    parts = text.split(sign)
    if len(parts) > _MOST:
        raise Fault(f"a list has more than {_MOST:,} parts")
    return parts


def _part(text: str, sign: str, number: int) -> str:
    parts = _split(text, sign)
    if not -len(parts) <= number < len(parts):
        raise Fault(f"{text!r} has {len(parts)} parts, there is no part {number}")
    return parts[number]


def _padded(text: str, width: int, sign: str = " ") -> str:
    if len(sign) != 1 or not -LONGEST <= width <= LONGEST:
        raise Fault("pad needs a width and one character")
    return text.rjust(width, sign) if width >= 0 else text.ljust(-width, sign)


def _replaced(text: str, old: str, new: str) -> str:
    if not old:
        raise Fault("replace needs a text to look for")
    if text.count(old) * len(new) > LONGEST:
        raise Fault(f"a text has more than {LONGEST:,} characters")
    return bounded(text.replace(old, new))


def _list(name: str, value: Any) -> list[Any]:
    if isinstance(value, dict):
        value = list(value.values())
    if not isinstance(value, list):
        raise Fault(f"{name} of {shown(value)}: it must be a list")
    return value


def _sum(value: Any) -> Any:
    total: Any = 0
    for each in _list("sum", value):
        total = arithmetic("+", total, each)
    return total


def _join(values: Any, sign: Any = "") -> Any:
    if not isinstance(sign, str):
        raise Fault("join needs a text to put between")
    out: Any = ""
    for at, each in enumerate(_list("join", values)):
        out = arithmetic("+", arithmetic("+", out, sign) if at else out, _text(each))
    return out


def _length(value: Any) -> Any:
    if isinstance(value, Words):
        return mapped(value, len)
    return len(value) if isinstance(value, str) else len(_list("count", value))


def looked_up(table: Mapping[str, Any], name: str, key: Any, *otherwise: Any) -> Any:
    """Return what a card's table has for a key; `otherwise`, or a fault, where it has nothing.

    Raises:
        Fault: the table has nothing for the key.
    """
    if isinstance(key, Words):
        return mapped(key, lambda text: looked_up(table, name, text, *otherwise))
    if is_column(key):
        import numpy as np

        values, codes = np.unique(key, return_inverse=True)
        found = [looked_up(table, name, value, *otherwise) for value in values.tolist()]
        if all(isinstance(value, str) for value in found):
            return Words(codes, found)
        return column_of(found)[codes]
    text = _text(key)
    if text in table:
        value = table[text]
        return Decimal(repr(value)) if isinstance(value, float) else value
    if otherwise:
        return otherwise[0]
    raise Fault(f"the table {name} has nothing for {text}")


def _abs(value: Any) -> Any:
    if is_column(value):
        value = numbers(value, "abs")
        return choose(compare("<", value, 0), negative(value), value)
    return abs(_one("abs", value))


# Functions by name: the fewest and the most values, and what they do.
FUNCTIONS: dict[str, tuple[int, int, Callable[..., Any]]] = {
    "abs": (1, 1, _abs),
    "round": (1, 2, lambda value, digits=0: _rounded(ROUND_HALF_EVEN, value, digits)),
    "floor": (1, 1, lambda value: _rounded(ROUND_FLOOR, value)),
    "ceil": (1, 1, lambda value: _rounded(ROUND_CEILING, value)),
    "min": (1, 20, lambda *values: _extreme("min", *values)),
    "max": (1, 20, lambda *values: _extreme("max", *values)),
    "clamp": (3, 3, lambda value, low, high: _extreme("min", _extreme("max", value, low), high)),
    "number": (1, 1, _number),
    "text": (1, 1, _text),
    "upper": (1, 1, _on_text("upper", str.upper)),
    "lower": (1, 1, _on_text("lower", str.lower)),
    "strip": (1, 1, _on_text("strip", str.strip)),
    "starts": (2, 2, _on_text("starts", str.startswith, str)),
    "ends": (2, 2, _on_text("ends", str.endswith, str)),
    "contains": (2, 2, _on_text("contains", lambda text, part: part in text, str)),
    "replace": (3, 3, _on_text("replace", _replaced, str, str)),
    "part": (3, 3, _on_text("part", _part, str, int)),
    "pad": (2, 3, _on_text("pad", _padded, int, str)),
    "split": (2, 2, lambda text, sign: _split(_plain_text(text), _plain_text(sign))),
    "join": (1, 2, _join),
    "count": (1, 1, _length),
    "length": (1, 1, _length),
    "sum": (1, 1, _sum),
}


def _plain_text(value: Any) -> str:
    if not isinstance(value, str):
        raise Fault(f"{shown(value)}: it must be a text")
    return value
