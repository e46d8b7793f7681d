"""What expressions do with values: single ones, and columns of them, by the same rules.

A single value is None, bool, int, Decimal or str, or a list of such. A column is a NumPy array of
numbers or truth, or `Words`. Whole numbers in columns are int64; where that could overflow they
become Python's own, so that nothing wraps around.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from decimal import ROUND_CEILING, ROUND_FLOOR, ROUND_HALF_EVEN, Context, Decimal, InvalidOperation
from typing import Any

from ..formats import Words, words_of

__all__ = [
    "DIGITS",
    "FUNCTIONS",
    "MISSING",
    "Fault",
    "arithmetic",
    "choose",
    "column_of",
    "compare",
    "distinct",
    "is_column",
    "logic",
    "looked_up",
    "negative",
    "same",
]

MISSING: Any = type("Missing", (), {"__repr__": lambda self: "nothing"})()

_EXACT = Context(prec=40)
_LONGEST = 1 << 16  # characters of a text
_MOST = 1 << 16  # parts of a list
_WIDEST = 1 << 63
DIGITS = 400  # of a whole number


class Fault(Exception):
    """A value that there cannot be; the expression adds its place."""


def is_column(value: Any) -> bool:
    """Tell whether a value is one of a whole column."""
    return hasattr(value, "dtype") or isinstance(value, Words)


def column_of(values: list[Any]) -> Any:
    """Return an array of single values that are all of one kind: truth, whole numbers, or numbers."""
    import numpy as np

    if all(isinstance(value, bool) for value in values):
        return np.array(values, np.bool_)
    if all(_is_number(value) for value in values):
        if all(isinstance(value, int) and -_WIDEST <= value < _WIDEST for value in values):
            return np.array(values, np.int64)
        if all(isinstance(value, int) for value in values):
            return np.array(values, object)
        return np.array([float(value) for value in values], np.float64)
    raise Fault("a column has values of one kind")


def distinct(column: Any) -> tuple[list[Any], Any]:
    """Return the single values of a column, and for each row which it has: `(n_rows,)` indexes."""
    import numpy as np

    if isinstance(column, Words):
        return list(column.texts), column.codes
    values, codes = np.unique(column, return_inverse=True)
    return [Decimal(repr(v)) if isinstance(v, float) else v for v in values.tolist()], codes


def arithmetic(sign: str, a: Any, b: Any, own: tuple[bool, bool] = (False, False)) -> Any:
    """Return `a sign b` for + - * / // %; columns that are the caller's `own` may be written over."""
    if isinstance(a, str) and isinstance(b, str) and sign == "+":
        return _bounded(a + b)
    if isinstance(a, Words) or isinstance(b, Words):
        return _joined(sign, a, b)
    if is_column(a) or is_column(b):
        return _columns_together(sign, _numbers(a, sign), _numbers(b, sign), own)
    if not (_is_number(a) and _is_number(b)):
        raise Fault(f"{_told(a)} {sign} {_told(b)}: both must be numbers{_hint(sign, a, b)}")
    if sign in ("/", "//", "%") and b == 0:
        raise Fault("a number is divided by 0")
    if isinstance(a, int) and isinstance(b, int):
        return _whole(_INTEGERS[sign](a, b))
    return _decimals(sign, Decimal(a), Decimal(b))


def negative(a: Any) -> Any:
    """Return -a."""
    if _is_number(a):
        return -a
    return arithmetic("-", 0, a)


def logic(word: str, a: Any, b: Any = False) -> Any:
    """Return `not a`, `a and b`, `a or b`; truth alone is true or false."""
    for each in (a, b):
        truth = isinstance(each, bool) or getattr(getattr(each, "dtype", None), "kind", "") == "b"
        if not truth:
            raise Fault(f"{_told(each)} is neither true nor false")
    if word == "not":
        return not a if isinstance(a, bool) else ~a
    if isinstance(a, bool) and isinstance(b, bool):
        return (a and b) if word == "and" else (a or b)
    return a & b if word == "and" else a | b


