"""VCDIFF (RFC 3284): how one content is made of another, as any standard decoder reads it."""

from .codes import DEFAULT, CodeTable
from .decoding import LARGEST, MAGIC, Window, decode, windows_of
from .encoding import WINDOW, encode
from .matching import anchor_hashes

__all__ = [
    "DEFAULT",
    "LARGEST",
    "MAGIC",
    "WINDOW",
    "CodeTable",
    "Window",
    "anchor_hashes",
    "decode",
    "encode",
    "windows_of",
]
