"""Compressed blocks: zlib (RFC 1950), gzip (RFC 1952), raw deflate (RFC 1951), zstd (RFC 8878)."""

from __future__ import annotations

import sys
import zlib
from typing import Any

from ...errors import FormatError

__all__ = ["METHODS", "expand", "squeeze"]

METHODS = ("zlib", "gzip", "deflate", "zstd")
_WINDOWS = {"zlib": 15, "gzip": 31, "deflate": -15}


def expand(method: str, data: bytes, *, most: int) -> bytes:
    """Return what a block holds.

    Raises:
        FormatError: it is damaged, is followed by something, or expands beyond `most` bytes.
    """
    most = max(most, 0) + 1
    try:
        if method == "zstd":
            engine: Any = _zstd().ZstdDecompressor()
            out: bytes = engine.decompress(data, max_length=most)
            done = engine.eof
        else:
            engine = zlib.decompressobj(_WINDOWS[method])
            out = engine.decompress(data, most)
            done = engine.eof
    except (zlib.error, OSError, ValueError, EOFError, _zstd().ZstdError) as error:
        raise FormatError(f"the {method} block is damaged: {error}") from error
    if len(out) >= most:
        raise FormatError(f"the {method} block expands without bound")
    if not done:
        raise FormatError(f"the {method} block was cut short")
    if engine.unused_data:
        raise FormatError(f"{len(engine.unused_data):,} bytes follow the {method} block")
    return out


def squeeze(method: str, data: bytes) -> bytes:
    """Return a block that holds these bytes; the same ones for the same input.

    >>> expand("zlib", squeeze("zlib", b"peat" * 9), most=99) == b"peat" * 9
    True
    """
    if method == "zstd":
        packed: bytes = _zstd().compress(data)
        return packed
    engine = zlib.compressobj(6, zlib.DEFLATED, _WINDOWS[method])
    return engine.compress(data) + engine.flush()


def _zstd() -> Any:
    if sys.version_info >= (3, 14):
        from compression import zstd
    else:
        from backports import zstd
    return zstd
