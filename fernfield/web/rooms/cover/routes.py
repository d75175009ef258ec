"""The Cover stage's panel, and the share of every cover."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query, Response

from fernfield.core.cover.tools import COVER_TOOLS
from fernfield.core.errors import InvalidInput
from fernfield.web.kernel.panels import Asked, Panel
from fernfield.web.kernel.parts import ByLand, TheLand, TheTract
from fernfield.web.kernel.windows import TheWindow
from fernfield.work.cover.areas import FillCover, SwapCover, fill_cover, swap_cover
from fernfield.work.cover.rows import CoverRule, covers_of
from fernfield.work.cover.shares import share_planes
from fernfield.work.plots.areas import said_in_world

router = APIRouter(prefix="/api", tags=["cover"])

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


works = APIRouter()
"""What is done to the covers of an area, said in a tract's metres or in the world's."""


@works.post("/covers/fill")
def fill(command: FillCover, tract: TheTract, by_land: ByLand) -> dict[str, Any]:
    """Bring a cover to a share of an area (all of it when none is said); `posts` changed."""
    at, own = said_in_world(*tract, command) if by_land else (tract[1], command)
    return fill_cover(tract[0], at, own).public()


@works.post("/covers/swap")
def swap(command: SwapCover, tract: TheTract, by_land: ByLand) -> dict[str, Any]:
    """Put a cover in the place of another; `posts` changed, and `left` still show the one that was to go."""
    at, own = said_in_world(*tract, command) if by_land else (tract[1], command)
    return swap_cover(tract[0], at, own).public()


router.include_router(works, prefix="/tracts/{tract}")
router.include_router(works, prefix="/lands/{tract}")


def _context(asked: Asked) -> dict[str, Any]:
    covers = covers_of(asked.world)
    # The rules that there are, and the top cover's, which may get one.
    ruled = [(key, cover) for key, cover in covers[1:] if cover.rule is not None or key == covers[-1][0]]
    return {
        "tools": COVER_TOOLS.values(), "pictures": [], "ruled": ruled, "CoverRule": CoverRule, "FillCover": FillCover,
        "SwapCover": SwapCover,
    }  # fmt: skip


PANEL = Panel("cover", _context, script=True)
