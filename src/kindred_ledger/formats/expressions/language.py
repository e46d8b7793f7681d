"""Expressions: a small closed language over the values of a record, or over whole columns of them.

    purse * 100 + 5            when(rank > 3, "master", "hand")        value in ("haar", "drizzle")
    lookup(homes, home, 1)     join(split(name, " "), "-")             count(crew) >= 1 and moored

A name is a value of the record (`ship.peat` goes deeper), else of the file; `value` is what stands
at the path now, `this["odd name"]` and `file.coins` begin at the record and at the file. Numbers
are exact in single values (int, Decimal), and int64 or float64 in columns;
text and truth are never numbers. Nothing else can be reached: no attributes, no calls but the
functions here, no loops; the length, depth and the size of results are bounded.

Columns are NumPy arrays, texts in them `Words`; both forms of a value go through the same code.
"""

from __future__ import annotations

import ast
from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import Any, NoReturn

from msgspec import Struct

from ...errors import FormatError, UsageError
from ...suggestions import hint
from .functions import FUNCTIONS, looked_up
from .values import (
    DIGITS,
    MISSING,
    Fault,
    arithmetic,
    choose,
    compare,
    logic,
    negative,
    same,
)

__all__ = ["Expression", "Scope"]

Scope = Callable[[tuple[str | int, ...]], Any]  # the value of a name with its dots; MISSING if none

