"""How blocks are kept: compressed, or with each byte XOR-ed with those of a key.

zlib (RFC 1950), gzip (RFC 1952), raw deflate (RFC 1951), zstd (RFC 8878), LZ4 (its frame format 1.6, and bare
blocks).
"""

from __future__ import annotations

import sys
import zlib
from typing import Any

from ...errors import FormatError
from ...extensions import package

__all__ = ["METHODS", "USUAL_LEVEL", "XOR", "expand", "level_of", "squeeze"]

METHODS = ("zlib", "gzip", "deflate", "zstd", "lz4", "lz4-block")
XOR = "xor "
USUAL_LEVEL = 6
_LARGEST_TRIED = 1 << 20  # bytes of a block
_BY_FLAG = (
    (1, 0),
    (5, 4, 3, 2),
    (6,),
    (9, 8, 7),
)  # what the header of zlib says of the level (RFC 1950, 2.2)
_WINDOWS = {"zlib": 15, "gzip": 31, "deflate": -15}


def expand(method: str, data: bytes, *, most: int) -> bytes:
    """Return what a block holds.

    Raises:
        FormatError: it is damaged, is followed by something, or expands beyond `most` bytes.
    """
    if method.startswith(XOR):
        return _xor(method, data)
    most = max(most, 0) + 1
    if method.startswith("lz4"):
        return _from_lz4(method, data, most)
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


def level_of(method: str, data: bytes, stored: bytes) -> int:
    """Return the level at which a block was compressed, if zlib gives its very bytes at one; else the usual.

    >>> level_of("zlib", b"peat" * 999, zlib.compress(b"peat" * 999, 9))
    9
    """
    if method not in _WINDOWS or len(data) > _LARGEST_TRIED:
        return USUAL_LEVEL
    levels = _BY_FLAG[stored[1] >> 6] if method == "zlib" and len(stored) > 1 else (6, 9, 1)
    return next((each for each in levels if squeeze(method, data, each) == stored), USUAL_LEVEL)


def squeeze(method: str, data: bytes, level: int = USUAL_LEVEL) -> bytes:
    """Return a block that holds these bytes; the same ones for the same input.

    `level` is that of the methods of zlib.

    >>> expand("zlib", squeeze("zlib", b"peat" * 9), most=99) == b"peat" * 9
    True
    """
    if method.startswith(XOR):
        return _xor(method, data)
    if method == "lz4":
        return bytes(_lz4("frame").compress(data))
    if method == "lz4-block":
        return bytes(_lz4("block").compress(data, store_size=False))
    if method == "zstd":
        packed: bytes = _zstd().compress(data)
        return packed
    engine = zlib.compressobj(level, zlib.DEFLATED, _WINDOWS[method])
    return engine.compress(data) + engine.flush()


def _xor(method: str, data: bytes) -> bytes:
    """Return bytes XOR-ed with a key, again and again: the same way there and back."""
    import numpy as np

    key = np.frombuffer(bytes.fromhex(method.removeprefix(XOR)), np.uint8)
    return (np.frombuffer(data, np.uint8) ^ np.resize(key, len(data))).tobytes()


def _from_lz4(method: str, data: bytes, most: int) -> bytes:
    engine: Any = _lz4(method.removeprefix("lz4").strip("-") or "frame")
    try:
        if method == "lz4-block":  # 255 times its size at most
            out: bytes = engine.decompress(data, uncompressed_size=min(most, len(data) * 255 + 16))
            done, unused = True, b""
        else:
            reader = engine.LZ4FrameDecompressor()
            out = reader.decompress(data, max_length=most)
            done, unused = reader.eof, reader.unused_data or b""
    except (
        getattr(engine, "LZ4BlockError", RuntimeError),
        RuntimeError,
        ValueError,
        EOFError,
    ) as error:
        raise FormatError(f"the {method} block is damaged: {error}") from error
    if len(out) >= most:
        raise FormatError(f"the {method} block expands without bound")
    if not done:
        raise FormatError(f"the {method} block was cut short")
    if unused:
        raise FormatError(f"{len(unused):,} bytes follow the {method} block")
    return out


def _lz4(part: str) -> Any:
    return package(f"lz4.{part}", "blocks of LZ4 are read and written")


def _zstd() -> Any:
    if sys.version_info >= (3, 14):
        from compression import zstd
    else:
        from backports import zstd
    return zstd
