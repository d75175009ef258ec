"""The light of a world baked: where the sun or the moon comes to, what share of the sky is seen, and the sky."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from fernfield.work.delivery.pieces import Layers, PieceOfLand, WholeFormat, png_of
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.falling import lit_posts, share_posts
from fernfield.work.light.moment import moment_of, sky_seen


def _baked(piece: PieceOfLand) -> Iterator[bytes]:
    moment, (rows, cols) = moment_of(piece.world), piece.shape
    day, lit = moment.day, np.zeros(piece.shape, np.uint8)
    if moment.thrown:
        lit = lit_posts(piece.world, piece.land, piece.window, piece.step, day.bearing, day.height)[:rows, :cols]
    yield piece.picture(lit)
    share = share_posts(piece.world, piece.land, piece.window, piece.step)[:rows, :cols]
    yield piece.picture(np.rint(share * 255).astype(np.uint8))


def _says(piece: PieceOfLand) -> dict[str, Any]:
    day = moment_of(piece.world).day
    return {"bearing_deg": day.bearing, "height_deg": day.height, "rule": "255 is all of the light, all of the sky"}


def _sky(world: OpenWorld) -> Iterator[bytes]:
    yield png_of(sky_seen(moment_of(world)))


LIGHT = (
    Layers("light_png", "Shadows and the share of sky as 8-bit PNG", "png", lambda world: ["lit", "sky"], _baked,
           says=_says, bytes_each=0.1),
)  # fmt: skip
SKY = WholeFormat("sky_png", "The sky as a picture", "png", _sky)
