"""The shape of a kind as it is drawn: its form, in its measures, its colours and its variant."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.growth.shapes import BARK, FORMS, LEAF, STONE, Mesh, coloured, shown
from fernfield.core.growth.shapes.brought import Brought, fitted
from fernfield.work.bringing.models import model_of
from fernfield.work.growth.rows import Kind
from fernfield.work.kernel.world import OpenWorld


def _ink(text: str) -> tuple[float, float, float]:
    return int(text[1:3], 16) / 255, int(text[3:5], 16) / 255, int(text[5:7], 16) / 255


def shape_of(world: OpenWorld, kind: Kind, detail: int) -> FloatArray:
    """Corners of triangles, shape (corners, 11): x, y, z up [m, size 1], normal, colour (0 to 1), how much of the tint
    it takes on, and how far it sways (0 to 1)."""
    if kind.model is not None:
        return _brought(model_of(world, kind.model), kind, detail)
    return formed(kind, detail)


def formed(kind: Kind, detail: int) -> FloatArray:
    """As `shape_of`, from its form, whether somebody brought a shape or not."""
    return _shape(
        kind.form, kind.tall_m, kind.crown_m, kind.trunk_m, kind.colour, kind.bark_colour, kind.variant, kind.bends,
        detail,
    )  # fmt: skip


@lru_cache(maxsize=512)
def _shape(
    form: str, tall: float, crown: float, trunk: float, leaf: str, bark: str, variant: str, bends: float, detail: int
) -> FloatArray:
    mesh = shown(FORMS[form].build(tall, crown, trunk or 0.05, detail), variant)
    colour, tinted = coloured(mesh, _ink(leaf), _ink(bark), variant)
    return _packed(mesh, colour, tinted, tall, bends)


def _brought(shape: Brought, kind: Kind, detail: int) -> FloatArray:
    mesh, own = fitted(shape, kind.tall_m, kind.crown_m, detail)
    kept = shown(mesh, kind.variant)
    own = own if kept is mesh else own[mesh.of != LEAF]
    colour, tinted = coloured(kept, (1.0, 1.0, 1.0), (1.0, 1.0, 1.0), kind.variant, own)
    return _packed(kept, colour, tinted, kind.tall_m, kind.bends)


def _packed(mesh: Mesh, colour: FloatArray, tinted: FloatArray, tall: float, bends: float) -> FloatArray:
    high = np.clip(mesh.at[:, 2] / max(tall, 1e-6), 0, 1)
    sways = np.where(mesh.of == STONE, 0.0, bends * high**2 * np.where(mesh.of == BARK, 0.6, 1.0))
    return np.concatenate(
        [mesh.at, mesh.normal, colour, tinted[:, None], sways[:, None].astype(np.float32)], axis=1
    ).astype(np.float32)


def triangles_of(world: OpenWorld, kind: Kind, detail: int) -> int:
    """How many triangles a kind has at a detail."""
    return len(shape_of(world, kind, detail)) // 3
