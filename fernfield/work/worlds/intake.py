"""Elevation files on their way in: kept, read once into plain samples, looked at, and laid out as heights.

A file is read into a file of float32 samples beside it; everything after that works on strips of
these, so that neither the file nor the land has to be in memory whole.
"""

from __future__ import annotations

import math
import secrets
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator, model_validator
from typing_extensions import TypedDict

from fernfield.core.brush.brush import HIGHEST_M, LOWEST_M
from fernfield.core.errors import Conflict, FernError, FormatError, InvalidInput, NotFound
from fernfield.core.grid import LARGEST_SIDE, FloatArray, Window
from fernfield.core.intake.square import between, count_of
from fernfield.core.intake.steps import REACH, unstepped
from fernfield.core.pushpull import filled_strips
from fernfield.formats.elevation import FORMATS, READERS, open_source
from fernfield.formats.source import Said, Source
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.rows import Elevation, Spacing
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.windows import Told, over, quiet, reserve, rows_of, scratch

MOST_KEPT = 6
"""Files that wait to be placed; the oldest goes first."""

BINS = 64
PREVIEW_SIDE = 320
ROWS_AT_ONCE = 128
MOST_UNEVEN = 1_000
SAME = 1e-3
"""Spacings that differ by less than this part of themselves are one."""


class Reading(Command):
    """How a file is read, where it does not say so itself."""

    format: Annotated[
        Literal[FORMATS] | None,  # type: ignore[valid-type]
        Say("Format", left_out="told by content", called={reader.name: reader.words for reader in READERS}),
    ] = None
    rows: Annotated[int | None, Field(ge=2, le=LARGEST_SIDE), Say("Rows", when="format=raw")] = None
    cols: Annotated[int | None, Field(ge=2, le=LARGEST_SIDE), Say("Columns", when="format=raw")] = None
    sample: Annotated[
        Literal["u16", "i16", "f32"] | None,
        Say(
            "Samples",
            when="format=raw",
            left_out="not said",
            called={"u16": "16-bit, from 0", "i16": "16-bit, with sign", "f32": "32-bit float"},
        ),
    ] = None
    byte_order: Annotated[
        Literal["little", "big"],
        Say("Byte order", when="format=raw", called={"little": "little-endian", "big": "big-endian"}),
    ] = "little"
    sampled_m: Annotated[Spacing | None, Say("Sample every", "m", when="format=obj gltf")] = None
    up: Annotated[Literal["y", "z"], Say("Up is", when="format=obj")] = "y"
    nodata: Annotated[float | None, Say("Nodata sample")] = None

    def said(self, spacing_m: float | None = None) -> Said:
        own = self.model_dump(exclude={"sampled_m"})
        return Said(**own, spacing_m=self.sampled_m or spacing_m)


class Placing(Command):
    """How samples become heights.

    spacing_m : between posts, where the file does not say it, or is to be taken otherwise
    lowest_m, highest_m : what the lowest and highest sample stand for; both or neither
    crop : row0, col0, row1, col1 of the file's posts
    turn_deg, flip : clockwise, after being mirrored east for west
    fill : what becomes of posts without an elevation: refused when left out
    smooth_steps : take away the steps of whole-number samples
    """

    spacing_m: Annotated[Spacing | None, Say("Spacing", "m")] = None
    lowest_m: Annotated[Elevation | None, Say("Lowest", "m")] = None
    highest_m: Annotated[Elevation | None, Say("Highest", "m")] = None
    crop: Annotated[tuple[int, int, int, int] | None, UNASKED] = None
    turn_deg: Annotated[
        Literal[0, 90, 180, 270],
        Say("Turn clockwise", called={"0": "not", "90": "90°", "180": "180°", "270": "270°"}),
    ] = 0
    flip: Annotated[bool, Say("mirrored, east for west")] = False
    fill: Annotated[
        Literal["around", "lowest"] | None,
        Say("Fill holes", called={"around": "from around", "lowest": "with the lowest"}, left_out="refused"),
    ] = None
    smooth_steps: Annotated[bool, Say("smooth the steps between samples")] = False

    @field_validator("crop", mode="before")
    @classmethod
    def _crop_in_words(cls, value: Any) -> Any:
        """A form says it as four numbers with commas."""
        return [part.strip() for part in value.split(",")] if isinstance(value, str) else value

    @field_validator("turn_deg", mode="before")
    @classmethod
    def _turn_in_words(cls, value: Any) -> Any:
        return int(value) if isinstance(value, str) and value.isdigit() else value

    @model_validator(mode="after")
    def _lowest_first(self) -> Placing:
        low, high = self.lowest_m, self.highest_m
        if low is not None and high is not None and low >= high:
            raise InvalidInput(f"lowest_m must be below highest_m, not {low:g} and {high:g}", "lowest_m")
        return self


