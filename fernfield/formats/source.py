"""What every reader of elevation files takes and gives: a source is a grid of samples that comes band by band."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.formats.limits import Step

ROWS_AT_ONCE = 256
"""Rows in a band where the format itself does not say how many belong together."""


@dataclass(frozen=True, slots=True)
class Said:
    """What the person says of a file where the file itself does not.

    format : name of a reader; told by content when left out
    rows, cols, sample, byte_order : of a raw file; sample is u16, i16 or f32, the order little or big
    spacing_m : how far apart the posts of a sampled surface are to be [m]
    up : the axis of an OBJ that points up, y or z
    nodata : the sample that stands for "no elevation", where the file does not name it
    """

    format: str | None = None
    rows: int | None = None
    cols: int | None = None
    sample: str | None = None
    byte_order: str = "little"
    spacing_m: float | None = None
    up: str = "y"
    nodata: float | None = None


@dataclass(frozen=True)
class Source:
    """A file that has been looked into, and how to read it.

    sample : what a sample is: u8, u16, i16, i32, f32 …
    metres : whether the samples are elevations in metres as they stand
    spacing_m : between rows, and between columns [m]; None where the file does not say
    south_up : whether the first row is the south edge
    about : what the file says of its place and units, in words
    bands : reads the rows from first to last, float32, NaN where there is no elevation
    """

    kind: str
    rows: int
    cols: int
    sample: str
    metres: bool
    bands: Callable[[Step], Iterator[FloatArray]]
    spacing_m: tuple[float, float] | None = None
    south_up: bool = False
    about: str = ""

    @property
    def levels(self) -> tuple[float, float] | None:
        """Lowest and highest sample of a whole-number kind that a stated range is spread over."""
        return {"u8": (0.0, 255.0), "u16": (0.0, 65_535.0), "i16": (-32_768.0, 32_767.0)}.get(self.sample)

    @property
    def whole(self) -> bool:
        """Whether the samples are whole numbers, and so stand in steps."""
        return self.sample[0] in "ui"


@dataclass(frozen=True, slots=True)
class Reader:
    """One format: its name in the API, in words, whether first bytes look like it, and how it is opened."""

    name: str
    words: str
    looks_like: Callable[[bytes], bool]
    open: Callable[[Path, Said], Source]


def read_before(_step: Step) -> Iterator[FloatArray]:
    """The bands of a source that was read elsewhere: there are none any more."""
    raise AssertionError("the source was read already")


def sample_name(dtype: np.dtype[np.generic]) -> str:
    """u8, i16, f32 …"""
    return f"{dtype.kind}{8 * dtype.itemsize}"


def as_heights(samples: np.ndarray, nodata: float | None) -> FloatArray:
    """Samples as float32, NaN where they are not finite or stand for nothing."""
    with np.errstate(over="ignore", invalid="ignore"):
        found = np.asarray(samples, np.float32).copy()
        gone = ~np.isfinite(found)
        if nodata is not None and not np.isnan(nodata):
            # The number as the samples can hold it: -3.4028235e38 in a file's text is not exactly a float32.
            gone |= found == np.float32(nodata)
    found[gone] = np.nan
    return found
