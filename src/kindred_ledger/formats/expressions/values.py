"""What expressions do with values: single ones, and columns of them, by the same rules.

A single value is None, bool, int, Decimal or str, or a list of such. A column is a NumPy array of
numbers or truth, or `Words`. Whole numbers in columns are int64; where that could overflow they
become Python's own, so that nothing wraps around.
"""

from __future__ import annotations

from collections.abc import Callable
from decimal import Context, Decimal, Inexact, InvalidOperation, Overflow
from typing import Any

from ..columns import Words, single_kind, words_of

__all__ = [
    "DIGITS",
    "EXACT",
    "LONGEST",
    "MISSING",
    "Fault",
    "arithmetic",
    "bounded",
    "choose",
    "column_of",
    "compare",
    "is_column",
    "is_number",
    "logic",
    "mapped",
    "negative",
    "numbers",
    "same",
    "shown",
]

MISSING: Any = type("Missing", (), {"__repr__": lambda self: "nothing"})()

EXACT = Context(prec=40)  # for what has no end, such as 1 / 3
_UNCUT = Context(prec=EXACT.prec, traps=[Inexact, InvalidOperation, Overflow])
_WIDE = Context(prec=1000, traps=[InvalidOperation, Overflow])
LONGEST = 1 << 16  # characters of a text
_WIDEST = 1 << 63
DIGITS = 400  # of a whole number


class Fault(Exception):
    """A value that there cannot be; the expression adds its place."""


def is_column(value: Any) -> bool:
    """Tell whether a value is one of a whole column."""
    return hasattr(value, "dtype") or isinstance(value, Words)


def column_of(values: list[Any]) -> Any:
    """Return an array of single values that are all of one kind: truth, whole numbers, or numbers.

    Raises:
        Fault: the values are of different kinds.
    """
    import numpy as np

    found = single_kind(values)
    if found is not None and not isinstance(found, Words):
        return found
    if all(is_number(value) for value in values):
        return np.array([float(value) for value in values], np.float64)
    raise Fault("a column has values of one kind")


def arithmetic(sign: str, a: Any, b: Any, own: tuple[bool, bool] = (False, False)) -> Any:
    """Return `a sign b` for + - * / // %; columns that are the caller's `own` may be written over.

    Raises:
        Fault: the values do not go with the sign.
    """
    if isinstance(a, str) and isinstance(b, str) and sign == "+":
        return bounded(a + b)
    if isinstance(a, Words) or isinstance(b, Words):
        return _joined(sign, a, b)
    if is_column(a) or is_column(b):
        return _columns_together(sign, numbers(a, sign), numbers(b, sign), own)
    if not (is_number(a) and is_number(b)):
        raise Fault(f"{shown(a)} {sign} {shown(b)}: both must be numbers{_hint(sign, a, b)}")
    if sign in ("/", "//", "%") and b == 0:
        raise Fault("a number is divided by 0")
    if isinstance(a, int) and isinstance(b, int):
        return _whole(_INTEGERS[sign](a, b))
    return _decimals(sign, Decimal(a), Decimal(b))


def negative(a: Any) -> Any:
    """Return -a."""
    if is_number(a):
        return -a
    return arithmetic("-", 0, a)


def logic(word: str, a: Any, b: Any = False) -> Any:
    """Return `not a`, `a and b`, `a or b`; truth alone is true or false.

    Raises:
        Fault: a value is neither true nor false.
    """
    for each in (a, b):
        truth = isinstance(each, bool) or getattr(getattr(each, "dtype", None), "kind", "") == "b"
        if not truth:
            raise Fault(f"{shown(each)} is neither true nor false")
    if word == "not":
        return not a if isinstance(a, bool) else ~a
    if isinstance(a, bool) and isinstance(b, bool):
        return (a and b) if word == "and" else (a or b)
    return a & b if word == "and" else a | b


