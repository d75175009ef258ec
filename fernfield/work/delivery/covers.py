"""What covers the ground, as pictures: the share of each, four to a picture, or the strongest of them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import ByteArray
from fernfield.work.cover.rows import covers_of
from fernfield.work.cover.shares import share_planes
from fernfield.work.delivery.pieces import Layers, PieceOfLand
from fernfield.work.kernel.world import OpenWorld

STRONGEST = 8
PACKED = 4
"""Red, green, blue and alpha."""


def _planes(piece: PieceOfLand) -> ByteArray:
    return share_planes(piece.world, piece.land, piece.window, piece.step)


def _keys(world: OpenWorld) -> list[str]:
    return [key for key, _ in covers_of(world)]


def _each(piece: PieceOfLand) -> Iterator[bytes]:
    return (piece.picture(plane) for plane in _planes(piece))


def _fours(count: int) -> list[slice]:
    return [slice(at, at + PACKED) for at in range(0, count, PACKED)]


def _names_of_fours(world: OpenWorld) -> list[str]:
    return [f"covers-{four.start}-{four.stop - 1}" for four in _fours(len(_keys(world)))]


def _four(planes: NDArray[Any]) -> NDArray[Any]:
    """At most four planes as the channels of a picture; one that there is not is nothing."""
    out = np.zeros((*planes.shape[1:], PACKED), np.uint8)
    out[..., : len(planes)] = np.moveaxis(planes, 0, -1)
    return out


def _packed(piece: PieceOfLand) -> Iterator[bytes]:
    planes = _planes(piece)
    return (piece.picture(_four(planes[four])) for four in _fours(len(planes)))


def strongest(planes: ByteArray, most: int) -> tuple[ByteArray, ByteArray]:
    """Which covers have the largest shares at each post, the largest first, and those; of equal ones the lower in the
    stack. Shape (covers, rows, cols) to two of (`most`, rows, cols); what there is no cover for has no share."""
    order = np.argsort(-planes.astype(np.int16), axis=0, kind="stable")[:most]
    index, share = np.zeros((2, most, *planes.shape[1:]), np.uint8)
    index[: len(order)] = order
    share[: len(order)] = np.take_along_axis(planes, order, axis=0)
    return index, share


def _first(piece: PieceOfLand) -> Iterator[bytes]:
    return (piece.picture(part[0]) for part in strongest(_planes(piece), 1))


def _eight(piece: PieceOfLand) -> Iterator[bytes]:
    index, share = strongest(_planes(piece), STRONGEST)
    for half in _fours(STRONGEST):
        yield piece.picture(_four(index[half]))
        yield piece.picture(_four(share[half]))


def _says(piece: PieceOfLand) -> dict[str, Any]:
    rule = "shares of a post add up to 255; an index is a place in covers, from 0"
    return {"covers": _keys(piece.world), "rule": rule}


def _loses_others(piece: PieceOfLand) -> str:
    return "of each post the strongest cover alone is kept, with its share"


def _loses_ninth(piece: PieceOfLand) -> str:
    every = len(_keys(piece.world))
    return f"where more than {STRONGEST} of {every} covers meet, the weakest are left out" if every > STRONGEST else ""


COVERS = (
    Layers("covers_png", "Covers as 8-bit PNG, one for each", "png", _keys, _each, says=_says, bytes_each=0.15),
    Layers("covers_packed", "Covers as PNG, four to a picture", "png", _names_of_fours, _packed, says=_says,
           bytes_each=0.6),
    Layers("covers_index", "Strongest cover as an index, and its share", "png",
           lambda world: ["index", "share"], _first, loses=_loses_others, says=_says, bytes_each=0.5),
    Layers("covers_eight", "The eight strongest covers and their shares", "png",
           lambda world: ["index-0-3", "share-0-3", "index-4-7", "share-4-7"], _eight, loses=_loses_ninth, says=_says,
           bytes_each=0.6),
)  # fmt: skip
