"""Where Python keeps Zstandard (RFC 8878): built in from 3.14, before that in its backport."""

from __future__ import annotations

import sys

if sys.version_info >= (3, 14):
    from compression import zstd
else:
    from backports import zstd

__all__ = ["zstd"]