def compare(sign: str, a: Any, b: Any) -> Any:
    """Return `a sign b` for == != < <= > >=.

    Raises:
        Fault: the values cannot be compared.
    """
    if sign in ("==", "!="):
        found = same(a, b)
        return found if sign == "==" else logic("not", found)
    if isinstance(a, Words) or isinstance(b, Words):
        a, b = _texts(a), _texts(b)
    elif is_column(a) or is_column(b):
        a, b = numbers(a, sign), numbers(b, sign)
    elif not ((is_number(a) and is_number(b)) or (isinstance(a, str) and isinstance(b, str))):
        raise Fault(f"{shown(a)} {sign} {shown(b)}: there is no order between these")
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
    if is_number(a) and is_number(b):
        return a == b
    return type(a) is type(b) and a == b


def choose(told: Any, first: Any, second: Any) -> Any:
    """Return the first value where a column is true, else the second.

    Raises:
        Fault: the condition is neither true nor false.
    """
    import numpy as np

    if getattr(getattr(told, "dtype", None), "kind", "") != "b":
        raise Fault(f"{shown(told)} is neither true nor false")
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
    return np.where(told, numbers(first, "when"), numbers(second, "when"))


# ---- columns -------------------------------------------------------------------------------


def numbers(value: Any, sign: str) -> Any:
    """Return a value that stands beside a sign as numbers.

    Raises:
        Fault: it is none.
    """
    if isinstance(value, Words) or not (is_column(value) or is_number(value)):
        raise Fault(f"{shown(value)} {sign}: it must be a number")
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
        raise Fault(f"{shown(value)}: it must be a text")
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
        raise Fault(f"{shown(a)} {sign} {shown(b)}: both must be numbers{_hint(sign, a, b)}")
    if isinstance(a, str):
        return mapped(b, lambda text: bounded(a + text))
    if isinstance(b, str):
        return mapped(a, lambda text: bounded(text + b))
    return words_of([bounded(x + y) for x, y in zip(_texts(a), _texts(b), strict=True)])


def mapped(words: Words, call: Callable[[str], Any]) -> Any:
    """Return a column with a function of each text: `Words` of texts, else an array."""
    values = [call(text) for text in words.texts]
    if all(isinstance(value, str) for value in values):
        return Words(words.codes, values)
    return column_of(values)[words.codes]


# ---- single values -------------------------------------------------------------------------


def is_number(value: Any) -> bool:
    return isinstance(value, (int, Decimal)) and not isinstance(value, bool)


def _whole(value: Any) -> Any:
    if isinstance(value, int) and value.bit_length() > DIGITS * 10 // 3:
        raise Fault(f"a number has more than {DIGITS} digits")
    return value


def _divide(a: int, b: int) -> Any:
    return a // b if a % b == 0 else EXACT.divide(Decimal(a), Decimal(b))


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
            whole, rest = _WIDE.divide_int(a, b), _WIDE.remainder(a, b)
            if rest and (rest < 0) != (b < 0):  # Decimal cuts towards 0
                whole, rest = _WIDE.subtract(whole, Decimal(1)), _WIDE.add(rest, b)
            out = whole if sign == "//" else rest
        elif sign == "/":
            out = EXACT.divide(a, b)
        else:
            out = {"+": _UNCUT.add, "-": _UNCUT.subtract, "*": _UNCUT.multiply}[sign](a, b)
    except Inexact as error:
        raise Fault(f"a number has more than {EXACT.prec} digits") from error
    except (ArithmeticError, InvalidOperation) as error:
        raise Fault("a number is too large, or none") from error
    if not out.is_finite() or abs(out.adjusted()) > DIGITS:
        raise Fault("a number is too large, or none")
    return out


def bounded(text: str) -> str:
    """Return a text that is not too long.

    Raises:
        Fault: it is.
    """
    if len(text) > LONGEST:
        raise Fault(f"a text has more than {LONGEST:,} characters")
    return text


def shown(value: Any) -> str:
    if isinstance(value, Words):
        return "a column of texts"
    if hasattr(value, "dtype"):
        return "a column"
    return repr(value) if isinstance(value, str) else "nothing" if value is None else str(value)


def _hint(sign: str, a: Any, b: Any) -> str:
    texts = any(isinstance(each, (str, Words)) for each in (a, b))
    return "; text(x) makes a text of a number" if sign == "+" and texts else ""
