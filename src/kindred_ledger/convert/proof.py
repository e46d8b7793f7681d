"""Proof: converting back what was converted, and naming every field that does not come back."""

from __future__ import annotations

from msgspec import Struct

from ..errors import KindredError, NoRoute
from ..formats import FieldDifference, field_differences
from ..versions import Version
from .converter import Converted, Converter, format_version

__all__ = ["Proof", "prove"]


class Proof(Struct, frozen=True):
    """What a conversion is worth: there, and back where a route leads back.

    `back` None: there is no way back, or it failed; `why` says. `unrecovered` names the fields that
    do not come back as they were; with none, and the same bytes, nothing at all is lost.

    >>> for path, proof in kl.prove_install(install, "2.0", only="*.voyage"):
    ...     print(path, [each.name for each in proof.unrecovered])
    ...
    user/saves/eel-season.voyage ['ship.lantern_glow', 'scratch.seed_hash', 'scratch']
    user/saves/first-crossing.voyage ['build', 'ship.lantern_glow', 'scratch.seed_hash', 'scratch']
    user/saves/long-way-round.voyage ['ship.lantern_glow', 'scratch.seed_hash', 'scratch']
    user/saves/midwinter.voyage ['ship.lantern_glow', 'scratch.seed_hash', 'scratch']
    """

    there: Converted
    back: Converted | None
    why: str
    same_bytes: bool
    unrecovered: tuple[FieldDifference, ...]


def prove(converter: Converter, data: bytes, target: Version, *, name: str) -> Proof:
    """Convert a file's content and convert the result back.

    Raises:
        KindredError: it cannot be converted in the first place.
    """
    source = format_version(data, converter.format, name=name)
    there = converter(data, target, name=name, source=source)
    try:
        back = converter(there.data, there.source, name=name, source=there.target)
    except NoRoute as error:
        return Proof(there, None, error.what, False, ())
    except KindredError as error:
        where = f"{error.where}: " if error.where else ""
        return Proof(there, None, f"{where}{error.what}", False, ())
    if back.data == data:
        return Proof(there, back, "", True, ())
    before, after = (converter.format.decode(each) for each in (data, back.data))
    return Proof(there, back, "", False, tuple(field_differences(before, after)))
