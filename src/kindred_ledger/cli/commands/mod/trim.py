"""kindred mod trim"""

from __future__ import annotations

from typing import Any

import click

from ....mods.operations import TrimMod
from ...applying import carry_out
from ...meanings import flag, many, value
from ...options import placing, storing, writing
from ...session import Session


@click.command()
@click.argument("pack")
@click.argument("original")
@value("--target")
@value("--into")
@value("--for", "build_for")
@many("--covers")
@many("--drop")
@many("--keep")
@flag("--pixels")
@writing
@placing
@storing
def command(
    session: Session,
    *,
    pack: str,
    original: str,
    target: str,
    into: str,
    build_for: str,
    covers: tuple[str, ...],
    drop: tuple[str, ...],
    keep: tuple[str, ...],
    pixels: bool,
    **options: Any,
) -> int:
    """Reduce PACK to what differs from ORIGINAL, the release it was made for.

    What is the same by content or by meaning goes, and so do files of the making; what the descriptor names
    stays. With --target it is told what that release has that the pack does nothing for, and what the pack
    has that it does not know any more; numbers that are mere labels are set.

    \b
    Examples, in the demo's folder modding:
      kindred mod trim packs/dusk ../downloads/mossferry-1.4.zip --dry-run
      kindred mod trim packs/dusk ../downloads/mossferry-1.4.zip \\
          --target ../downloads/mossferry-2.0.zip --for 2.0 --into dusk.zip
    """
    made = TrimMod(
        pack, original, target, into, build_for, session.named_title, covers, drop, keep, pixels
    )
    return carry_out(session, made.compute(session.context), **options)
