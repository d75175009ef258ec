"""Light as it falls: what a page lights the land by, the sky, and figures of light for scripts."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from fastapi import Query, Request, Response
from pydantic import BaseModel, ConfigDict, Field
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.light.raking import raking
from fernfield.web.kernel.drawn import DrawnTiles
from fernfield.web.kernel.parts import JobAnswer, TheLand, TheStudio, TheWorld, job_answer
from fernfield.web.kernel.pictures import png_of
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.windows import TheWindow
from fernfield.web.page.showing import Shown
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.relations import not_there
from fernfield.work.kernel.rows import Key
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.falling import lit_posts, lux_posts, share_posts, sun_hours, sun_strip
from fernfield.work.light.moment import DaylightTold, Moment, moment_of, sky_seen, told
from fernfield.work.light.rows import MOODS
from fernfield.work.seen.baking import BakeTold
from fernfield.work.seen.plan import lamplit_pixels, sunlit_pixels
from fernfield.work.seen.probe import probe
from fernfield.work.seen.show import Show

worlds = Router(prefix="/api/worlds/{world}", tags=["light"])
seen = Router()
"""What is asked of a tract in its own posts and metres, and of a land in the world's."""

MOST_PIXELS = 4_097 * 4_097 // 4
MOST_POSTS = 2_049 * 2_049
MOST_HOUR_POSTS = 1_025 * 1_025

Metres = Annotated[float, Query(ge=-1e7, le=1e7)]
Step = Annotated[int, Query(ge=1, le=128, description="1, 2, 4, … posts to a pixel")]


@worlds.get("/daylight")
def daylight(world: TheWorld, show: Shown) -> DaylightTold:
    """How a world is lit as it is shown: where light comes from, its inks, the haze, and what is seen in the sky."""
    return told(world, show.moment(world))


class ToBake(BaseModel):
    """Whose light is baked: moods by their keys, all of the world's when none is named."""

    model_config = ConfigDict(extra="forbid")

    moods: Annotated[tuple[Key, ...], Field(max_length=64)] = ()


@worlds.post("/bake", status_code=202)
def bake(request: Request, world: TheWorld, studio: TheStudio, wanted: ToBake) -> JobAnswer:
    """Work out the light of moods on every post, and keep it: only what is missing or has changed since."""
    return job_answer(request, studio.start_bake(world.id, wanted.moods))


@worlds.get("/bakes")
def bakes(world: TheWorld, studio: TheStudio) -> list[BakeTold]:
    """What is baked of each tract in each mood, and the windows of posts where it is missing or stale."""
    return studio.bakes(world.id)


@worlds.get("/sky.png", response_class=Response)
def sky(world: TheWorld, show: Shown) -> Response:
    """The sky as it is shown: row 0 straight above, the last at the horizon; column 0 at the sun's bearing, clockwise
    from there."""
    return Response(png_of(sky_seen(show.moment(world))), media_type="image/png")


