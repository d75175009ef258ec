"""The growth tools, in one list."""

from __future__ import annotations

import numpy as np

from fernfield.core.brush.mask import press_mask
from fernfield.core.brush.pressing import MaskPressing
from fernfield.core.brush.tool import FirstBrush, Tool
from fernfield.core.growth.spacing import DENSEST_PER_HA
from fernfield.core.settings import Setting

GROWTH = "growth"
"""The sort of layer that says how full the growth of a mix is: "growth:" and the mix's key."""
SPARE = "spare"
"""The sort of layer that says how much of a kind of a mix was taken out: "spare:", the mix's key, "/", the kind's."""
GLADE = "glade"
"""Ground that is kept free of growth on purpose."""

WHOLE = 65_535.0

TARGET = Setting(
    "target_per_ha", "Up to", "/ha", 0, DENSEST_PER_HA, first=None, left_out="full",
)  # fmt: skip


def _ticked(p: MaskPressing) -> tuple[bool, ...]:
    """Which kinds are worked on; all where nothing was said."""
    return tuple(p.values.get("ticked", (True,) * (len(p.masks) - 1)))


def sow(p: MaskPressing) -> None:
    """Sow up to a part of the mix's density, never above it; kinds that are not ticked stay as full as they are.

    The first mask is how full the mix is, the others what is spared of each of its kinds; `values["ticked"]` says which
    of these are worked on, `values["target_share"]` up to which part of its density.
    """
    limit, ticked = p.values.get("target_share", 1.0), _ticked(p)
    was = p.masks[0].astype(np.float64) / WHOLE
    add = p.weights * p.amount
    if all(ticked) and not p.masks[1:].any():
        full = np.rint(np.maximum(was, np.minimum(was + add, limit)) * WHOLE).astype(np.uint16)
        np.copyto(p.masks[0], full, where=p.weights > 0)
        return
    spared = p.masks[1:].astype(np.float64) / WHOLE
    stands = was[None] * (1 - spared)
    for at, on in enumerate(ticked):
        if on:
            grown = np.minimum(stands[at] + add, limit)
            stands[at] = np.where(p.weights > 0, np.maximum(grown, stands[at]), stands[at])
    full = np.maximum(was, stands.max(axis=0)) if len(ticked) else np.maximum(was, np.minimum(was + add, limit))
    _put(p, full, stands)


def thin(p: MaskPressing) -> None:
    """Take growth away, of the ticked kinds only."""
    ticked = _ticked(p)
    if all(ticked):
        press_mask(p.masks[0], p.weights, -p.amount)
        return
    was = p.masks[0].astype(np.float64) / WHOLE
    stands = was[None] * (1 - p.masks[1:].astype(np.float64) / WHOLE)
    for at, on in enumerate(ticked):
        if on:
            stands[at] = np.maximum(stands[at] - p.weights * p.amount, 0)
    _put(p, was, stands)


def clear(p: MaskPressing) -> None:
    """Take all of the ticked kinds away, where the brush has more than half of its weight."""
    ticked = _ticked(p)
    gone = p.weights > 0.5
    if all(ticked):
        p.masks[0][gone] = 0
        return
    for at, on in enumerate(ticked):
        if on:
            p.masks[1 + at][gone & (p.masks[0] > 0)] = int(WHOLE)


def _put(p: MaskPressing, full: np.ndarray, stands: np.ndarray) -> None:
    """Masks in which each kind stands as it should; to the bit as they were where nothing changed."""
    on = p.weights > 0
    new = np.rint(full * WHOLE).astype(np.uint16)
    p.masks[0][on] = new[on]
    there = np.maximum(p.masks[0].astype(np.float64), 1)
    for at in range(len(stands)):
        left = np.minimum(np.rint(stands[at] * WHOLE) / there, 1)
        spared = np.rint((1 - left) * WHOLE).astype(np.uint16)
        p.masks[1 + at][on] = np.where(p.masks[0] > 0, spared, 0)[on]


GROWTH_TOOLS = {
    tool.name: tool
    for tool in (
        Tool(
            "sow", "Sow", "S", "%/s", "thin", "Puts growth down, up to a part of the mix's density; never above it.",
            "sows", FirstBrush(40, 0.5, 120), layer=GROWTH, subject="mix", sign=1, steady=True, press_masks=sow,
            settings=(TARGET,), every_mask=True,
        ),
        Tool(
            "thin", "Thin", "T", "%/s", "sow", "Takes some of the growth away, of the ticked kinds.", "thins",
            FirstBrush(40, 0.5, 120), layer=GROWTH, subject="mix", sign=-1, steady=True, press_masks=thin,
            every_mask=True,
        ),
        Tool(
            "clear", "Clear", "C", "%/s", "sow", "Takes all of the ticked kinds away.", "clears",
            FirstBrush(30, 0.0, 120), layer=GROWTH, subject="mix", sign=-1, steady=True, press_masks=clear,
            timeless=True, every_mask=True,
        ),
        Tool(
            "glade", "Glade", "E", "%/s", "close_glade", "Keeps ground free of growth; what is sown there waits.",
            "opens", FirstBrush(30, 0.3, 300), layer=GLADE, sign=1, steady=True,
        ),
        Tool(
            "close_glade", "Close glade", "B", "%/s", "glade", "Lets what is sown in a glade grow again.", "closes",
            FirstBrush(30, 0.3, 300), layer=GLADE, sign=-1, steady=True,
        ),
    )
}  # fmt: skip
