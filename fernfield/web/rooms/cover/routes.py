"""The Cover stage's panel, and the share of every cover."""

from __future__ import annotations

from typing import Annotated, Any, TypeVar

import numpy as np
from fastapi import Query, Request, Response

from fernfield.core.cover.rules import WHATS
from fernfield.core.cover.textures import TEXTURES
from fernfield.core.cover.tools import COVER_TOOLS
from fernfield.core.errors import InvalidInput
from fernfield.core.sites.shipped import KIT
from fernfield.web.kernel.panels import Asked, Panel
from fernfield.web.kernel.parts import ByLand, Keyed, TheLand, TheStudio, TheTract, TheWorld, job_answer, keyed_json
from fernfield.web.kernel.pictures import png_of
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.windows import TheWindow
from fernfield.work.asking.conditions import Condition
from fernfield.work.cover.areas import (
    COVER_WORK,
    MOST_AT_ONCE,
    WORKS,
    FillCover,
    GiveBackCovers,
    InArea,
    MendFlecks,
    SharpenCovers,
    SoftenCovers,
    SwapCover,
    Worked,
    posts_of,
    quietly,
)
from fernfield.work.cover.guises import Guise
from fernfield.work.cover.removing import MergeCover, merge_cover, remove_cover
from fernfield.work.cover.rows import Cover, CoverRule, covers_of
from fernfield.work.cover.ruling import Rule
from fernfield.work.cover.shares import share_planes
from fernfield.work.cover.sums import CoverArea, Spread, cover_areas, spread
from fernfield.work.cover.textures import texture_of
from fernfield.work.cover.transitions import Transition
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.rows import Key
from fernfield.work.kernel.writing.ledger import Edited
from fernfield.work.plots.areas import said_in_world
from fernfield.work.worlds.guises import SetGuise, set_guise

router = Router(prefix="/api", tags=["cover"])

MOST_SHARES = 32 * 1_024 * 1_024
"""Bytes that may be asked for at once."""
MOST_READ = 4_096 * 4_096
"""Posts that may be read for them at once."""