def compare(sign: str, a: Any, b: Any) -> Any:
    """Return `a sign b` for == != < <= > >=."""
    if sign in ("==", "!="):
        found = same(a, b)
        return found if sign == "==" else logic("not", found)
    if isinstance(a, Words) or isinstance(b, Words):
        a, b = _texts(a), _texts(b)
    elif is_column(a) or is_column(b):
        a, b = _numbers(a, sign), _numbers(b, sign)
    elif not ((_is_number(a) and _is_number(b)) or (isinstance(a, str) and isinstance(b, str))):
        raise Fault(f"{_told(a)} {sign} {_told(b)}: there is no order between these")
    found = _ORDER[sign](a, b)
    return found.astype(bool) if hasattr(found, "dtype") and found.dtype.kind == "O" else found


def same(a: Any, b: Any) -> Any:
    """Return whether values are equal; 1 is not true, and text is no number."""
    if not is_column(a):
        a, b = b, a
    if isinstance(a, Words):
        if isinstance(b, str):
            return mapped(a, lambda text: text == b)
        if isinstance(b, Words):
            return _texts(a) == _texts(b)
        return _all_false(len(a))
    if is_column(a):
        truth = a.dtype.kind == "b"
        if is_column(b):
            fits = not isinstance(b, Words) and (b.dtype.kind == "b") == truth
            return a == b if fits else _all_false(len(a))
        if isinstance(b, bool) != truth or not isinstance(b, (bool, int, Decimal)):
            return _all_false(len(a))
        return a == _plain(b)
    if _is_number(a) and _is_number(b):
        return a == b
    return type(a) is type(b) and a == b


def choose(told: Any, first: Any, second: Any) -> Any:
    """Return the first value where a column is true, else the second."""
    import numpy as np

    if getattr(getattr(told, "dtype", None), "kind", "") != "b":
        raise Fault(f"{_told(told)} is neither true nor false")
    if any(isinstance(each, (Words, str)) for each in (first, second)):
        one, other = _as_words(first, len(told)), _as_words(second, len(told))
        codes = np.where(told, one.codes, other.codes + len(one.texts))
        return Words(codes, [*one.texts, *other.texts])
    truth = [
        getattr(each, "dtype", None) == np.bool_ or isinstance(each, bool)
        for each in (first, second)
    ]
    if any(truth):
        if not all(truth):
            raise Fault("both values must be of one kind")
        return np.where(told, first, second)
    return np.where(told, _numbers(first, "when"), _numbers(second, "when"))


# ---- columns -------------------------------------------------------------------------------


def _numbers(value: Any, sign: str) -> Any:
    if isinstance(value, Words) or not (is_column(value) or _is_number(value)):
        raise Fault(f"{_told(value)} {sign}: it must be a number")
    if is_column(value):
        if value.dtype.kind == "b":
            raise Fault(f"true and false {sign}: they are no numbers")
        return value
    return _plain(value)


def _plain(value: Any) -> Any:
    """Return a single number as NumPy takes it."""
    return float(value) if isinstance(value, Decimal) else value


def _columns_together(sign: str, a: Any, b: Any, own: tuple[bool, bool]) -> Any:
    import numpy as np

    if sign in ("/", "//", "%") and not np.all(b):
        raise Fault("a number is divided by 0")
    whole = all(isinstance(x, int) or (is_column(x) and x.dtype.kind in "iuO") for x in (a, b))
    form: Any = np.float64 if not whole else np.int64 if _stays_narrow(sign, a, b) else np.object_
    if sign == "/" and form is np.object_:
        raise Fault("such numbers are too large to be divided")
    form = np.float64 if sign == "/" else form
    # What nobody else holds is written over: a new array of this size costs more than the sum.
    free = [
        x for x, mine in zip((a, b), own, strict=True) if mine and is_column(x) and x.dtype == form
    ]
    out = free[0] if free and form is not np.object_ else None
    with np.errstate(all="ignore"):
        result = getattr(np, _UFUNCS[sign])(a, b, out=out, dtype=form, casting="unsafe")
        if form is np.float64 and not np.isfinite(result.sum()) and not np.isfinite(result).all():
            raise Fault("a number is too large, or none")
    return result


