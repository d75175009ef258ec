"""The land of a delivery, piece by piece, and the register of what each format makes of one."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import Conflict
from fernfield.core.grid import FloatArray, Window
from fernfield.work.ground.packing import range_of
from fernfield.work.handover.deliveries import Delivery
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.world import OpenWorld

MOST_POSTS = 8_193**2
"""Of a piece: it lies in memory while it is written."""


def png_of(values: NDArray[Any]) -> bytes:
    """A PNG of 8 or 16 bits: shape (rows, cols), or (rows, cols, channels) as red, green, blue and what is left."""
    if values.ndim == 3:
        values = values[..., [2, 1, 0, 3][: values.shape[2]]]
    ok, body = cv2.imencode(".png", np.ascontiguousarray(values))
    assert ok
    return bytes(body)


@dataclass(frozen=True, slots=True)
class Span:
    """What 16 bits reach from and to. [m]"""

    lowest: float
    highest: float

    @property
    def step(self) -> float:
        return (self.highest - self.lowest) / 65_535


@dataclass(frozen=True, slots=True)
class PieceOfLand:
    """Some posts of a tract: `window` of all its posts, of which every `step`-th is taken; what they span together.

    name : of its file, without an ending; west_m, north_m : where its first post is, in the metres of the tract
    """

    world: OpenWorld
    tract: Tract
    delivery: Delivery
    name: str
    row: int
    col: int
    window: Window
    span: Span

    @property
    def step(self) -> int:
        return self.delivery.step

    @property
    def spacing_m(self) -> float:
        return self.tract.grid.spacing * self.step

    @property
    def west_m(self) -> float:
        return self.tract.grid.x_of(self.window.col0)

    @property
    def north_m(self) -> float:
        return self.tract.grid.y_of(self.window.row0)

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns of what is taken."""
        return -(-self.window.rows // self.step), -(-self.window.cols // self.step)

    def heights(self) -> FloatArray:
        """The ground at the posts that are taken. [m]"""
        with self.world.lock:
            whole = self.tract.cache.read(HEIGHT, self.window)
        return np.ascontiguousarray(whole[:: self.step, :: self.step], np.float32)

    def squared(self) -> FloatArray:
        """The same; a piece that the tract ends in is filled up with what its edge is."""
        return self.filled(self.heights())

    def filled(self, values: NDArray[Any]) -> NDArray[Any]:
        """Values of its posts, shape (rows, cols, …), filled up to a square of the delivery's with what its edge is."""
        side = self.delivery.chunk
        if not side:
            return values
        more = [(0, side - values.shape[k]) for k in (0, 1)] + [(0, 0)] * (values.ndim - 2)
        return np.pad(values, more, mode="edge")

    def picture(self, values: NDArray[Any]) -> bytes:
        """A PNG of its posts, filled up as heights are."""
        return png_of(self.filled(values))

    @property
    def land(self) -> Land:
        """The land that it is of; its posts are those of the tract."""
        return self.world.land_from(self.tract.row.id)

    def told(self) -> dict[str, Any]:
        """What a manifest says of it."""
        rows, cols = self.shape
        return {
            "row": self.row, "col": self.col, "rows": rows, "cols": cols, "spacing_m": self.spacing_m,
            "west_m": self.west_m, "north_m": self.north_m,
        }  # fmt: skip


@dataclass(frozen=True, slots=True)
class Format:
    """One sort of file: its words, its ending, what it makes of a piece of land, what is lost by it, in words, and what
    the manifest says of each file. bytes_each : of a post, about"""

    key: str
    words: str
    ending: str
    makes: Callable[[PieceOfLand], Iterator[bytes]]
    loses: Callable[[PieceOfLand], str] = lambda piece: ""
    says: Callable[[PieceOfLand], dict[str, Any]] = lambda piece: {}
    bytes_each: float = 4.0

    def count(self, world: OpenWorld) -> int:
        """How many files it makes of a piece of land."""
        return 1

    def files(self, piece: PieceOfLand) -> Iterator[tuple[str, Iterator[bytes]]]:
        """What it makes of one, by the names of its layers; one without a layer has none."""
        yield "", self.makes(piece)


@dataclass(frozen=True, slots=True)
class Layers:
    """One sort of file of which each piece of land has several, by their names: as `Format` besides."""

    key: str
    words: str
    ending: str
    names: Callable[[OpenWorld], Sequence[str]]
    makes: Callable[[PieceOfLand], Iterator[bytes]]
    loses: Callable[[PieceOfLand], str] = lambda piece: ""
    says: Callable[[PieceOfLand], dict[str, Any]] = lambda piece: {}
    bytes_each: float = 1.0

    def count(self, world: OpenWorld) -> int:
        return len(self.names(world))

    def files(self, piece: PieceOfLand) -> Iterator[tuple[str, Iterator[bytes]]]:
        with piece.world.lock:
            names = self.names(piece.world)
        for name, body in zip(names, self.makes(piece), strict=True):
            yield name, iter([body])


@dataclass(frozen=True, slots=True)
class WholeFormat:
    """One file of all of a world."""

    key: str
    words: str
    ending: str
    makes: Callable[[OpenWorld], Iterator[bytes]]


def pieces_of(world: OpenWorld, tract: Tract, delivery: Delivery) -> Iterator[PieceOfLand]:
    """The pieces of a tract, from the north-west. Neighbours share the posts of their edge. Raises Conflict where one
    is too large."""
    lowest, highest = range_of(world.land(tract.row.id))
    if delivery.lowest_m is not None and delivery.highest_m is not None:
        lowest, highest = delivery.lowest_m, delivery.highest_m
    span, grid = Span(lowest, highest), tract.grid
    whole = grid.window
    if not delivery.chunk:
        if -(-grid.rows // delivery.step) * -(-grid.cols // delivery.step) > MOST_POSTS:
            raise Conflict(
                f"a piece of land has {MOST_POSTS:,} posts at most: cut {world.place_of(tract.row.id).name} into pieces"
            )
        yield PieceOfLand(world, tract, delivery, tract.row.id, 0, 0, whole, span)
        return
    long = (delivery.chunk - 1) * delivery.step
    for row, row0 in enumerate(range(0, max(grid.rows - 1, 1), long)):
        for col, col0 in enumerate(range(0, max(grid.cols - 1, 1), long)):
            window = Window(row0, col0, row0 + long + 1, col0 + long + 1).meet(whole)
            name = f"{tract.row.id}/r{row:02}c{col:02}"
            yield PieceOfLand(world, tract, delivery, name, row, col, window, span)