@router.get("/tracts/{tract}/cover-shares", response_class=Response)
@router.get("/lands/{tract}/cover-shares", response_class=Response)
def cover_shares(land: TheLand, window: TheWindow, step: Annotated[int, Query(ge=1, le=1024)] = 1) -> Response:
    """The share of every cover at every `step`-th post: a plane of bytes for each, the base first, row by row.

    255 is the whole; the planes of a post add up to exactly 255. `X-Covers` has their keys in this order.
    """
    world, seen = land
    covers = covers_of(world)
    posts = -(-window.rows // step) * -(-window.cols // step)
    if posts * len(covers) > MOST_SHARES:
        most = MOST_SHARES // len(covers)
        raise InvalidInput(
            f"at most {most} posts of {len(covers)} covers can be asked for at once, not {posts}", "step"
        )
    if window.rows * window.cols > MOST_READ:
        words = f"at most {MOST_READ} posts can be looked through at once, not {window.rows * window.cols}"
        raise InvalidInput(words, "row1")
    planes = share_planes(world, seen, window, step)
    headers = {"X-Shape": ",".join(map(str, planes.shape)), "X-Covers": ",".join(key for key, _ in covers)}
    return Response(planes.tobytes(), media_type="application/octet-stream", headers=headers)


@router.get("/worlds/{world}/textures/{key}.png", response_class=Response)
def texture_png(key: Key, world: TheWorld) -> Response:
    """The relief of a texture, 256 pixels square, as 8-bit greyscale PNG; its mean is the middle."""
    grey = np.rint(texture_of(world, key) * 255).astype(np.uint8)
    return Response(png_of(grey), media_type="image/png", headers={"cache-control": "max-age=3600"})


@router.delete("/worlds/{world}/covers/{key}", tags=["covers"])
def delete(key: Key, world: TheWorld) -> Keyed:
    """Take a cover away: what lay under it is there again, in its old proportions."""
    return keyed_json(key, remove_cover(world, key))


class Merging(Command):
    """Which cover takes over."""

    into: Key


@router.post("/worlds/{world}/covers/{key}/merge", tags=["covers"])
def merge(key: Key, merging: Merging, world: TheWorld) -> Keyed:
    """Put the cover `into` wherever this one is, and remove this one."""
    return keyed_json(key, merge_cover(world, MergeCover(cover=key, into=merging.into)))


@router.post("/lands/{tract}/cover-rules/values")
@router.post("/tracts/{tract}/cover-rules/values")
def values(condition: Condition, land: TheLand) -> Spread:
    """How what a condition asks is spread over the land: counts of posts between `low` and `high`."""
    return spread(*land, condition)


@router.get("/lands/{tract}/cover-areas")
@router.get("/tracts/{tract}/cover-areas")
def areas(land: TheLand) -> list[CoverArea]:
    """How much of the land each cover takes up: hectares, and its part of the whole (0 to 1)."""
    return cover_areas(*land)


works = Router()
"""What is done to the covers of an area, said in a tract's metres or in the world's: `posts` changed, `left` still show
what was to go. A large one is a job (202), whose result is the same."""

C = TypeVar("C", bound=InArea)


def _work(path: str, model: type[C], words: str) -> None:
    """The route of an area work: all of them are alike."""

    def work(command: C, request: Request, tract: TheTract, by_land: ByLand, studio: TheStudio) -> Worked | Response:
        at, own = said_in_world(*tract, command) if by_land else (tract[1], command)
        if posts_of(tract[0], at, own) > MOST_AT_ONCE:
            return job_answer(request, studio.jobs.start(COVER_WORK, tract[0].id, tract[0], at, own))
        return WORKS[str(getattr(own, "do"))](tract[0], at, own, quietly).public()  # noqa: B009 (each says its own)

    work.__annotations__["command"] = model
    work.__doc__ = words
    works.add_api_route(f"/covers/{path}", work, methods=["POST"], name=f"{path} covers", response_model=None)


_work("fill", FillCover, "Bring a cover to a share of an area (all of it when none is said).")
_work("swap", SwapCover, "Put a cover in the place of another.")
_work("soften", SoftenCovers, "Make the borders between covers so wide.")
_work("sharpen", SharpenCovers, "Make the borders between covers so many times narrower.")
_work("give-back", GiveBackCovers, "Lift what was laid by hand.")
_work("flecks", MendFlecks, "Give flecks to what is around them.")


@works.post("/guise")
def guise(command: SetGuise, tract: TheTract, by_land: ByLand) -> Worked | Edited:
    """Set a guise over an area, or set it back."""
    at, own = said_in_world(*tract, command) if by_land else (tract[1], command)
    return set_guise(tract[0], at, own).public()


router.take(works, "/tracts/{tract}")
router.take(works, "/lands/{tract}")


def _context(asked: Asked) -> dict[str, Any]:
    covers = covers_of(asked.world)
    # The rules from before there was a list.
    ruled = [(key, cover) for key, cover in covers[1:] if cover.rule is not None]
    return {
        "tools": COVER_TOOLS.values(), "pictures": [], "ruled": ruled, "CoverRule": CoverRule, "FillCover": FillCover,
        "SwapCover": SwapCover, "SoftenCovers": SoftenCovers, "SharpenCovers": SharpenCovers,
        "GiveBackCovers": GiveBackCovers, "Cover": Cover, "Rule": Rule, "Transition": Transition, "Guise": Guise,
        "KIT": KIT, "WHATS": WHATS, "told": _told(asked),
        "textures": [*((key, label) for key, (label, _) in TEXTURES.items()),
                     *((p.key, p.name) for p in asked.studio.store.pictures(asked.world.id))],
    }  # fmt: skip


def _told(asked: Asked) -> dict[str, Any]:
    """What conditions may ask, for the page's script: with how each begins when it is asked first."""
    first: dict[str, dict[str, Any]] = {
        "elevation": {"from": 10.0, "soft": 4.0}, "above_water": {"from": 0.0, "to": 3.0, "soft": 1.0},
        "slope": {"from": 30.0, "soft": 8.0}, "aspect": {"from": 300.0, "to": 60.0, "soft": 40.0},
        "curvature": {"from": 0.0, "soft": 2.0}, "wetness": {"from": 8.0, "soft": 2.0},
        "shade": {"from": 40.0, "soft": 20.0},
        "water_distance": {"to": 20.0, "soft": 10.0}, "tide": {"from": 0.0, "to": 100.0, "soft": 20.0},
        "noise": {"from": 0.0, "soft": 0.2, "size_m": 60.0, "seed": 1},
        "plot": {"from": 0.0, "soft": 4.0}, "line_distance": {"to": 5.0, "soft": 3.0},
        "piece_distance": {"to": 15.0, "soft": 6.0}, "start_distance": {"from": 20.0, "soft": 6.0},
        "cover": {"from": 0.2, "to": 0.8, "soft": 0.2},
    }  # fmt: skip
    named = {
        "plot": ("plot", asked.world.rows["plots"]), "line_distance": ("line", asked.world.rows["lines"]),
        "cover": ("cover", asked.world.rows["covers"]),
    }  # fmt: skip
    out = {}
    for name, what in WHATS.items():
        condition = {"what": name, **first[name]}
        if name in named:
            field, rows = named[name]
            condition[field] = next(iter(rows), "")
        out[name] = {
            "label": what.label, "unit": what.unit, "least": what.least, "most": what.most, "percent": what.percent,
            "first": condition,
        }  # fmt: skip
    return out


PANEL = Panel("cover", _context, script=True)