_LONGEST = 2000  # characters
_DEEPEST = 50
_ARITHMETIC = {
    ast.Add: "+",
    ast.Sub: "-",
    ast.Mult: "*",
    ast.Div: "/",
    ast.FloorDiv: "//",
    ast.Mod: "%",
}
_COMPARE = {ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!="}
_Run = Callable[[Scope], Any]


class Expression(Struct, frozen=True, eq=False):
    """An expression that was read. `names` are those it looks up, each with what follows its dots.

    `whole` tells that whole numbers stay whole in it, so that over columns it is exact, too.

    >>> Expression.parse("purse * 2 + 1")(lambda name: {"purse": 20}[name[0]])
    41
    """

    text: str
    names: tuple[tuple[str | int, ...], ...]
    run: _Run
    whole: bool

    @staticmethod
    def parse(text: str, tables: Mapping[str, Mapping[str, Any]] | None = None) -> Expression:
        """Read an expression; `tables` are those that `lookup` knows.

        Raises:
            UsageError: it is none; with a caret below the place.
        """
        return _Parser(text, tables or {}).expression()

    def __call__(self, scope: Scope) -> Any:
        """Return the value; raise `FormatError` with the expression if it has none."""
        return self.run(scope)


class _Parser:
    def __init__(self, text: str, tables: Mapping[str, Mapping[str, Any]]) -> None:
        self._text = text
        self._tables = tables
        self._names: dict[tuple[str | int, ...], None] = {}
        self._depth = 0
        self._whole = True

    def expression(self) -> Expression:
        text = self._text
        if len(text) > _LONGEST:
            raise UsageError(
                f"an expression has at most {_LONGEST:,} characters, this {len(text):,}"
            )
        if "\n" in text or "\0" in text:
            raise UsageError("an expression stands on one line")
        try:
            body = ast.parse(text.strip(), mode="eval").body
        except (SyntaxError, MemoryError, RecursionError) as error:
            self._fail(getattr(error, "msg", "") or "it is nested too deep",
                       (getattr(error, "offset", 1) or 1) - 1)  # fmt: skip
        except ValueError as error:  # a number of thousands of digits
            self._fail(str(error), 0)
        run = self._node(body)
        return Expression(text, tuple(self._names), run, self._whole)

    def _fail(self, what: str, at: int) -> NoReturn:
        text = self._text.strip()
        start = max(0, at - 60)
        raise UsageError(
            f"the expression cannot be read: {what}",
            remedy=f"  {text[start : start + 110]}\n  {' ' * (at - start)}^",
        )

    def _node(self, node: ast.expr) -> _Run:
        self._depth += 1
        if self._depth > _DEEPEST:
            self._fail("it is nested too deep", node.col_offset)
        method = getattr(self, f"_{type(node).__name__.lower()}", None)
        if method is None:
            kind = type(node).__name__
            self._fail(f"there is no {kind} in expressions", node.col_offset)
        run: _Run = method(node)
        self._depth -= 1
        return run

    # ---- what there is, by its name in the syntax tree ------------------------------------

    def _constant(self, node: ast.Constant) -> _Run:
        value: Any = node.value
        if isinstance(value, float):
            value = Decimal(ast.get_source_segment(self._text.strip(), node) or repr(value))
            self._whole = False
        number = isinstance(value, (int, Decimal)) and not isinstance(value, bool)
        if number and (not Decimal(value).is_finite() or abs(Decimal(value).adjusted()) > DIGITS):
            self._fail(f"a number has at most {DIGITS} digits", node.col_offset)
        if not isinstance(value, (bool, int, Decimal, str)) and value is not None:
            self._fail(f"there is no {type(value).__name__} in expressions", node.col_offset)
        return lambda scope: value

    def _name(self, node: ast.Name) -> _Run:
        if node.id in _WORDS:
            word = _WORDS[node.id]
            return lambda scope: word
        return self._looked_up((node.id,), node)

    def _attribute(self, node: ast.Attribute) -> _Run:
        return self._looked_up(self._path(node), node)

    def _subscript(self, node: ast.Subscript) -> _Run:
        return self._looked_up(self._path(node), node)

    def _path(self, node: ast.expr) -> tuple[str | int, ...]:
        if isinstance(node, ast.Attribute):
            return (*self._path(node.value), node.attr)
        if isinstance(node, ast.Subscript):
            key = node.slice.value if isinstance(node.slice, ast.Constant) else None
            if not isinstance(key, (str, int)) or isinstance(key, bool):
                self._fail("a name or a number stands in brackets", node.col_offset)
            return (*self._path(node.value), key)
        if not isinstance(node, ast.Name):
            self._fail("only names have parts", node.col_offset)
        return (node.id,)

    def _looked_up(self, path: tuple[str | int, ...], node: ast.expr) -> _Run:
        self._names[path] = None
        at = node.col_offset

        def run(scope: Scope) -> Any:
            value = scope(path)
            if value is MISSING:
                name = ".".join(map(str, path))
                raise self._without_value(f"there is no {name}", at)
            return value

        return run

    def _without_value(self, what: str, at: int) -> FormatError:
        text = self._text.strip()
        return FormatError(
            f"the expression has no value: {what}",
            remedy=f"  {text[:110]}\n  {' ' * min(at, 110)}^",
        )

    def _held(self, node: ast.expr, call: Callable[..., Any], *parts: _Run) -> _Run:
        """Return a run of `call` over the values of parts, with the place in its errors."""
        at = node.col_offset

        def run(scope: Scope) -> Any:
            values = [part(scope) for part in parts]
            try:
                return call(*values)
            except Fault as fault:
                raise self._without_value(str(fault), at) from None

        return run

    def _binop(self, node: ast.BinOp) -> _Run:
        sign = _ARITHMETIC.get(type(node.op))
        if sign is None:
            self._fail("there are + - * / // % only", node.right.col_offset - 1)
        self._whole = self._whole and sign != "/"
        own = isinstance(node.left, ast.BinOp), isinstance(node.right, ast.BinOp)
        parts = self._node(node.left), self._node(node.right)
        return self._held(node, lambda a, b: arithmetic(sign, a, b, own), *parts)

    def _unaryop(self, node: ast.UnaryOp) -> _Run:
        inner = self._node(node.operand)
        if isinstance(node.op, ast.Not):
            return self._held(node, lambda a: logic("not", a), inner)
        if isinstance(node.op, ast.USub):
            return self._held(node, negative, inner)
        return self._fail("there are - and not only", node.col_offset)

    def _boolop(self, node: ast.BoolOp) -> _Run:
        word = "and" if isinstance(node.op, ast.And) else "or"
        at = node.col_offset
        parts = [self._node(value) for value in node.values]

        def run(scope: Scope) -> Any:
            value = parts[0](scope)
            for part in parts[1:]:
                if value is (word == "or"):  # decided: what follows may have no value
                    return value
                try:
                    value = logic(word, value, part(scope))
                except Fault as fault:
                    raise self._without_value(str(fault), at) from None
            return value

        return run

    def _compare(self, node: ast.Compare) -> _Run:
        parts = [self._node(value) for value in (node.left, *node.comparators)]
        run: _Run | None = None
        for at, sign in enumerate(node.ops):
            if isinstance(sign, (ast.In, ast.NotIn)):
                each = self._member(node, parts[at], parts[at + 1], isinstance(sign, ast.NotIn))
            elif type(sign) in _COMPARE:
                text = _COMPARE[type(sign)]
                each = self._held(node, lambda a, b, s=text: compare(s, a, b), *parts[at : at + 2])
            else:
                self._fail("there are == != < <= > >= in only", node.col_offset)
            run = (
                each
                if run is None
                else self._held(node, lambda a, b: logic("and", a, b), run, each)
            )
        assert run is not None
        return run

    def _member(self, node: ast.expr, value: _Run, others: _Run, turned: bool) -> _Run:
        def call(one: Any, many: Any) -> Any:
            if not isinstance(many, (list, tuple)):
                raise Fault(f"in needs a list, as in (1, 2), not {many!r}")
            found: Any = False
            for other in many:
                found = logic("or", found, same(one, other))
            return logic("not", found) if turned else found

        return self._held(node, call, value, others)

    def _tuple(self, node: ast.Tuple | ast.List) -> _Run:
        return self._held(node, lambda *values: list(values), *(self._node(e) for e in node.elts))

    _list = _tuple

    def _ifexp(self, node: ast.IfExp) -> _Run:
        return self._choice(node, node.test, node.body, node.orelse)

    def _choice(self, node: ast.expr, *parts: ast.expr) -> _Run:
        test, first, second = (self._node(part) for part in parts)
        at = node.col_offset

        def run(scope: Scope) -> Any:
            told = test(scope)
            if told is True:
                return first(scope)
            if told is False:
                return second(scope)
            try:
                return choose(told, first(scope), second(scope))
            except Fault as fault:
                raise self._without_value(str(fault), at) from None

        return run

    def _call(self, node: ast.Call) -> _Run:
        name = node.func.id if isinstance(node.func, ast.Name) else ""
        if node.keywords or any(isinstance(arg, ast.Starred) for arg in node.args):
            self._fail("values are given one after another", node.col_offset)
        if name == "when":
            if len(node.args) != 3:
                self._fail("when needs a condition and two values", node.col_offset)
            return self._choice(node, *node.args)
        if name == "lookup":
            self._whole = False
            return self._lookup(node)
        if name == "has":
            path = self._path(node.args[0]) if len(node.args) == 1 else self._path(node)
            self._names[path] = None
            return lambda scope: scope(path) is not MISSING
        self._whole = self._whole and name not in _FRACTIONS
        found = FUNCTIONS.get(name)
        if found is None:
            known = sorted((*FUNCTIONS, "lookup", "when", "has"))
            meant = hint(name, known) or f"; there are {', '.join(known)}"
            self._fail(f"there is no function {name!r}{meant}", node.col_offset)
        least, most, call = found
        if not least <= len(node.args) <= most:
            many = f"{least}" if least == most else f"{least} to {most}"
            self._fail(f"{name} takes {many} values, not {len(node.args)}", node.col_offset)
        return self._held(node, call, *(self._node(arg) for arg in node.args))

    def _lookup(self, node: ast.Call) -> _Run:
        name = node.args[0] if node.args else None
        if (
            not isinstance(name, ast.Name)
            or name.id not in self._tables
            or len(node.args) not in (2, 3)
        ):
            known = ", ".join(self._tables) or "none"
            self._fail(
                f"lookup(TABLE, key, otherwise): the card's tables are {known}", node.col_offset
            )
        table = self._tables[name.id]
        parts = [self._node(arg) for arg in node.args[1:]]

        def call(key: Any, *otherwise: Any) -> Any:
            return looked_up(table, name.id, key, *otherwise)

        return self._held(node, call, *parts)


_FRACTIONS = {
    "number",
    "sum",
}  # functions that may make others than whole numbers of texts and lists
_WORDS = {"true": True, "false": False, "none": None}
