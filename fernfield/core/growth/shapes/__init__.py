"""Forms of plants and stones, made by code from a few measures: a file for each family, a line here for each form."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.growth.shapes import low, stones, trees
from fernfield.core.mesh import BARK, LEAF, STONE, Mesh

NEAR, SIMPLER, CARD = range(3)
"""How much there is of a form: near the eye, further off, and far away, where a few crossed sheets stand for it."""
DETAILS = (NEAR, SIMPLER, CARD)

Build = Callable[[float, float, float, int], Mesh]
"""Makes a form: height, radius of its crown, radius of its trunk [m], and how much of it."""


@dataclass(frozen=True, slots=True)
class Form:
    """One form: name and label; `build`; whether it is of stone, and whether it has a trunk that can be met."""

    name: str
    label: str
    build: Build
    stone: bool = False
    trunk: bool = False


FORMS: dict[str, Form] = {
    form.name: form
    for form in (
        Form("broadleaf", "Broadleaf", trees.broadleaf, trunk=True),
        Form("slender", "Slender tree", trees.slender, trunk=True),
        Form("willow", "Willow", trees.willow, trunk=True),
        Form("conifer", "Conifer", trees.conifer, trunk=True),
        Form("snag", "Dead tree", trees.snag, trunk=True),
        Form("bush", "Bush", low.bush),
        Form("fern", "Fern", low.fern),
        Form("reeds", "Reed bed", low.reeds),
        Form("tussock", "Tussock", low.tussock),
        Form("boulder", "Boulder", stones.boulder, stone=True),
        Form("slab", "Slab", stones.slab, stone=True),
        Form("log", "Log", low.log, stone=False),
    )
}

VARIANTS = ("plain", "bare", "snowed", "dead", "darker")
"""How a plant may look: as it is; without leaves; with snow on what looks up; grey and without leaves; darker."""
SNOW = (0.93, 0.95, 0.97)
DEAD_BARK = (0.56, 0.53, 0.49)

Colour = tuple[float, float, float]


def coloured(
    mesh: Mesh, leaf: Colour, bark: Colour, variant: str, own: FloatArray | None = None
) -> tuple[FloatArray, FloatArray]:
    """The colour of every corner, 0 to 1, shape (corners, 3), and how much of the tint it takes on (0 or 1).

    `own`: the colour that each corner has by itself. Corners of leaves that a variant has not are all put in one place
    by `shown`.
    """
    inks = np.array([leaf, bark, leaf], np.float32)
    colour = inks[mesh.of] if own is None else own.copy()
    tinted = (mesh.of == LEAF).astype(np.float32)
    if variant == "dead":
        colour[mesh.of == BARK] = DEAD_BARK
    elif variant == "darker":
        colour *= np.float32(0.62)
    elif variant == "snowed":
        lies = np.clip((mesh.normal[:, 2:3] - 0.15) / 0.5, 0, 1)
        colour += lies * (np.array(SNOW, np.float32) - colour)
        tinted *= 1 - lies[:, 0]
    # What is low under a crown gets less of the sky: a little darker toward the foot.
    tall = max(float(mesh.at[:, 2].max()), 1e-6)
    colour *= (0.78 + 0.22 * np.clip(mesh.at[:, 2:3] / tall, 0, 1)).astype(np.float32)
    return colour.astype(np.float32), tinted.astype(np.float32)


def shown(mesh: Mesh, variant: str) -> Mesh:
    """The mesh as a variant has it: bare and dead ones have no leaves, unless there is nothing else."""
    keep = mesh.of != LEAF
    if variant not in ("bare", "dead") or not keep.any():
        return mesh
    return Mesh(mesh.at[keep], mesh.normal[keep], mesh.of[keep])


__all__ = [
    "BARK", "CARD", "DETAILS", "FORMS", "LEAF", "NEAR", "SIMPLER", "STONE", "VARIANTS", "Form", "Mesh", "coloured",
    "shown",
]  # fmt: skip
