"""Zstandard (RFC 8878), always with the content checksum that the format leaves optional."""

from __future__ import annotations

import sys

from ..errors import LedgerDamaged

if sys.version_info >= (3, 14):
    from compression import zstd as _zstd
else:
    from backports import zstd as _zstd

__all__ = ["compress", "decompress"]

_OPTIONS: dict[int, int] = {
    _zstd.CompressionParameter.compression_level: 3,
    _zstd.CompressionParameter.checksum_flag: 1,
}
_MOST = 1 << 30  # no frame of ours unpacks to more: a damaged size must not ask for all memory


def compress(data: bytes | bytearray | memoryview) -> bytes:
    """Return one frame, with its content size and checksum. Safe to call from any thread."""
    return _zstd.compress(data, options=_OPTIONS)


def decompress(data: bytes, *, size: int = _MOST) -> tuple[bytes, bytes]:
    """Return the content of the first frame, of at most `size` bytes, and what follows the frame.

    Raises:
        LedgerDamaged: the frame is damaged, cut short or larger than it may be.
    """
    reader = _zstd.ZstdDecompressor()
    try:
        content = reader.decompress(data, max_length=size)
        if not reader.eof:  # the last bytes of a frame may yield nothing but its end
            content += reader.decompress(b"", max_length=1)
    except (_zstd.ZstdError, EOFError) as error:
        raise LedgerDamaged(f"a Zstandard frame is damaged: {error}") from error
    if not reader.eof:
        raise LedgerDamaged("a Zstandard frame is cut short or larger than it may be")
    return content, reader.unused_data