def _reach(value: Any) -> int:
    """Return how many bits whole numbers may take, by their type alone."""
    if isinstance(value, int):
        return value.bit_length()
    return 64 if value.dtype.kind == "O" else value.dtype.itemsize * 8 - (value.dtype.kind == "i")


def _stays_narrow(sign: str, a: Any, b: Any) -> bool:
    """Tell whether a result fits int64: by the types, else by the numbers themselves."""
    one, other = _reach(a), _reach(b)
    if not max(one, other):
        return True
    if max(one, other) < 64 and (one + other if sign == "*" else max(one, other) + 1) <= 63:
        return True
    one, other = _widest(a), _widest(b)
    least = (
        max(one, other)
        if sign not in ("*", "+", "-")
        else one * other
        if sign == "*"
        else one + other
    )
    return max(least, one, other) < _WIDEST


def _widest(value: Any) -> int:
    if isinstance(value, int):
        return abs(value)
    return max(abs(int(value.max())), abs(int(value.min()))) if len(value) else 0


def _all_false(count: int) -> Any:
    import numpy as np

    return np.zeros(count, np.bool_)


def _texts(value: Any) -> Any:
    """Return texts as an array of objects, or the one text."""

    if isinstance(value, str):
        return value
    if not isinstance(value, Words):
        raise Fault(f"{_told(value)}: it must be a text")
    return value.array()


def _as_words(value: Any, count: int) -> Words:
    import numpy as np

    if isinstance(value, Words):
        return value
    if isinstance(value, str):
        return Words(np.zeros(count, np.intp), [value])
    raise Fault("both values must be of one kind")


def _joined(sign: str, a: Any, b: Any) -> Any:
    if sign != "+" or not all(isinstance(each, (Words, str)) for each in (a, b)):
        raise Fault(f"{_told(a)} {sign} {_told(b)}: both must be numbers{_hint(sign, a, b)}")
    if isinstance(a, str):
        return mapped(b, lambda text: _bounded(a + text))
    if isinstance(b, str):
        return mapped(a, lambda text: _bounded(text + b))
    return words_of([_bounded(x + y) for x, y in zip(_texts(a), _texts(b), strict=True)])


def mapped(words: Words, call: Callable[[str], Any]) -> Any:
    """Return a column with a function of each text: `Words` of texts, else an array."""
    values = [call(text) for text in words.texts]
    if all(isinstance(value, str) for value in values):
        return Words(words.codes, values)
    return column_of(values)[words.codes]


# ---- single values -------------------------------------------------------------------------


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, Decimal)) and not isinstance(value, bool)


def _whole(value: Any) -> Any:
    if isinstance(value, int) and value.bit_length() > DIGITS * 10 // 3:
        raise Fault(f"a number has more than {DIGITS} digits")
    return value


def _divide(a: int, b: int) -> Any:
    return a // b if a % b == 0 else _EXACT.divide(Decimal(a), Decimal(b))


_INTEGERS: dict[str, Callable[[Any, Any], Any]] = {
    "+": lambda a, b: a + b, "-": lambda a, b: a - b, "*": lambda a, b: a * b,
    "/": _divide, "//": lambda a, b: a // b, "%": lambda a, b: a % b,
}  # fmt: skip
_UFUNCS = {"+": "add", "-": "subtract", "*": "multiply", "/": "true_divide", "//": "floor_divide",
           "%": "remainder"}  # fmt: skip
_ORDER: dict[str, Callable[[Any, Any], Any]] = {
    "<": lambda a, b: a < b, "<=": lambda a, b: a <= b,
    ">": lambda a, b: a > b, ">=": lambda a, b: a >= b,
}  # fmt: skip


def _decimals(sign: str, a: Decimal, b: Decimal) -> Decimal:
    try:
        if sign in ("//", "%"):
            floor = _EXACT.divide(a, b).to_integral_value(ROUND_FLOOR)
            return floor if sign == "//" else _EXACT.subtract(a, _EXACT.multiply(floor, b))
        call = {"+": _EXACT.add, "-": _EXACT.subtract, "*": _EXACT.multiply, "/": _EXACT.divide}[
            sign
        ]
        out = call(a, b)
    except (ArithmeticError, InvalidOperation) as error:
        raise Fault("a number is too large, or none") from error
    if not out.is_finite() or abs(out.adjusted()) > DIGITS:
        raise Fault("a number is too large, or none")
    return out


