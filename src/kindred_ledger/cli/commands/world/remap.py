"""kindred world remap"""

from __future__ import annotations

from typing import Any

import click

from ....worlds.operations import Remap
from ...applying import carry_out
from ...choosing import choosing, with_workers
from ...options import placing, storing, writing
from ...session import Session


@click.command()
@click.argument("install")
@click.argument("release", default="")
@choosing
@writing
@placing
@storing
def command(session: Session, *, install: str, release: str, **options: Any) -> int:
    """Give a world of INSTALL the ids that the build of RELEASE has, by name.

    All ids in tiles, things, stores, palettes and scripts are rewritten. What the build does not have becomes
    what you choose, by name or by a pattern such as reedlight:*; what is not chosen is a conflict. With
    --consent, a file that `world forecast --out` wrote, or with --agreed and the forecast's id, nothing is
    asked again, unless the world would lose anything else by now. Without RELEASE the list of the build that
    is installed counts.

    \b
    Examples, in the demo's folder fens:
      kindred world remap game releases/fens-2.0.zip --inert 'reedlight:*' --remove-content 'oldquay:*'
      --substitute bog:lantern=bog:oil_lantern --new-name bog:still_water=bog:stillwater kindred world remap
      server releases/fens-2.0.zip --consent southbog.consent.toml --yes
    """
    chosen = with_workers(session, options)
    change = Remap(install, release, **chosen).compute(session.context)
    return carry_out(session, change, **options)
