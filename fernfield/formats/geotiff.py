"""GeoTIFF [1]_ written: tiled, with overviews, in a coordinate system of one's own that is metres east and north.

References
----------
.. [1] OGC 19-008r4, GeoTIFF Standard 1.1 (2019)
"""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from numpy.typing import NDArray

TILE = 256
LEAST = 256
"""There are overviews down to one that is no longer than this."""
PIXEL_IS_POINT, USER_DEFINED, METRE = 2, 32_767, 9_001


def _keys() -> tuple[int, ...]:
    """The directory of keys: a system that is nobody else's, in metres, whose samples are at points."""
    keys = ((1024, USER_DEFINED), (1025, PIXEL_IS_POINT), (3076, METRE), (4099, METRE))
    return (1, 1, 0, len(keys), *(number for key, value in keys for number in (key, 0, 1, value)))


def geotiff(
    values: NDArray[Any], spacing_m: float, west_m: float, north_m: float, *, scale: tuple[float, float] | None = None
) -> bytes:
    """A grid of samples at posts, row 0 in the north, as a GeoTIFF.

    values : float32 (not a number where there is nothing) or uint16, shape (rows, cols)
    west_m, north_m : where the first sample of the first row is
    scale : of whole numbers, elevation = number * scale + offset [m], told as GDAL tells it
    """
    import tifffile

    out = io.BytesIO()
    kind = "f" if values.dtype.kind == "f" else "u"
    levels = [values]
    while max(levels[-1].shape) > LEAST:
        levels.append(np.ascontiguousarray(levels[-1][::2, ::2]))
    with tifffile.TiffWriter(out) as file:
        for number, level in enumerate(levels):
            step = spacing_m * 2**number
            tags: list[Any] = [
                (33550, "d", 3, (step, step, 0.0), True),
                (33922, "d", 6, (0.0, 0.0, 0.0, west_m, north_m, 0.0), True),
                (34735, "H", len(_keys()), _keys(), True),
            ]
            if kind == "f":
                tags.append((42113, "s", 0, "nan", True))
            elif scale is not None:
                items = f'<Item name="OFFSET" sample="0" role="offset">{scale[1]!r}</Item>'
                items += f'<Item name="SCALE" sample="0" role="scale">{scale[0]!r}</Item>'
                tags.append((42112, "s", 0, f"<GDALMetadata>{items}</GDALMetadata>", True))
            file.write(
                level, photometric="minisblack", tile=(TILE, TILE), compression="zlib",
                predictor=3 if kind == "f" else 2, subfiletype=1 if number else 0, extratags=tags, metadata=None,
                software=False, datetime=None,
            )  # fmt: skip
    return out.getvalue()