class SamplesTold(TypedDict):
    """A file that has been read; lowest and highest in its own unit, which are metres or not."""

    kind: str
    rows: int
    cols: int
    sample: str
    metres: bool
    about: str
    spacing_m: float | None
    lowest: float
    highest: float
    missing: int
    counts: list[int]


class LaidOut(TypedDict):
    """What placing makes of a file: its posts, and how large it is. [m]"""

    rows: int
    cols: int
    spacing_m: float
    width_m: float
    depth_m: float
    step_m: float


@dataclass(frozen=True)
class Samples:
    """A file that has been read: its source, and its samples on the disk, row 0 north.

    lowest, highest : of those that stand for something, in the samples' own unit
    missing : posts without an elevation
    counts : histogram from lowest to highest
    """

    source: Source
    path: Path
    lowest: float
    highest: float
    missing: int
    counts: tuple[int, ...]

    def open(self) -> Any:
        return np.memmap(self.path, np.float32, "r", shape=(self.source.rows, self.source.cols))

    def public(self) -> SamplesTold:
        source = self.source
        return {
            "kind": source.kind, "rows": source.rows, "cols": source.cols, "sample": source.sample,
            "metres": source.metres, "about": source.about,
            "spacing_m": None if source.spacing_m is None else min(source.spacing_m),
            "lowest": self.lowest, "highest": self.highest, "missing": self.missing, "counts": list(self.counts),
        }  # fmt: skip


def read_samples(path: Path, said: Said, to: Path, say: Told = quiet) -> Samples:
    """Read a file into plain samples at `to`, which is taken away again when that fails. Raises FormatError."""
    try:
        source = open_source(path, said)
    except (FernError, MemoryError, OSError):
        raise
    except Exception as error:  # whatever a damaged file makes of a library
        raise FormatError(f"the file is damaged: {str(error)[:200] or type(error).__name__}", "file") from error
    try:
        return _read_samples(source, to, say)
    except BaseException:
        to.unlink(missing_ok=True)
        raise


def _read_samples(source: Source, to: Path, say: Told) -> Samples:
    shape = source.rows, source.cols
    with to.open("w+b") as file:
        reserve(file.fileno(), shape[0] * shape[1] * 4)
    out = np.memmap(to, np.float32, "r+", shape=shape)
    row, missing = 0, 0
    low, high = math.inf, -math.inf
    for band in _sound(source.bands(lambda done: say(0.9 * done, "Reading the file"))):
        last = row + len(band)
        if source.south_up:
            out[shape[0] - last : shape[0] - row] = band[::-1]
        else:
            out[row:last] = band
        gone = int(np.isnan(band).sum())
        missing += gone
        if gone < band.size:
            low, high = min(low, float(np.nanmin(band))), max(high, float(np.nanmax(band)))
        row = last
    if row != shape[0]:
        raise FormatError(f"the file is cut short: {row} of {shape[0]} rows are there", "file")
    if missing == shape[0] * shape[1]:
        raise FormatError("no post of the file has an elevation", "file")
    counts = np.zeros(BINS, np.int64)
    span = (low, high if high > low else low + 1)

    def give(band: Window) -> tuple[FloatArray, tuple[float, float]]:
        return out[band.row0 : band.row1], span

    whole = Window(0, 0, *shape)
    for _, found in over(rows_of(whole, 32), give, counted, say=say, words="Counting elevations", part=(0.9, 1.0)):
        counts += found
    out.flush()
    return Samples(source, to, low, high, missing, tuple(counts.tolist()))


