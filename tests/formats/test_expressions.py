"""Expressions: the same for one value and for a column, and no way out of the language."""

from __future__ import annotations

import unittest
from decimal import Decimal
from typing import Any

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kindred_ledger.errors import FormatError, KindredError, UsageError
from kindred_ledger.formats import Words, words_of
from kindred_ledger.formats.expressions import MISSING, Expression
from tests.support import law

_numbers = st.sampled_from(("a", "b", "3", "0", "-2", "2.5", "255", "9223372036854775807"))
_texts = st.sampled_from(("t", '"reed"', '"7"', '""'))
_truths = st.sampled_from(("c", "true", "false"))


def _numeric(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    pair = st.tuples(inner, st.sampled_from("+-*/"), inner).map(lambda d: f"({d[0]} {d[1]} {d[2]})")
    whole = st.tuples(inner, st.sampled_from(("//", "%")), inner).map(" ".join).map("({})".format)
    chosen = st.tuples(_condition(inner), inner, inner).map(
        lambda d: f"when({d[0]}, {d[1]}, {d[2]})"
    )
    calls = st.tuples(st.sampled_from(("abs", "floor", "ceil", "round", "-")), inner).map(
        "{0[0]}({0[1]})".format
    )
    more = st.tuples(inner, inner).map("min({0[0]}, max({0[1]}, 1))".format)
    return st.one_of(pair, pair, whole, chosen, calls, more)


def _condition(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    compared = st.tuples(inner, st.sampled_from(("<", "<=", ">", ">=", "==", "!=")), inner).map(
        " ".join
    )
    worded = st.tuples(_texts, st.sampled_from(("==", "!=", "<")), _texts).map(" ".join)
    return st.one_of(
        compared,
        worded,
        _truths,
        compared.map("not {}".format),
        st.tuples(compared, st.sampled_from((" and ", " or ")), worded).map(
            lambda d: f"({d[0]}){d[1]}({d[2]})"
        ),
        inner.map("{} in (1, 3, a)".format),
    )


expressions = st.recursive(_numbers, _numeric, max_leaves=5)
texts = st.one_of(
    st.tuples(_texts, _texts).map(" + ".join),
    _texts.map("upper({})".format),
    st.tuples(_condition(_numbers), _texts, _texts).map(lambda d: f"when({d[0]}, {d[1]}, {d[2]})"),
    _texts.map('replace({}, "e", "ou")'.format),
    _texts.map('pad({}, 4, "0")'.format),
    _texts.map('lookup(names, {}, "other")'.format),
)
TABLES = {"names": {"reed": "Reed Bank", "7": "Seven"}}


def rows_of(value: Any, count: int) -> list[Any]:
    """Return what stands in the rows of a column, or one value in all of them."""
    if isinstance(value, Words):
        return list(value.array())
    if hasattr(value, "dtype"):
        return [Decimal(repr(v)) if isinstance(v, float) else v for v in value.tolist()]
    return [value] * count


class Alike(unittest.TestCase):
    @law
    @given(
        st.one_of(expressions, _condition(_numbers), texts),
        st.lists(
            st.tuples(
                st.integers(-(1 << 31), (1 << 31) - 1),
                st.sampled_from((-1.5, 0.0, 0.25, 8.0)),
                st.sampled_from(("reed", "peat", "")),
                st.booleans(),
            ),
            min_size=1,
            max_size=4,
        ),
    )
    def test_a_column_is_what_its_rows_are(self, text: str, rows: list[Any]) -> None:
        """Each row computed alone gives what the column has there; what fails for one, fails."""
        expression = Expression.parse(text, TABLES)
        a, b, t, c = (list(each) for each in zip(*rows, strict=True))
        columns = {"a": np.array(a, np.int32), "b": np.array(b), "t": words_of(t), "c": np.array(c)}
        alone: list[Any] = []
        try:
            for row in rows:
                values = dict(zip("abtc", (row[0], Decimal(repr(row[1])), *row[2:]), strict=True))
                alone.append(expression(lambda name, v=values: v.get(name[0], MISSING)))
        except FormatError:
            alone = []
        try:
            together = rows_of(expression(lambda name: columns.get(name[0], MISSING)), len(rows))
        except FormatError:
            return  # a branch that no row takes is computed for all rows
        if not alone:
            return
        for one, other in zip(alone, together, strict=True):
            if isinstance(one, (bool, str)):
                self.assertEqual(one, other, text)
            else:
                self.assertAlmostEqual(
                    float(one), float(other), delta=abs(float(one)) * 1e-12, msg=text
                )
                if isinstance(one, int) and not isinstance(other, Decimal):
                    self.assertEqual(one, other, text)

    def test_whole_numbers_never_wrap_around(self) -> None:
        """Narrow columns are widened; what does not fit 64 bits is exact all the same."""
        for text, form, value, wanted in (
            ("a + 1", np.uint8, 255, 256),
            ("a * a", np.uint32, 4_000_000_000, 16 * 10**18),
            ("a * 4", np.int64, 1 << 62, 1 << 64),
            ("a - 1", np.uint64, 0, -1),
            ("a + a", np.uint64, (1 << 64) - 1, (1 << 65) - 2),
            ("abs(a)", np.int8, -128, 128),
        ):
            column = np.array([value], form)
            got = Expression.parse(text)(lambda name, c=column: c)
            self.assertEqual(got.tolist(), [wanted], text)


class Closed(unittest.TestCase):
    def test_what_is_no_expression_shows_where(self) -> None:
        """Python's own ways out, loops, and plain mistakes: an error with a caret, before anything runs."""
        for text, words in (
            ("().__class__", "only names have parts"),
            ("__import__('os')", "there is no function '__import__'"),
            ("(lambda: 1)()", "there is no function ''"),
            ("[x for x in a]", "there is no ListComp"),
            ("a ** 9", r"\+ - \* / // % only"),
            ("a << 9", "only"),
            ("f'{a}'", "there is no JoinedStr"),
            ("{1: 2}", "there is no Dict"),
            ("a := 1", "cannot be read"),
            ("uper(t)", "did you mean .upper"),
            ("round()", "takes 1 to 2 values, not 0"),
            ("max(*a)", "one after another"),
            ("lookup(none, 1)", "the card's tables are names"),
            ("a +", "invalid syntax"),
            ("-" * 3000 + "1", "at most 2,000 characters"),
            ("(" * 300 + "1" + ")" * 300, "cannot be read"),
            ("-" * 300 + "1", "nested too deep"),
            ("a\n+ 1", "on one line"),
            ("1e999999999", "at most 400 digits"),
            ("9" * 1500, "at most 400 digits"),
            ("b'x'", "there is no bytes"),
        ):
            with self.subTest(text[:40]), self.assertRaisesRegex(KindredError, words):
                Expression.parse(text, TABLES)(lambda name: 1)
        with self.assertRaises(UsageError) as caught:
            Expression.parse("coins + uper(name)")
        self.assertIn("  coins + uper(name)\n          ^", str(caught.exception))

    def test_nothing_grows_without_bound(self) -> None:
        """Texts, numbers and lists have a largest size."""
        long = "x" * 60_000
        for text, words in (
            ("t + t", "more than 65,536 characters"),
            ('replace(t, "x", "yyyy")', "more than 65,536 characters"),
            ("pad(t, 99999999)", "needs a width"),
            ("join(split(t, 'x'), t)", "more than 65,536 characters"),
            ("*".join(["n"] * 60), "more than 400 digits|nested"),
            ("1 / 0", "divided by 0"),
            ('number("1e99999")', "no number"),
            ("t - 1", "both must be numbers"),
            ("t < 1", "no order"),
            ("1 and true", "neither true nor false"),
        ):
            with self.subTest(text[:40]), self.assertRaisesRegex(KindredError, words):
                Expression.parse(text)(lambda name: {"t": long, "n": 10**30}[name[0]])

    @law
    @given(st.text("abt01.+-*/()[],\"' <>=!notadrif", max_size=30))
    def test_any_text_is_an_expression_or_an_error(self, text: str) -> None:
        """Never a crash, and never anything but the values that were given."""
        try:
            value = Expression.parse(text, TABLES)(
                lambda name: {"a": 3, "b": Decimal("1.5"), "t": "x"}.get(str(name[0]), MISSING)
            )
        except KindredError as error:
            self.assertTrue(error.what)
            return
        self.assertIsInstance(value, (bool, int, str, Decimal, list, type(None)))
