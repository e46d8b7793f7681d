"""Layouts: binary formats described once, in all their versions, to be read and written."""

from .document import LayoutDocument
from .language import LayoutError
from .layout import Layout
from .rows import Ragged

__all__ = ["Layout", "LayoutDocument", "LayoutError", "Ragged"]
