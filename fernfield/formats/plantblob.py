"""Plants that a hand has touched, as text: a patch of them in columns, shuffled by bytes, Deflate, base 85.

Places are kept to a millimetre, heights over the ground to a centimetre, sizes to a thousandth, turns to 0.006°.
"""

from __future__ import annotations

import base64
import zlib
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import FormatError

PATCH_M = 64.0
"""The side of a patch: places within it fit into 16 bits of millimetres."""

PLANT = np.dtype([
    ("id", "<u4"), ("name", "<i4"), ("sown", "?"), ("gone", "?"), ("x", "<f8"), ("y", "<f8"), ("over", "<f4"),
    ("height", "<f4"), ("width", "<f4"), ("turn", "<f4"), ("tilt", "<f4"), ("tilt_to", "<f4"), ("tint", "<f4"),
    ("variant", "u1"), ("i", "<i4"), ("j", "<i4"), ("number", "<i4"),
])  # fmt: skip
"""A plant that was touched.

id : its number among those put by hand, 0 for one that was sown; name : of its mix and kind, in the list of its patch;
sown : it was sown, at block (i, j) and number; gone : it was taken away
x, y : from the patch's corner [m]; over : the ground [m]; height, width : factors; turn, tilt_to : bearings [°]
"""
Plants = NDArray[Any]

_STORED = np.dtype([
    ("id", "<u4"), ("name", "<u2"), ("flags", "u1"), ("x", "<u2"), ("y", "<u2"), ("over", "<i2"), ("height", "<u2"),
    ("width", "<u2"), ("turn", "<u2"), ("tilt", "u1"), ("tilt_to", "u1"), ("tint", "u1"), ("variant", "u1"),
    ("i", "<i4"), ("j", "<i4"), ("number", "<u2"),
])  # fmt: skip
_SCALES = {
    "x": 1_000, "y": 1_000, "over": 100, "height": 1_000, "width": 1_000, "turn": 65_536 / 360, "tilt": 255 / 60,
    "tilt_to": 256 / 360, "tint": 255,
}  # fmt: skip
_AROUND = {"turn", "tilt_to"}


def encode_plants(plants: Plants) -> str:
    """Plants of dtype PLANT as text; what is too large for its column is brought to its end."""
    stored = np.zeros(len(plants), _STORED)
    for name in ("id", "name", "variant", "i", "j", "number"):
        stored[name] = plants[name]
    stored["flags"] = plants["sown"] + 2 * plants["gone"].astype(np.uint8)
    for name, scale in _SCALES.items():
        whole = np.rint(plants[name].astype(np.float64) * scale)
        kind = np.iinfo(_STORED[name])
        stored[name] = whole % (kind.max + 1) if name in _AROUND else np.clip(whole, kind.min, kind.max)
    packed = b""
    if len(plants):
        each = (np.ascontiguousarray(stored[name]) for name in _STORED.names or ())
        packed = np.concatenate([column.view(np.uint8).reshape(len(plants), -1).T for column in each]).tobytes()
    return base64.b85encode(zlib.compress(packed, 9)).decode()


def decode_plants(text: str, count: int) -> Plants:
    """The plants of `encode_plants`. Raises FormatError when the text is damaged."""
    try:
        unpacks = zlib.decompressobj()
        packed = unpacks.decompress(base64.b85decode(text), max(1, count * _STORED.itemsize))
    except (ValueError, zlib.error) as error:
        raise FormatError(f"a patch of plants is damaged: {error}") from error
    if len(packed) != count * _STORED.itemsize or unpacks.unconsumed_tail:
        raise FormatError(f"a patch of {count} plants must hold {count * _STORED.itemsize} bytes, not {len(packed)}")
    planes = np.frombuffer(packed, np.uint8).reshape(_STORED.itemsize, count) if count else np.zeros((0, 0), np.uint8)
    plants, at = np.zeros(count, PLANT), 0
    for name in _STORED.names or ():
        dtype = _STORED[name]
        column = np.ascontiguousarray(planes[at : at + dtype.itemsize].T).view(dtype).reshape(count)
        at += dtype.itemsize
        if name == "flags":
            plants["sown"], plants["gone"] = column & 1, column >> 1 & 1
        else:
            plants[name] = column / _SCALES[name] if name in _SCALES else column
    return plants
