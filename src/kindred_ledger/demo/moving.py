"""What the chapters about whole moves play in: an install of 1.4 of their own, and twenty servers."""

from __future__ import annotations

import os
import shutil

from .play_area import write_own_install

__all__ = ["build_moving"]

_SERVERS = 20


def build_moving(where: str) -> None:
    """Build the folder `moving` of a play area: an install of 1.4, and `servers`, each a copy of it."""
    folder = os.path.join(where, "moving")
    os.makedirs(folder)
    for name in sorted(os.listdir(where)):
        if name.endswith((".card.toml", ".layout")):
            shutil.copy2(os.path.join(where, name), folder)
    first = os.path.join(folder, "mossferry")
    write_own_install(folder, "mossferry")
    for number in range(1, _SERVERS + 1):
        shutil.copytree(first, os.path.join(folder, "servers", f"{number:02}"))