def _bounded(text: str) -> str:
    if len(text) > _LONGEST:
        raise Fault(f"a text has more than {_LONGEST:,} characters")
    return text


def _told(value: Any) -> str:
    if isinstance(value, Words):
        return "a column of texts"
    if hasattr(value, "dtype"):
        return "a column"
    return repr(value) if isinstance(value, str) else "nothing" if value is None else str(value)


def _hint(sign: str, a: Any, b: Any) -> str:
    texts = any(isinstance(each, (str, Words)) for each in (a, b))
    return "; text(x) makes a text of a number" if sign == "+" and texts else ""


# ---- functions -----------------------------------------------------------------------------


def _of_numbers(
    name: str, single: Callable[[Any], Any], many: Callable[[Any], Any]
) -> Callable[[Any], Any]:
    def call(value: Any) -> Any:
        return many(_numbers(value, name)) if is_column(value) else single(_one(name, value))

    return call


def _one(name: str, value: Any) -> Any:
    if not _is_number(value):
        raise Fault(f"{name} of {_told(value)}: it must be a number")
    return value


def _rounded(way: str, value: Any, digits: Any = 0) -> Any:
    """Round to whole numbers, or to so many digits behind the point; halves go to even ones."""
    if not isinstance(digits, int) or not 0 <= digits <= 15:
        raise Fault("a number is rounded to 0 to 15 digits")
    if is_column(value):
        import numpy as np

        value = _numbers(value, "round")
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
    return number.quantize(Decimal(1).scaleb(-digits), way, _EXACT)


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
        return _numbers(value, "number")
    if isinstance(value, bool):
        return int(value)
    if _is_number(value):
        return value
    try:
        number = Decimal(value.strip()) if isinstance(value, str) and len(value) <= DIGITS else None
    except ArithmeticError:
        number = None
    if number is None or not number.is_finite() or abs(number.adjusted()) > DIGITS:
        raise Fault(f"{_told(value)} is no number")
    exact = number == number.to_integral_value() and "." not in value and "e" not in value.lower()
    return int(number) if exact else number


def _text(value: Any) -> Any:
    if isinstance(value, Words):
        return value
    if is_column(value):
        return words_of([_text(each) for each in value.tolist()])
    if isinstance(value, bool):
        return "true" if value else "false"
    if value is None or isinstance(value, list):
        raise Fault(f"text of {_told(value)}")
    return (
        value if isinstance(value, str) else repr(value) if isinstance(value, float) else str(value)
    )


def _on_text(name: str, call: Callable[..., Any], *kinds: type) -> Callable[..., Any]:
    """Return a function of a text, single or in a column, and of single values of these kinds."""

    def run(value: Any, *rest: Any) -> Any:
        for each, kind in zip(rest, kinds, strict=False):
            if not isinstance(each, kind) or isinstance(each, bool):
                raise Fault(f"{name}: {_told(each)} is not what it takes")
        if isinstance(value, Words):
            return mapped(value, lambda text: call(text, *rest))
        if not isinstance(value, str):
            raise Fault(f"{name} of {_told(value)}: it must be a text")
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
    if len(sign) != 1 or not -_LONGEST <= width <= _LONGEST:
        raise Fault("pad needs a width and one character")
    return text.rjust(width, sign) if width >= 0 else text.ljust(-width, sign)


def _replaced(text: str, old: str, new: str) -> str:
    if not old:
        raise Fault("replace needs a text to look for")
    if text.count(old) * len(new) > _LONGEST:
        raise Fault(f"a text has more than {_LONGEST:,} characters")
    return _bounded(text.replace(old, new))


def _list(name: str, value: Any) -> list[Any]:
    if isinstance(value, dict):
        value = list(value.values())
    if not isinstance(value, list):
        raise Fault(f"{name} of {_told(value)}: it must be a list")
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
    """Return what a card's table has for a key; `otherwise`, or a fault, where it has nothing."""
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
        value = _numbers(value, "abs")
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
        raise Fault(f"{_told(value)}: it must be a text")
    return value