def _sound(bands: Iterator[FloatArray]) -> Iterator[FloatArray]:
    """The bands of a file; whatever damaged samples make of a library is told in words."""
    while True:
        try:
            band = next(bands)
        except StopIteration:
            return
        except (FernError, MemoryError, OSError):
            raise
        except Exception as error:
            words = f"the file is damaged: {str(error)[:200] or type(error).__name__}"
            raise FormatError(words, "file") from error
        yield band


def counted(part: FloatArray, span: tuple[float, float]) -> NDArray[np.int64]:
    """How many samples lie in each bin of a span; those that are missing in none."""
    # In double precision: a span may be as narrow, or as wide, as single precision has it.
    return np.histogram(part[~np.isnan(part)].astype(np.float64), BINS, span)[0]


@dataclass(frozen=True, slots=True)
class Layout:
    """What placing makes of samples: rows and columns, their spacing [m], and the scale of heights.

    down, across : rows and columns of the (turned) samples from one post to the next; 1 where they stand on squares
    """

    rows: int
    cols: int
    spacing_m: float
    scale: float
    offset: float
    step_m: float
    down: float = 1.0
    across: float = 1.0

    @property
    def facts(self) -> LaidOut:
        return {
            "rows": self.rows, "cols": self.cols, "spacing_m": self.spacing_m,
            "width_m": (self.cols - 1) * self.spacing_m, "depth_m": (self.rows - 1) * self.spacing_m,
            "step_m": self.step_m,
        }  # fmt: skip


def _box(samples: Samples, placing: Placing) -> tuple[int, int, int, int]:
    rows, cols = samples.source.rows, samples.source.cols
    if placing.crop is None:
        return 0, 0, rows, cols
    r0, c0, r1, c1 = placing.crop
    if not (0 <= r0 < r1 <= rows and 0 <= c0 < c1 <= cols and r1 - r0 >= 2 and c1 - c0 >= 2):
        words = f"crop must be row0, col0, row1, col1 within {rows} rows and {cols} columns, not {placing.crop}"
        raise InvalidInput(words, "crop")
    return r0, c0, r1, c1


def _scale(samples: Samples, placing: Placing) -> tuple[float, float]:
    """Heights are samples times the first plus the second."""
    source = samples.source
    low, high = placing.lowest_m, placing.highest_m
    if low is None and high is None and source.metres:
        if samples.lowest < LOWEST_M or samples.highest > HIGHEST_M:
            words = (
                f"elevations must lie within {LOWEST_M:g} to {HIGHEST_M:g} m; the file goes from {samples.lowest:g} "
                f"to {samples.highest:g}: say which sample is nodata, or lowest_m and highest_m"
            )
            raise FormatError(words, "nodata")
        return 1.0, 0.0
    for field, value in (("lowest_m", low), ("highest_m", high)):
        if value is None:
            why = "a range needs both ends" if source.metres else f"{source.kind} does not say its elevations"
            raise FormatError(f"{why}: {field} is needed", field)
    assert low is not None
    assert high is not None
    first, last = source.levels or (samples.lowest, samples.highest)
    if last <= first:
        return 0.0, low
    scale = (high - low) / (last - first)
    return scale, low - first * scale


