"""Where it is narrowest between two places, how wide, and how many ways there are that share nothing."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field
from scipy import ndimage
from typing_extensions import TypedDict

from fernfield.core.errors import Conflict, GridError
from fernfield.core.travel.narrows import narrowest
from fernfield.core.travel.walkers import WALKER
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rows import Coordinate
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.passing.raster import passable_in
from fernfield.work.passing.walkers import WalkerKey, gait_of
from fernfield.work.trial.reaching import posts_of, whole_of

MOST_POSTS = 2_049**2
EIGHT = np.ones((3, 3), int)
Point = tuple[float, float]


class SeekNarrows(BaseModel):
    """Between which two places, in the metres of the world; around_m : so near to them nothing counts as narrow [m]"""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, populate_by_name=True)

    walker: WalkerKey = WALKER
    from_: Annotated[tuple[Coordinate, Coordinate], Field(alias="from")]
    to: tuple[Coordinate, Coordinate]
    around_m: Annotated[float, Field(ge=1, le=200)] = 20.0


class Passage(TypedDict):
    """A place through which one has to go: how wide it is, and its two sides. [m]"""

    width_m: float
    line: list[Point]


class Closing(TypedDict):
    """An entry of the kit that would close a passage, and how long it is. [m]"""

    kit: str
    name: str
    size_m: float


class NarrowsTold(TypedDict):
    """How wide all passages are together, the sides of the widest, what would close it where it is the only one, and
    all of them: one of each has to be gone through.

    posts : so many ways there are that share no post; open : the land is nowhere narrower than around its two ends,
    and `width_m` is what it is there, all around
    """

    width_m: float
    line: list[Point]
    closed_by: Closing | None
    posts: int
    open: bool
    passages: list[Passage]


def narrows_of(world: OpenWorld, land: Land, wanted: SeekNarrows) -> NarrowsTold:
    """Where it is narrowest. Raises InvalidInput off the land; Conflict where no way leads there, where both places are
    too near to each other, and for a land of more than 2,049² posts."""
    for place, name in ((wanted.from_, "the beginning"), (wanted.to, "the end")):
        land.need(*place, name)
    window = whole_of(land, MOST_POSTS, "where it is narrowest is sought")
    leave = passable_in(world, land, window, wanted.walker)
    spacing = land.grid.spacing
    posts = posts_of(land, window, [wanted.from_, wanted.to])
    far = math.dist(*posts) * spacing
    if far < 3 * spacing:
        raise Conflict(f"the two places are {far:.1f} m apart: nothing lies between them")
    around = min(wanted.around_m, far / 3)
    goes = np.asarray(leave.any(axis=0))
    begins, ends = (_around(goes, post, around / spacing) for post in posts)
    try:
        cut = narrowest(leave, begins, ends)
    except GridError as error:
        raise Conflict(f"the two places are {far:.1f} m apart: nothing lies between them") from error
    if not len(cut):
        raise Conflict(f"no way leads there for {gait_of(world, wanted.walker).label.lower()}")
    passages = sorted(_passages(land, cut + np.array([window.row0, window.col0])), key=lambda one: -one["width_m"])
    near = [np.hypot(*(cut - np.array(post)).T) * spacing <= around + 2 * spacing for post in posts]
    open_ = bool((near[0] | near[1]).all())
    width = 2 * math.pi * (around + spacing) if open_ else sum(one["width_m"] for one in passages)
    return {
        "width_m": round(width, 3), "line": passages[0]["line"], "closed_by": None,
        "posts": len(cut), "open": open_, "passages": passages,
    }  # fmt: skip


def _around(goes: NDArray[np.bool_], post: tuple[int, int], far: float) -> NDArray[np.bool_]:
    """The posts about one that are come to from it without going further away. far : in posts"""
    rows, cols = np.ogrid[: goes.shape[0], : goes.shape[1]]
    near = goes & (np.hypot(rows - post[0], cols - post[1]) <= far)
    near[post] = True
    labels, _ = ndimage.label(near, EIGHT)
    return np.asarray(labels == labels[post])


def _passages(land: Land, cut: NDArray[np.int64]) -> list[Passage]:
    """The posts of a cut by the passages that they close: those that touch each other close one."""
    low = cut.min(axis=0)
    marks = np.zeros(cut.max(axis=0) - low + 1, bool)
    marks[tuple((cut - low).T)] = True
    labels, count = ndimage.label(marks, EIGHT)
    found: list[Passage] = []
    for number in range(1, count + 1):
        own = np.argwhere(labels == number) + low
        # Of a bent one too, the two posts that are furthest apart.
        first = own[np.argmax(np.hypot(*(own - own[0]).T))]
        last = own[np.argmax(np.hypot(*(own - first).T))]
        width = float(np.hypot(*(last - first))) * land.grid.spacing + land.grid.spacing
        line = [(land.grid.x_of(int(c)), land.grid.y_of(int(r))) for r, c in (first, last)]
        found.append({"width_m": round(width, 3), "line": line})
    return found
