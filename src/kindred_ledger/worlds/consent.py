"""Consent to what a forecast shows, in a file: by kind of content, and for just what was shown.

    forecast = "3f9c21ab4e07"       # what was shown; of anything else is asked again
    world = "northbog"

    [content."reedlight:bell"]      # 94 of it: 93 things, 1 signal
    becomes = "inert"               # or "remove", or "as bog:bench", or "is bog:bell" if it was renamed

What always holds: a file that says nothing about content, or something that it cannot mean, is no consent.
"""

from __future__ import annotations

import tomllib
from collections.abc import Iterator

from msgspec import Struct

from ..errors import FormatError, UsageError
from ..suggestions import hint
from ..wording import count
from .choices import INERT, REMOVE, SUBSTITUTE, ContentChoices
from .forecast import Forecast, Vanishing

__all__ = ["Consent", "consent_text", "read_consent"]

_AS, _IS = "as ", "is "
_WAYS = ("inert", "remove", "as NAME", "is NAME")
_KEYS = ("forecast", "world", "content")


class Consent(Struct, frozen=True):
    """What somebody agreed to: the forecast's id, the world, and the choices.

    >>> text = 'forecast = "3f"\\nworld = "fen"\\n[content."old:crane"]\\nbecomes = "remove"'
    >>> kl.read_consent(text).choices
    ContentChoices(renames={}, substitutes={}, inert=(), remove=('old:crane',))
    """

    forecast: str
    world: str
    choices: ContentChoices


def consent_text(told: Forecast) -> str:
    """Return a file in which somebody can say what becomes of all that vanishes.

    >>> northbog = kl.open_world(fen_install, "northbog")
    >>> print(kl.consent_text(kl.forecast(northbog, new_lists)).splitlines()[0])
    # What becomes of what the new build does not have, in the world northbog.
    """
    return "\n".join(_lines(told)) + "\n"


def _lines(told: Forecast) -> Iterator[str]:
    yield f"# What becomes of what the new build does not have, in the world {told.world}."
    yield f"# Write after each `becomes`: {', '.join(_WAYS)}."
    yield f'forecast = "{told.id}"'
    yield f"world = {_quoted(told.world)}"
    for each in told.vanishing:
        yield ""
        yield f"[content.{_quoted(each.name)}]"
        yield f"# {_amounts(each)}"
        if each.nearest is not None:
            yield f"# the nearest is {count(each.nearest, 'tile')} from what is yours"
        if each.perhaps:
            yield f"# perhaps it is {' or '.join(each.perhaps)} now"
        yield f"becomes = {_quoted(_said(each))}"


def _amounts(each: Vanishing) -> str:
    kinds = ", ".join(f"{kind} {many:,}" for kind, many in each.by_kind.items())
    return f"{each.amount:,} in {count(len(each.by_file), 'file')}: {kinds}"


def _said(each: Vanishing) -> str:
    fate = each.fate
    return _AS + fate.to if fate.how == SUBSTITUTE else fate.how


def _quoted(text: str) -> str:
    out = text.replace("\\", "\\\\").replace('"', '\\"')
    return '"' + "".join(c if c.isprintable() else f"\\u{ord(c):04x}" for c in out) + '"'


def read_consent(text: str, *, where: str = "") -> Consent:
    """Read what `consent_text` gave, with what somebody wrote into it.

    Raises:
        FormatError: it is no such file.
        UsageError: it does not say of something what becomes of it.

    >>> kl.read_consent('forecast = "3f"\\nworld = "fen"').world
    'fen'
    """
    try:
        values = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise FormatError(f"this is no consent: {error}", where=where) from error
    strange = [key for key in values if key not in _KEYS]
    content = values.get("content", {})
    if (
        strange
        or not isinstance(content, dict)
        or not isinstance(values.get("forecast"), str)
        or not isinstance(values.get("world"), str)
    ):
        raise FormatError(
            "this is no consent: it has `forecast`, `world` and [content.NAME] in it, and nothing else"
            + (hint(strange[0], _KEYS) if strange else ""),
            where=where,
            remedy="Write one with: kindred world forecast … --consent-to FILE",
        )
    renames: dict[str, str] = {}
    substitutes: dict[str, str] = {}
    ways: dict[str, list[str]] = {INERT: [], REMOVE: []}
    for name, table in content.items():
        said = table.get("becomes") if isinstance(table, dict) and len(table) == 1 else None
        if not isinstance(said, str):
            raise FormatError(
                "expected `becomes` and nothing else", where=f"{where}: {name}".strip(": ")
            )
        if said.startswith(_AS):
            substitutes[name] = said[len(_AS) :].strip()
        elif said.startswith(_IS):
            renames[name] = said[len(_IS) :].strip()
        elif said in ways:
            ways[said].append(name)
        else:
            what = (
                f"{said!r} is not one of: {', '.join(_WAYS)}"
                if said
                else "nothing is said about it"
            )
            raise UsageError(
                what, where=f"{where}: {name}".strip(": "), remedy="Write what becomes of it."
            )
    choices = ContentChoices(renames, substitutes, tuple(ways[INERT]), tuple(ways[REMOVE]))
    return Consent(values["forecast"], values["world"], choices)