def layout(samples: Samples, placing: Placing) -> Layout:
    """What placing makes of samples, before it is done. Raises InvalidInput for what does not go together."""
    source = samples.source
    r0, c0, r1, c1 = _box(samples, placing)
    scale, offset = _scale(samples, placing)
    if samples.missing and placing.fill is None:
        words = f"{samples.missing} of {source.rows * source.cols} posts have no elevation: fill them from around"
        raise FormatError(f"{words} or with the lowest (fill)", "fill")
    if source.spacing_m is None and placing.spacing_m is None:
        raise FormatError(f"{source.kind} does not say its spacing: spacing_m is needed", "spacing_m")
    deep, wide = source.spacing_m or (1.0, 1.0)
    spacing = placing.spacing_m or min(deep, wide)
    factor = spacing / min(deep, wide)
    deep, wide = deep * factor, wide * factor
    rows, cols = r1 - r0, c1 - c0
    if placing.turn_deg in (90, 270):
        rows, cols, deep, wide = cols, rows, wide, deep
    down = across = 1.0
    if abs(deep - wide) > SAME * spacing:
        if max(deep, wide) > MOST_UNEVEN * min(deep, wide):
            words = f"samples stand {deep:g} m apart one way and {wide:g} m the other"
            raise FormatError(f"{words}; at most {MOST_UNEVEN} times as far is allowed", "spacing_m")
        down, across = spacing / deep, spacing / wide
        rows, cols = count_of(rows, deep, spacing), count_of(cols, wide, spacing)
    for name, count in (("rows", rows), ("cols", cols)):
        if not 2 <= count <= LARGEST_SIDE:
            raise FormatError(f"the land would have {count} {name}; 2 to {LARGEST_SIDE} are allowed: crop it", "crop")
    return Layout(rows, cols, spacing, scale, offset, abs(scale) if source.whole else 0.0, down, across)


def lay_out(samples: Samples, placing: Placing, out: Any, say: Told = quiet, coarser: int = 1) -> Layout:
    """Write the heights that samples become into `out`, shape as `layout` says; strip by strip. [m]

    With `coarser`, from every so many-th sample only, into an array made that much smaller.
    """
    plan = layout(samples, placing)
    r0, c0, r1, c1 = _box(samples, placing)
    crop = samples.open()[r0:r1:coarser, c0:c1:coarser]
    turned = placing.turn_deg // 90
    # The way back: what `out` looks like in the order of the file's rows.
    if plan.down == plan.across == 1.0:
        _heights(samples, placing, plan, crop, _unturned(out, turned, placing.flip), say)
        return plan
    with scratch(_turned_shape(crop.shape, turned), np.float32) as plain:
        _heights(samples, placing, plan, crop, _unturned(plain, turned, placing.flip), say)
        across = np.arange(out.shape[1]) * plan.across

        def give(band: Window) -> tuple[Any, ...]:
            return plain, np.arange(band.row0, band.row1) * plan.down, across

        words = "Laying the posts on squares"
        for band, made in over(rows_of(Window(0, 0, *out.shape)), give, between, say=say, words=words, part=(0.9, 1.0)):
            out[band.row0 : band.row1] = made
    return plan


def _turned_shape(shape: tuple[int, ...], turned: int) -> tuple[int, int]:
    return (shape[1], shape[0]) if turned % 2 else (shape[0], shape[1])


def _unturned(out: Any, turned: int, flip: bool) -> Any:
    """A view of `out` that takes what the file holds: written to, `out` is mirrored and turned clockwise."""
    view = np.rot90(out, turned)
    return view[:, ::-1] if flip else view


def _heights(samples: Samples, placing: Placing, plan: Layout, crop: Any, out: Any, say: Told) -> None:
    rows = crop.shape[0]

    def read(first: int, last: int) -> FloatArray:
        part = np.array(crop[first:last], np.float32)
        if placing.fill == "lowest":
            part[np.isnan(part)] = samples.lowest
        return part

    strips: Iterator[tuple[int, FloatArray]]
    if samples.missing and placing.fill == "around":
        strips = filled_strips(read, rows)
    else:
        strips = ((first, read(first, min(first + ROWS_AT_ONCE, rows))) for first in range(0, rows, ROWS_AT_ONCE))
    smooth = placing.smooth_steps and samples.source.whole
    part = 0.5 if smooth else 0.9
    with scratch(crop.shape, np.float32) if smooth else _as_is(out) as plain:
        for first, values in strips:
            say(part * first / rows, "Laying out the land")
            if smooth:
                plain[first : first + len(values)] = values
            else:
                plain[first : first + len(values)] = values.astype(np.float64) * plan.scale + plan.offset
        if not smooth:
            return
        whole = Window(0, 0, *crop.shape)

        def give(band: Window) -> tuple[FloatArray, float]:
            return np.array(plain[max(0, band.row0 - REACH) : band.row1 + REACH]), 1.0

        words = "Smoothing the steps"
        for band, soft in over(rows_of(whole), give, unstepped, say=say, words=words, part=(0.5, 0.9)):
            own = soft[band.row0 - max(0, band.row0 - REACH) :][: band.rows]
            out[band.row0 : band.row1] = own.astype(np.float64) * plan.scale + plan.offset


