"""Elevation files in: the list of formats, and the one call that reads any of them.

The next format is a module with a `Reader` and a line in `READERS`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from fernfield.core.errors import FormatError
from fernfield.core.grid import FloatArray
from fernfield.formats import asc, png16
from fernfield.formats.limits import Step, no_step


@dataclass(frozen=True, slots=True)
class Wanted:
    """What the person says of the file, where the file itself does not: all in metres."""

    spacing_m: float | None = None
    lowest_m: float | None = None
    highest_m: float | None = None


@dataclass(frozen=True, slots=True)
class Elevation:
    """Heights [m], shape (rows, cols), row 0 north, and the spacing of the posts [m]."""

    heights: FloatArray
    spacing_m: float


@dataclass(frozen=True, slots=True)
class Reader:
    """One format: its name, whether the first bytes look like it, and how it is read."""

    name: str
    looks_like: Callable[[bytes], bool]
    read: Callable[[Path, Wanted, Step], Elevation]


def _read_png(path: Path, wanted: Wanted, step: Step) -> Elevation:
    for name, value in (("lowest_m", wanted.lowest_m), ("highest_m", wanted.highest_m)):
        if value is None:
            raise FormatError(f"a PNG does not say its elevations: {name} is needed", name)
    if wanted.spacing_m is None:
        raise FormatError("a PNG does not say its spacing: spacing_m is needed", "spacing_m")
    assert wanted.lowest_m is not None
    assert wanted.highest_m is not None
    return Elevation(png16.read_png(path, wanted.lowest_m, wanted.highest_m, step), wanted.spacing_m)


def _read_asc(path: Path, wanted: Wanted, step: Step) -> Elevation:
    grid = asc.read_asc(path, step)
    return Elevation(grid.heights, wanted.spacing_m or grid.spacing_m)


READERS = (
    Reader("PNG, 16-bit greyscale", png16.looks_like_png, _read_png),
    Reader("ESRI ASCII grid", asc.looks_like_asc, _read_asc),
)


def read_elevation(path: Path, wanted: Wanted, step: Step = no_step) -> Elevation:
    """Read an elevation file; its content, not its name, says what it is.

    `step` hears how much of it is read, and may raise to stop.

    Raises FormatError when it is none of the known formats, damaged, too large, or when
    something that the format does not say is missing from `wanted`.
    """
    with path.open("rb") as file:
        head = file.read(4096)
    if not head:
        raise FormatError("the file is empty", "file")
    for reader in READERS:
        if reader.looks_like(head):
            return reader.read(path, wanted, step)
    names = ", ".join(reader.name for reader in READERS)
    raise FormatError(f"the file must be one of: {names}; it begins with {head[:8]!r}", "file")
