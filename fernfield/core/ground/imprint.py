"""Imprint: press a grey image into the land at a place, size, turn and height."""

from __future__ import annotations

import math

import numpy as np

from fernfield.core.brush.pressing import Laying
from fernfield.core.brush.shapes import sample
from fernfield.core.grid import FloatArray, Window
from fernfield.core.kernels import kernel
from fernfield.core.settings import Setting, Values

MODES = ("add", "highest", "lowest", "replace")
MODE_WORDS = {
    "add": "add to the land", "highest": "the higher of both", "lowest": "the lower of both",
    "replace": "replace the land",
}  # fmt: skip

SETTINGS = (
    Setting("image", "Image", first="hummock", picture=True),
    Setting("size_m", "Size", "m", 1, 10_000, 80),
    Setting("height_m", "Height", "m", -2_000, 2_000, 12),
    Setting("mode", "Mode", first="add", choices=MODES, called=MODE_WORDS),
    Setting("edge", "Soft edge", "%", 0, 100, 10),
)


def imprint_area(path: FloatArray, values: Values, spacing: float, low: float, high: float) -> Window:
    """The posts that an imprint can change: it lies where the path ends."""
    image: FloatArray = values["image"]
    tall = values["size_m"] * image.shape[0] / image.shape[1]
    reach = math.ceil(math.hypot(values["size_m"], tall) / 2 / spacing) + 1
    row, col = float(path[-1, 0]), float(path[-1, 1])
    return Window(math.floor(row), math.floor(col), math.ceil(row) + 1, math.ceil(col) + 1).pad(reach)


def lay_imprint(work: Laying) -> None:
    """Press the image in. White is ``height_m`` over (below, when negative) black.

    ``size_m`` is the width of the image; `turn_deg` turns its top clockwise from north.
    add : the image's heights onto the land
    highest, lowest : the higher, the lower of the land and the image, whose black lies at
        the elevation of the ground under its middle
    replace : the image in the land's place
    """
    values = work.values
    image: FloatArray = np.ascontiguousarray(values["image"], np.float32)
    turn = math.radians(values.get("turn_deg", 0.0) * (-1 if work.flipped else 1) + work.turn)
    wide = values["size_m"] / work.spacing
    tall = wide * image.shape[0] / image.shape[1]
    row, col = work.path[-1]
    stamp = np.full(work.heights.shape, np.nan, np.float32)
    edge = np.zeros(work.heights.shape, np.float32)
    soft = max(values["edge"] / 100, 1e-6)
    flip = -1.0 if work.flipped else 1.0
    _stamp(stamp, edge, image, float(row), float(col), wide, tall, math.cos(turn), math.sin(turn), flip, soft)
    inside = ~np.isnan(stamp)
    ground, share = work.heights[inside], edge[inside]
    lift = stamp[inside] * np.float32(values["height_m"])
    mode = values["mode"]
    if mode == "add":
        work.heights[inside] = ground + lift * share
        return
    level = np.float32(work.ended) + lift
    if mode == "highest":
        level = np.maximum(ground, level)
    elif mode == "lowest":
        level = np.minimum(ground, level)
    work.heights[inside] = ground + (level - ground) * share


@kernel
def _stamp(
    stamp: FloatArray,
    edge: FloatArray,
    image: FloatArray,
    row: float,
    col: float,
    wide: float,
    tall: float,
    cos: float,
    sin: float,
    flip: float,
    soft: float,
) -> None:
    for r in range(stamp.shape[0]):
        for c in range(stamp.shape[1]):
            down, right = r - row, c - col
            across = (right * cos + down * sin) * flip / wide
            back = (down * cos - right * sin) / tall
            if abs(across) <= 0.5 and abs(back) <= 0.5:
                stamp[r, c] = sample(image, back + 0.5, across + 0.5)
                t = min(min(0.5 - abs(across), 0.5 - abs(back)) / (0.5 * soft), 1.0)
                edge[r, c] = t * t * (3 - 2 * t)