def _stepped(window: Window, step: int, most: int) -> None:
    if step & (step - 1) or window.row0 % step or window.col0 % step:
        raise InvalidInput(
            f"step must be 1, 2, 4, …, and row0 and col0 whole numbers of steps, not {step} from row {window.row0} and "
            f"column {window.col0}", "step",
        )  # fmt: skip
    if (pixels := -(-window.rows // step) * -(-window.cols // step)) > most:
        raise InvalidInput(f"at most {most} pixels can be asked for at once, not {pixels}", "step")


@seen.get("/sunlit.png", response_class=Response)
def sunlit(request: Request, seen_land: TheLand, window: TheWindow, show: Shown, step: Step = 1) -> Response:
    """How much of the sun reaches the ground, 255 for all of it: red past hills, green past what grows there too; blue
    is the share of sky that is seen there."""
    world, land = seen_land
    _stepped(window, step, MOST_PIXELS)
    drawn: DrawnTiles = request.app.state.drawn
    return drawn.answer(request, world, lambda: png_of(sunlit_pixels(world, land, window, step, show)), "image/png")


@seen.get("/lamplit.png", response_class=Response)
def lamplit(request: Request, seen_land: TheLand, window: TheWindow, show: Shown, step: Step = 1) -> Response:
    """What lamps add to the light on the ground: the square root of its ink, 127 for that of level ground by day."""
    world, land = seen_land
    _stepped(window, step, MOST_PIXELS)
    drawn: DrawnTiles = request.app.state.drawn
    return drawn.answer(request, world, lambda: png_of(lamplit_pixels(world, land, window, step, show)), "image/png")


What = Literal["shadow", "sky_share", "sun_hours", "lux"]


def _falling(
    world: OpenWorld, land: Land, posts: Window, step: int, what: What, moment: Moment
) -> ByteArray | FloatArray:
    if what == "shadow":
        if not moment.thrown:
            return np.zeros((-(-posts.rows // step), -(-posts.cols // step)), np.uint8)
        return lit_posts(world, land, posts, step, moment.day.bearing, moment.day.height)
    if what == "sky_share":
        return np.asarray(np.rint(share_posts(world, land, posts, step) * 255), np.uint8)
    return sun_hours(world, land, posts, step) if what == "sun_hours" else lux_posts(world, land, posts, step, moment)


@seen.get("/light", response_class=Response)
def light(
    seen_land: TheLand,
    window: TheWindow,
    what: Annotated[
        What, Query(description="shadow: 255 where the sun (or moon) is seen; sky_share: 255 for all of it")
    ],
    mood: Annotated[Key | None, Query(description="whose light it is; the world's own when left out")] = None,
    step: Step = 1,
) -> Response:
    """Light on every `step`-th post of a window, row by row: bytes for shadow and sky_share, little-endian float32 for
    sun_hours [h] and lux [lx]."""
    world, land = seen_land
    _stepped(window, step, MOST_HOUR_POSTS if what == "sun_hours" else MOST_POSTS)
    with world.lock:
        found = _falling(world, land, window, step, what, Show(mood=_known(world, mood)).moment(world))
    body = found.tobytes() if found.dtype == np.uint8 else found.astype("<f4").tobytes()
    headers = {"X-Shape": f"{found.shape[0]},{found.shape[1]}"}
    return Response(body, media_type="application/octet-stream", headers=headers)


def _known(world: OpenWorld, mood: str | None) -> str | None:
    """A mood's key, if there is one. Raises NotFound."""
    if mood is not None and world.get(MOODS, mood) is None:
        raise not_there(MOODS, mood, [key for key, _ in world.each(MOODS)])
    return mood


class SunStrip(TypedDict):
    """How much of the sun comes to a place past the ground at moments of the day, evenly apart: 0 to 1, null where it
    has set; for how long in all [h], and how light it is there in the world's own light [lx]."""

    sun: list[float | None]
    sun_hours: float
    lux: float


@seen.get("/sun-strip")
def strip(seen_land: TheLand, x: Metres, y: Metres) -> SunStrip:
    """When a place lies in the shade over the world's day."""
    world, land = seen_land
    with world.lock:
        found = sun_strip(world, land, x, y)
        row, col = round(land.grid.row_of(y)), round(land.grid.col_of(x))
        here = land.clip(Window(row, col, row + 1, col + 1))
        lux = float(lux_posts(world, land, here, 1, moment_of(world))[0, 0])
    hours = sum(part for part in found if part is not None) * 24 / len(found)
    return {"sun": found, "sun_hours": hours, "lux": lux}


@seen.get("/probe.png", response_class=Response)
def light_probe(
    seen_land: TheLand, x: Metres, y: Metres, show: Shown, width: Annotated[int, Query(ge=16, le=2048)] = 512
) -> Response:
    """Sky and land as they are seen from a place, all around: columns are bearings from north on, rows heights from
    straight above to straight below."""
    world, land = seen_land
    return Response(png_of(probe(world, land, x, y, width, show)), media_type="image/png")


class RakingTold(TypedDict):
    """A sun. [°]"""

    bearing_deg: float
    height_deg: float


@seen.get("/raking")
def raking_light(seen_land: TheLand, x0: Metres, y0: Metres, x1: Metres, y1: Metres) -> RakingTold:
    """The sun in whose light the slopes between two corners differ most."""
    world, land = seen_land
    grid = land.grid
    posts = grid.clip(grid.window_of(min(x0, x1), min(y0, y1), max(x0, x1), max(y0, y1)))
    if posts.rows < 2 or posts.cols < 2:
        raise InvalidInput(f"x0, y0, x1, y1 must hold at least 2 × 2 posts of the land, not {posts.as_list()}", "x0")
    step = 1
    while (posts.rows // step) * (posts.cols // step) > 200_000:
        step *= 2
    posts = Window(posts.row0 // step * step, posts.col0 // step * step, posts.row1, posts.col1)
    with world.lock:
        heights = land.seen(HEIGHT, posts, step)
    bearing, height = raking(heights, grid.spacing * step)
    return {"bearing_deg": float(bearing), "height_deg": float(height)}
