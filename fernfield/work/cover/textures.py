"""The textures of a world's covers: our own by name, and the pictures that people brought."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from fernfield.core.cover.textures import TEXTURES, as_texture, brightness, coarser, laid_out, texture
from fernfield.core.errors import NotFound
from fernfield.core.grid import FloatArray
from fernfield.work.cover.rows import Cover
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.world import OpenWorld


def texture_of(world: OpenWorld, key: str) -> FloatArray:
    """A texture by its name or a picture's key: shape (256, 256), 0 to 1. Raises NotFound."""
    return texture(key) if key in TEXTURES else as_texture(world.picture(key))


def textured(
    world: OpenWorld, land: Land, covers: Sequence[Cover], shares: FloatArray, rows: FloatArray, cols: FloatArray
) -> FloatArray:
    """How bright the ground is beside its colour, from the textures of its covers: about 1, shape (rows, cols).

    covers, shares : every cover as it was when the shares were read, and its share of every pixel, shape (covers,
    rows, cols)
    rows, cols : where the pixels are, in posts of the land
    """
    out = np.ones(shares.shape[1:], np.float32)
    x = land.grid.x_of(0) + cols * land.grid.spacing + land.origin[0]
    y = land.grid.y_of(0) - rows * land.grid.spacing + land.origin[1]
    pixel = abs(float(cols[1] - cols[0])) * land.grid.spacing if len(cols) > 1 else land.grid.spacing
    for cover, share in zip(covers, shares, strict=True):
        if cover.texture is None or share.max() < 0.02:
            continue
        try:
            image = coarser(texture_of(world, cover.texture), pixel, cover.tile_m)
        except NotFound:
            # A picture that has gone: the cover keeps its plain colour.
            continue
        out += share * (brightness(laid_out(image, x, y, cover.tile_m, cover.turn_deg)) - 1)
    return out
