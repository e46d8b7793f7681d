"""Made-up installs of any size: region files that compress well, small text files, noise that does not."""

from __future__ import annotations

import json
import os

import numpy as np

__all__ = ["build_install", "build_small", "region"]

_REGION = 2_000_000  # bytes
CARD = """card = 1
title = "marsh"
[program]
markers = ["version.txt"]
[[detect]]
file = "version.txt"
pattern = "build {version}"
"""
_WORDS = np.array(["reed", "peat", "ferry", "quay", "lantern", "eel", "fog", "tide", "moor"])


def build_install(
    folder: str, size_bytes: int, *, texts: int = 3_000, banks: int = 1, seed: int = 1
) -> None:
    """Write an install: a sixth noise in so many banks, so many texts of 8 KB, the rest regions."""
    rng = np.random.default_rng(seed)
    text_bytes = _write_texts(os.path.join(folder, "data", "notes"), texts, rng)
    noise = size_bytes // 6
    for number in range(banks):
        path = os.path.join(folder, "data", "sounds", f"{number}.bank")
        _write(path, rng.bytes(noise // banks))
    for number in range(max(1, (size_bytes - noise - text_bytes) // _REGION)):
        _write(os.path.join(folder, "world", f"{number:04}.region"), region(rng))


def build_small(folder: str, files: int, *, seed: int = 1) -> None:
    """Write files of 1 to 4 KB of text, 250 a folder."""
    rng = np.random.default_rng(seed)
    text = " ".join(rng.choice(_WORDS, 200_000))
    sizes = rng.integers(1_000, 4_000, files)
    starts = rng.integers(0, len(text) - 4_000, files)
    for number, (size, start) in enumerate(zip(sizes, starts, strict=True)):
        data = json.dumps({"id": number, "text": text[start : start + size]}).encode()
        top = number // 250
        _write(os.path.join(folder, str(top % 20), str(top), f"{number}.json"), data)


def region(rng: np.random.Generator) -> bytes:
    """Return 16-bit block ids in runs, with some scattered singles, as terrain has them."""
    count = _REGION // 2
    lengths = rng.integers(1, 40, size=count // 16)
    ids = np.repeat(rng.integers(0, 300, size=lengths.size).astype("<u2"), lengths)[:count]
    singles = rng.integers(0, ids.size, size=ids.size // 100)
    ids[singles] = rng.integers(0, 4096, size=singles.size)
    return ids.tobytes()


def _write_texts(folder: str, count: int, rng: np.random.Generator) -> int:
    total = 0
    for number in range(count):
        rows = [
            {"id": int(n), "name": " ".join(rng.choice(_WORDS, 3)), "depth": round(float(d), 3)}
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
