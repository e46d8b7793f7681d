"""Installs: moving files between releases and installs."""

from .carry import carry
from .update import update

__all__ = ["carry", "update"]
