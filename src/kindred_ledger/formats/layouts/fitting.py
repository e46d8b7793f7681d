"""Which versions of a layout a file can be read in, where no field of it tells the version."""

from __future__ import annotations

from ...errors import FormatError
from .item import Field, Reading
from .layout import Layout

__all__ = ["fitting", "read_whole"]


def read_whole(data: bytes, layout: Layout, version: int | None = None) -> Reading:
    """Read a file to its last byte; its item is the first group of the reading's scope.

    `version` counts where no field tells it.

    Raises:
        FormatError: it is not as the layout says; with the offset, the field and the line.
    """
    reading = Reading(data, layout)
    return _read(reading, version)


def fitting(data: bytes, layout: Layout) -> tuple[list[int], Reading]:
    """Return the versions a file can be read in, to its last byte, the newest last; and the reading in that.

    Raises:
        FormatError: it is none; with the fault of the version that it could be read furthest in.
    """
    fits: list[int] = []
    faults: list[tuple[int, int, FormatError]] = []
    for version in range(layout.low, layout.high + 1):
        reading = Reading(data, layout)
        try:
            newest = _read(reading, version)
            fits.append(version)
        except FormatError as error:
            faults.append((reading.at, version, error))
    if not fits:
        _, version, fault = max(faults, key=lambda each: each[:2])
        tried = f"{layout.low} to {layout.high}"
        fault.what = f"no version of the layout, {tried}, fits; as {version}: {fault.what}"
        raise fault
    return fits, newest


def _read(reading: Reading, version: int | None) -> Reading:
    layout = reading.layout
    if layout.is_told_by_fit and version is not None:
        if not layout.low <= version <= layout.high:
            known = f"It has {layout.low} to {layout.high}."
            raise FormatError(f"the layout has no version {version}", remedy=known)
        reading.version = version
    root_field = Field("", layout.root, 0)
    root = layout.root.read(reading, root_field)
    reading.scope.groups.append(root)
    reading.finish(root_field, "the file")
    for hold in reading.references:
        hold()
    return reading
