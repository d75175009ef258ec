"""Compiles every kernel once, so that the first stroke does not wait for it."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable, Sequence

import numpy as np

from fernfield.core.brush.brush import Touch
from fernfield.core.brush.keep import inside
from fernfield.core.brush.mask import add_in_place, taken_over
from fernfield.core.brush.pressing import Laying, MaskPressing, Pressing
from fernfield.core.brush.shapes import Outline, shaped_weights
from fernfield.core.brush.tips import tip
from fernfield.core.cover.areas import exchanged, sharpened, swapped
from fernfield.core.cover.shares import compose_colours
from fernfield.core.cover.tools import COVER_TOOLS
from fernfield.core.drawing.plan import PlanLook, Stamp, draw_plan, draw_stamps, lay_light, shade_stamps
from fernfield.core.grid import FloatArray, Grid, Window
from fernfield.core.ground.carry import Carriage, seen
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.core.ground.weather import weather as press
from fernfield.core.growth.scatter import Sort, scatter
from fernfield.core.growth.spacing import Pattern
from fernfield.core.kernels import compiled_before
from fernfield.core.light import sky_share
from fernfield.core.light.daylight import Daylight, daylight
from fernfield.core.light.lamps import Source, lamp_lux
from fernfield.core.light.relief import gradients, relief
from fernfield.core.light.shade import shade
from fernfield.core.light.shadow import sunlit
from fernfield.core.lines import nearest
from fernfield.core.noise import Octaves, Spots, fractal, plain_spots
from fernfield.core.overview import MEAN, RULES, level_of
from fernfield.core.travel.narrows import narrowest
from fernfield.core.travel.passable import close_ways, obstacle_table, passable
from fernfield.core.travel.reach import classes, reach_from
from fernfield.core.travel.road_ways import road_way
from fernfield.core.travel.sight import Crowns, seen_from
from fernfield.core.travel.walker import Obstacle
from fernfield.core.travel.walkers import WALKER, WALKERS
from fernfield.core.travel.ways import ways_from
from fernfield.core.water.drainage import catchments, drain, strahler
from fernfield.core.water.hollow import nested, rise

Step = Callable[[], None]


def _ground() -> FloatArray:
    return np.zeros((40, 40), np.float32)


TOUCH = Touch(10, 10, 4, 0.5, 0.1)


def _tools() -> None:
    """With the array layouts that the open world uses: a part of an array, and the whole of one."""
    ground = _ground()
    for tool in GROUND_TOOLS.values():
        tool.apply(ground[4:30, 4:30], TOUCH, 1.0)
        tool.apply(ground, TOUCH, 1.0)


def _paths() -> None:
    path = np.array([(9, 9), (20, 24)], np.float32)
    for tool in GROUND_TOOLS.values():
        if tool.lay is not None:
            tool.lay(Laying(_ground(), path, 1.0, {**tool.first, "image": tip("ridge")}, 0.0, 0.0))
    seen(_ground(), (40, 40), Carriage(20, 20, 20, 20, 30))
    road_way(_ground(), _ground() + 1, (1, 1), (3, 3), 1.0, 1.0)
    nearest((np.arange(4.0), np.arange(4.0)), np.ones(4), Window(0, 0, 4, 4))


def _water() -> None:
    land = _ground()
    found = drain(land)
    strahler(found, catchments(found), 2)
    rise(land, 20, 20, (True, True, True, True), land.size)
    nested(land, np.array([(5, 5), (5, 6)]), 1.0, 0.1, 1)
    leave = passable(land, 1.0, WALKERS[WALKER], water=np.zeros_like(land))
    begins, ends = np.zeros((2, *leave.shape[1:]), bool)
    begins[0, 0] = ends[-1, -1] = True
    narrowest(leave, begins, ends)
    reach_from(leave, [(0, 0)], 1.0, 3.0)
    classes(leave, [(0, 0)])
    seen_from(land, 2.0, 2.0, 1.0, eye=99.0, crowns=Crowns(land * 0, land * 0, land * 0))
    close_ways(leave, land, 0.0, 0.0, 1.0, WALKERS[WALKER], obstacle_table([Obstacle("stone", 5, -5, 1, -9, 9)]))
    ways_from(np.zeros((8, 8), np.uint8), 1, 1)
    shade(np.zeros((20, 20), np.float32), 20.0, 8)


def _weather() -> None:
    weights = shaped_weights((40, 40), TOUCH, Outline("square", 20.0, tip("ridge")))
    weather = GROUND_TOOLS["weather"]
    for kind in ("rain", "frost"):
        press(Pressing(_ground(), weights, 0.1, 1.0, {**weather.first, "kind": kind}))


def _noise() -> None:
    turned = Spots(0, 0, 0.6, 0.8, 0.8, -0.6)
    fractal((40, 40), turned, Octaves(9, 2, 0.5, 1), 1.0)


def _masks() -> None:
    square = np.array([(3.0, 3.0), (3.0, 30.0), (30.0, 30.0)])
    inside([square], (40, 40), 0, 0, 2.0)
    mask = np.zeros((40, 40), np.uint16)
    add_in_place(mask[4:30, 4:30], TOUCH)
    pressing = MaskPressing(mask[None].copy(), True, np.ones((40, 40), np.float32), 0.1, {}, 1.0, mask[None])
    for tool in COVER_TOOLS.values():
        pressing.values = tool.first
        if tool.press_masks is not None:
            tool.press_masks(pressing)
        if tool.pattern is not None:
            tool.pattern(mask.shape, plain_spots(0, 0, 1.0), tool.first, 1.0)
    pair = np.stack([mask, mask])
    taken_over(pair, np.zeros((2, 40, 40), np.float32))
    exchanged(pair, np.array([1, 0]), pressing.weights)
    sharpened(pair, pressing.weights, 2.0)
    swapped(pair, 0, 1, pressing.weights, 0.05)


def _overviews() -> None:
    for rule in RULES.values():
        level_of(_ground(), rule, 1)
    level_of(np.zeros((40, 40), np.uint16), MEAN, 1)


def _pictures() -> None:
    ground, mask = _ground(), np.zeros((40, 40), np.uint16)
    gradients(ground, 1.0)
    relief(ground, 1.0, 315, 30)
    lit = sunlit(ground, 1.0, 315, 30)
    one = np.ones(1, np.float32)
    draw_plan(
        ground,
        1.0,
        compose_colours([mask[1:-1, 1:-1].copy()], [lit[1:-1, 1:-1].astype(np.float32)], [(1, 2, 3)] * 2, (38, 38)),
        daylight(ground, 1.0, lit[1:-1, 1:-1], Daylight(315, 30)),
        PlanLook(0.0, 2.0),
    )
    lay_light(np.zeros((38, 38, 4), np.uint8), np.ones((3, 38, 38), np.float32))
    around = sky_share.reach_posts(25.0)
    sky_share.sky_share(np.zeros((2 * around + 4,) * 2, np.float32), 25.0, around)
    lamp_lux(ground, 1.0, 0.0, 39.0, 1, [Source(20, 20, 60, (1, 1, 1), 30, shadows=True)])
    stamps = [Stamp(one, one, one, (1, 2, 3))]
    draw_stamps(np.zeros((4, 4, 4), np.uint8), stamps, 315)
    shade_stamps(lit, stamps, 315)


def _growth() -> None:
    grid = Grid(40, 40, 1.0)
    # One that is full, so that what is free is gone through as well.
    for apart in (2.0, 12.0):
        scatter(
            Pattern(1, (200.0,), ((apart,),)), [Sort()], [np.ones((40, 40), np.float32)], grid.window, grid, grid.window
        )


SEEN: tuple[Step, ...] = (_pictures, _overviews, _growth)
"""What has to be there before a world can be looked at."""
HANDS: tuple[Step, ...] = (_tools, _noise, _masks, _paths, _weather, _water)
STEPS: tuple[Step, ...] = (*SEEN, *HANDS)
BESIDE: tuple[Step, ...] = (*SEEN[:0:-1], *HANDS, SEEN[0])
"""The process that begins another one compiles what is seen from its first step on: the other from its last."""


def warm_kernels(say: Callable[[int, int], None] = lambda done, of: None, steps: Sequence[Step] = STEPS) -> None:
    """Run every kernel on a few posts; `say` is told how many of the steps are done."""
    for done, step in enumerate(steps):
        say(done, len(steps))
        step()
    say(len(steps), len(steps))


class Beside:
    """A process that compiles all kernels on the other processor, and keeps them on the disk for this one."""

    def __init__(self) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-m", "fernfield.work.warm"], start_new_session=True, stdout=subprocess.PIPE, text=True
        )

    def follow(self, say: Callable[[int, int], None]) -> None:
        """Until it has ended; then what it compiled is loaded. `say` is told how many of the steps are done."""
        assert self._process.stdout is not None
        for line in self._process.stdout:
            done, of = line.split()
            say(int(done), int(of))
        self._process.wait()
        warm_kernels()


def compiling() -> Beside | None:
    """Begin to compile beside this process; None where all was compiled before."""
    return None if compiled_before() else Beside()


if __name__ == "__main__":
    warm_kernels(lambda done, of: print(done, of, flush=True), BESIDE)
