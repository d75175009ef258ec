"""Compiles every kernel once, so that the first stroke does not wait for it."""

from __future__ import annotations

import numpy as np

from fernfield.core.brush.brush import Touch
from fernfield.core.brush.keep import inside
from fernfield.core.brush.mask import add_in_place
from fernfield.core.brush.pressing import Laying, Pressing
from fernfield.core.brush.shapes import Outline, shaped_weights
from fernfield.core.brush.tips import tip
from fernfield.core.cover.shares import compose_colours
from fernfield.core.drawing.plan import PlanLook, Stamp, draw_plan
from fernfield.core.grid import Grid
from fernfield.core.ground.carry import Carriage, seen
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.core.ground.weather import weather as press
from fernfield.core.growth.scatter import Habit, scatter
from fernfield.core.light.relief import gradients, relief
from fernfield.core.light.shadow import sunlit
from fernfield.core.noise import Octaves, Spots, fractal
from fernfield.core.overview import MEAN, RULES, level_of


def warm_kernels() -> None:
    """Run every kernel on a few posts, with the array layouts that the open world uses."""
    ground = np.zeros((40, 40), np.float32)
    touch = Touch(10, 10, 4, 0.5, 0.1)
    path = np.array([(9, 9), (20, 24)], np.float32)
    for tool in GROUND_TOOLS.values():
        tool.apply(ground[4:30, 4:30], touch, 1.0)
        tool.apply(ground, touch, 1.0)
        if tool.lay is not None:
            tool.lay(Laying(ground, path, 1.0, {**tool.first, "image": tip("ridge")}, 0.0, 0.0))
    weights = shaped_weights(ground.shape, touch, Outline("square", 20.0, tip("ridge")))
    weather = GROUND_TOOLS["weather"]
    for kind in ("rain", "frost"):
        press(Pressing(ground, weights, 0.1, 1.0, {**weather.first, "kind": kind}))
    square = np.array([(3.0, 3.0), (3.0, 30.0), (30.0, 30.0)])
    inside([square], ground.shape, 0, 0, 2.0)
    turned = Spots(0, 0, 0.6, 0.8, 0.8, -0.6)
    fractal(ground.shape, turned, Octaves(9, 2, 0.5, 1), 1.0)
    seen(ground, ground.shape, Carriage(20, 20, 20, 20, 30))
    mask = np.zeros((40, 40), np.uint16)
    add_in_place(mask[4:30, 4:30], touch)
    grid = Grid(40, 40, 1.0)
    scatter(mask, grid.window, grid, grid.window, Habit(200, 1, 2), 1)
    for rule in RULES.values():
        level_of(ground, rule, 1)
    level_of(mask, MEAN, 1)
    gradients(ground, 1.0)
    relief(ground, 1.0, 315, 30)
    lit = sunlit(ground, 1.0, 315, 30)
    one = np.ones(1, np.float32)
    look = PlanLook(315, 30, 0.0, 2.0)
    draw_plan(
        ground,
        1.0,
        compose_colours([mask[1:-1, 1:-1].copy()], [lit[1:-1, 1:-1].astype(np.float32)], [(1, 2, 3)] * 2, (38, 38)),
        lit[1:-1, 1:-1],
        look,
        [Stamp(one, one, one, (1, 2, 3))],
    )
