"""Zstandard (RFC 8878), always with the content checksum that the format leaves optional."""

from __future__ import annotations

from ..errors import LedgerDamaged
from ..places.zstandard import zstd as _zstd

__all__ = ["MOST", "SKIPPABLE", "compress", "decompress"]

SKIPPABLE = 0x184D2A5B  # one of the sixteen magic numbers of skippable frames (RFC 8878, 3.1.2)

# Runs of ids, as worlds are made of, pack smaller at level -1 than at 3 and in half the time; text
# and programs pack a tenth smaller at 3; what is packed already is only copied.
_FAST, _CLOSE, _COPY = -1, 3, -(1 << 17)
_SAMPLE = 16 << 10  # bytes tried at both levels: a sixtieth of a frame
_GAIN = 0.98  # of the size: a gain below a fiftieth is not worth unpacking for
# Above the first no frame of ours is the second times what it is packed to: one made to fill the memory is.
_ALWAYS, _MOST_TIMES = 64 << 20, 1000
MOST = 1 << 30  # no frame of ours unpacks to more: a damaged size must not ask for all memory


def compress(data: bytes | bytearray | memoryview, *, level: int | None = None) -> bytes:
    """Return one frame, with its content size and checksum; None is the level its first part asks for.

    The same data gives the same frame. Safe to call from any thread.
    """
    return _compress(data, _level_for(data) if level is None else level)


def _level_for(data: bytes | bytearray | memoryview) -> int:
    if len(data) <= 16 * _SAMPLE:
        return _CLOSE
    sample = memoryview(data)[:_SAMPLE]
    fast, close = len(_compress(sample, _FAST)), len(_compress(sample, _CLOSE))
    if min(fast, close) > _GAIN * len(sample):
        return _COPY
    return _FAST if _GAIN * fast <= close else _CLOSE


def _compress(data: bytes | bytearray | memoryview, level: int) -> bytes:
    options: dict[int, int] = {
        _zstd.CompressionParameter.compression_level: level,
        _zstd.CompressionParameter.checksum_flag: 1,
    }
    return _zstd.compress(data, options=options)


def decompress(data: bytes, *, size: int = MOST) -> tuple[bytes, bytes]:
    """Return the content of the first frame, of at most `size` bytes, and what follows the frame.

    Raises:
        LedgerDamaged: the frame is damaged, cut short or larger than it may be.
    """
    reader = _zstd.ZstdDecompressor()
    size = min(size, max(_ALWAYS, _MOST_TIMES * len(data)))
    try:
        content = reader.decompress(data, max_length=size)
        if not reader.eof:  # the last bytes of a frame may yield nothing but its end
            content += reader.decompress(b"", max_length=1)
    except (_zstd.ZstdError, EOFError) as error:
        raise LedgerDamaged(f"a Zstandard frame is damaged: {error}") from error
    if not reader.eof:
        raise LedgerDamaged("a Zstandard frame is cut short or larger than it may be")
    return content, reader.unused_data
