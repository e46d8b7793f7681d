"""Expressions: a small closed language over the values of a document; see `language`."""

from .language import Expression, Scope
from .scope import scope_of
from .values import MISSING, column_of

__all__ = ["MISSING", "Expression", "Scope", "column_of", "scope_of"]