@contextmanager
def _as_is(out: Any) -> Iterator[Any]:
    yield out


def coarse(samples: Samples, placing: Placing) -> tuple[FloatArray, float]:
    """The land as it would come in, at most some hundred posts a side, and the spacing of these. [m]"""
    plan = layout(samples, placing)
    step = max(1, math.ceil(max(plan.rows, plan.cols) / PREVIEW_SIDE))
    out = np.empty((max(2, -(-plan.rows // step)), max(2, -(-plan.cols // step))), np.float32)
    lay_out(samples, placing, out, coarser=step)
    return out, plan.spacing_m * step


@contextmanager
def heights_of(samples: Samples, placing: Placing, say: Told = quiet) -> Iterator[tuple[Any, Layout]]:
    """The heights that samples become, in memory or in a file that goes when it is done with. [m]"""
    plan = layout(samples, placing)
    with scratch((plan.rows, plan.cols), np.float32) as out:
        yield out, lay_out(samples, placing, out, say)


# Files that wait


@dataclass
class Incoming:
    """A file that came in: where it lies, how its name was, and what it holds once that was read."""

    id: str
    path: Path
    name: str
    samples: Samples | None = None

    def read(self) -> Samples:
        if self.samples is None:
            raise Conflict("the file has not been read yet: wait for its job, or read it anew")
        return self.samples


class Waiting:
    """The files that wait to be placed, in the folder `incoming` of the data folder."""

    def __init__(self, folder: Path, read: Callable[[Path, Said, Path, Told], Samples] = read_samples) -> None:
        self.folder, self._read = folder, read
        self._lock = threading.Lock()
        self._files: OrderedDict[str, Incoming] = OrderedDict()

    def add(self, path: Path, name: str) -> Incoming:
        found = Incoming("f" + secrets.token_hex(5), path, name[:200])
        with self._lock:
            self._files[found.id] = found
            old = [self._files.popitem(last=False)[1] for _ in range(max(0, len(self._files) - MOST_KEPT))]
        for one in old:
            _forget(one)
        return found

    def get(self, file_id: str) -> Incoming:
        with self._lock:
            found = self._files.get(file_id)
        if found is None:
            raise NotFound(f"there is no file {file_id!r} waiting; it may have been placed, or others came after it")
        return found

    def read(self, file: Incoming, reading: Reading, say: Told) -> Samples:
        """Read a file, in the place of how it was read before."""
        to = file.path.with_name(f"{file.path.name}-{secrets.token_hex(4)}.f32")
        try:
            samples = self._read(file.path, reading.said(), to, say)
        except FileNotFoundError:
            raise Conflict("the file was dropped, or others came after it, before it was read") from None
        with self._lock:
            waits = file.id in self._files
            old, file.samples = file.samples, samples if waits else None
        if not waits:
            to.unlink(missing_ok=True)
            raise Conflict("the file was dropped while it was being read")
        if old is not None:
            old.path.unlink(missing_ok=True)
        return samples

    def drop(self, file_id: str) -> None:
        with self._lock:
            found = self._files.pop(file_id, None)
        if found is not None:
            _forget(found)


def _forget(file: Incoming) -> None:
    file.path.unlink(missing_ok=True)
    if file.samples is not None:
        file.samples.path.unlink(missing_ok=True)
