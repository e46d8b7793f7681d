"""Made-up installs of any size: region files that compress well, small text files, noise that does not."""

from __future__ import annotations

import json
import os

import numpy as np

__all__ = ["build_install"]

_REGION = 2_000_000  # bytes
_TEXT = 3_000  # files, of which each is about 8 KB


def build_install(folder: str, size_bytes: int, *, seed: int = 1) -> None:
    """Write an install of about `size_bytes` bytes: two thirds regions, a sixth noise, the rest text."""
    rng = np.random.default_rng(seed)
    text_bytes = _write_texts(os.path.join(folder, "data", "notes"), rng)
    noise = size_bytes // 6
    _write(os.path.join(folder, "data", "sound.bank"), rng.bytes(noise))
    for number in range(max(1, (size_bytes - noise - text_bytes) // _REGION)):
        _write(os.path.join(folder, "world", f"{number:04}.region"), _region(rng))


def _region(rng: np.random.Generator) -> bytes:
    """Return 16-bit block ids in runs, with some scattered singles, as terrain has them."""
    count = _REGION // 2
    lengths = rng.integers(1, 40, size=count // 16)
    ids = np.repeat(rng.integers(0, 300, size=lengths.size).astype("<u2"), lengths)[:count]
    singles = rng.integers(0, ids.size, size=ids.size // 100)
    ids[singles] = rng.integers(0, 4096, size=singles.size)
    return ids.tobytes()


def _write_texts(folder: str, rng: np.random.Generator) -> int:
    words = np.array(["reed", "peat", "ferry", "quay", "lantern", "eel", "fog", "tide", "moor"])
    total = 0
    for number in range(_TEXT):
        rows = [
            {"id": int(n), "name": " ".join(rng.choice(words, 3)), "depth": round(float(d), 3)}
            for n, d in zip(rng.integers(0, 1 << 30, 100), rng.random(100), strict=True)
        ]
        data = json.dumps(rows, indent=1).encode()
        total += len(data)
        _write(os.path.join(folder, str(number % 50), f"{number}.json"), data)
    return total


def _write(path: str, data: bytes) -> None:
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "wb") as file:
        file.write(data)
