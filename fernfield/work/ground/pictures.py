"""The user's own grey pictures: read, checked, and kept with the world."""

from __future__ import annotations

import io
import struct
import warnings

import numpy as np
from PIL import Image, UnidentifiedImageError

from fernfield.core.errors import Conflict, FormatError
from fernfield.core.grid import FloatArray
from fernfield.formats.pngbands import SIGNATURE
from fernfield.formats.tileblob import encode_tile
from fernfield.store.worlds import PictureRow, WorldStore

SMALLEST, LARGEST = 2, 2_048
MOST_PICTURES = 200
KINDS = {0: "grey", 2: "colour", 3: "palette", 4: "grey with alpha", 6: "colour with alpha"}


def read_grey(body: bytes) -> FloatArray:
    """A greyscale PNG as 0 to 1. Raises FormatError, by name, for another kind, a wrong size, or damage."""
    if not body.startswith(SIGNATURE) or len(body) < 33 or body[12:16] != b"IHDR":
        raise FormatError(f"the picture must be a PNG; the file begins with {body[:8]!r}", "file")
    cols, rows, depth, colour = struct.unpack(">IIBB", body[16:26])
    if colour != 0 or depth not in (8, 16):
        kind = KINDS.get(colour, "of an unknown kind")
        raise FormatError(f"the picture must be greyscale of 8 or 16 bits, not {depth}-bit {kind}", "file")
    if not (SMALLEST <= cols <= LARGEST and SMALLEST <= rows <= LARGEST):
        words = f"the picture must be {SMALLEST} to {LARGEST} pixels a side, not {cols} wide and {rows} high"
        raise FormatError(words, "file")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            grey = np.asarray(Image.open(io.BytesIO(body)))
    except (OSError, UnidentifiedImageError, SyntaxError, ValueError) as error:
        raise FormatError(f"the PNG is damaged or cut short: {error}", "file") from error
    return np.asarray(grey, np.float32) / np.float32(255 if depth == 8 else 65_535)


def add_picture(store: WorldStore, world_id: str, key: str, name: str, body: bytes) -> PictureRow:
    """Keep a picture with a world."""
    if len(store.pictures(world_id)) >= MOST_PICTURES:
        raise Conflict(f"a world keeps at most {MOST_PICTURES} pictures")
    image = read_grey(body)
    picture = PictureRow(key, name, *image.shape)
    store.put_picture(world_id, picture, encode_tile(image))
    return picture
