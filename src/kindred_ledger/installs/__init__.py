"""Installs: moving files between releases and installs."""

from .carry import carry
from .compare import Comparison, compare
from .update import update

__all__ = ["Comparison", "carry", "compare", "update"]
