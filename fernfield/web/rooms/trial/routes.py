"""Trial: who gets where, ways between places, and the stage's panel."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Depends, Path, Query, Response

from fernfield.core.travel.bots import AIMS
from fernfield.core.travel.reach import Clock
from fernfield.core.travel.walkers import WALKER, WALKERS
from fernfield.web.kernel.panels import Asked, Panel, Shortcut
from fernfield.web.kernel.parts import TheLand, TheWorld
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.windows import TheWindow
from fernfield.work.kernel.rows import Coordinate, Key, TractId
from fernfield.work.passing.walkers import WalkerKey, WalkerTold, gait_of, walkers_of, walkers_told
from fernfield.work.sites.kit import kit_of
from fernfield.work.trial.fairness import AskFair, FairTold, fair, first_of
from fernfield.work.trial.kept import WALKS, AgainTold, TrackTold, track_told, walk_again
from fernfield.work.trial.narrowing import NarrowsTold, SeekNarrows, narrows_of
from fernfield.work.trial.reaching import From, SeekWay, WayTold, What, reach_posts, way_of
from fernfield.work.trial.scripted import WalkBy, Walked, walked
from fernfield.work.trial.seeing import FURTHEST_M, AskSight, Over, sight_posts

router = Router(prefix="/api/lands/{tract}", tags=["trial"])
WalkKey = Annotated[Key, Path()]
every = Router(prefix="/api/worlds/{world}", tags=["trial"])


def _begin(
    walker: WalkerKey = WALKER, x: Coordinate | None = None,
    y: Coordinate | None = None, start: Annotated[str | None, Query(max_length=40)] = None,
    team: Annotated[int | None, Query(ge=1, le=8)] = None,
) -> From:  # fmt: skip
    return From(walker=walker, x=x, y=y, start=start, team=team)


@router.get("/reach", response_class=Response)
def reach(
    land: TheLand, window: TheWindow, begin: Annotated[From, Depends(_begin)], what: What = "class",
    step: Annotated[int, Query(ge=1, le=1024)] = 1, clock: Clock = "walker",
) -> Response:  # fmt: skip
    """What of a land a walker reaches from a place, a start, all starts of a team, or the default start, at every
    `step`-th post: bytes (0 nobody stands there, 1 not reached, 2 reached, 3 reached and not left again), or
    little-endian float32 in seconds or metres (infinite where not)."""
    posts = reach_posts(*land, begin, what, window, step, clock)
    body = posts.tobytes() if what == "class" else posts.astype("<f4").tobytes()
    headers = {"X-Shape": ",".join(map(str, posts.shape))}
    return Response(body, media_type="application/octet-stream", headers=headers)


@router.post("/ways")
def ways(wanted: SeekWay, land: TheLand) -> WayTold:
    """The quickest, shortest or gentlest way of a walker between two places. 409 where none leads there."""
    return way_of(*land, wanted)


@router.post("/narrows")
def narrows(wanted: SeekNarrows, land: TheLand) -> NarrowsTold:
    """Where it is narrowest between two places, and what of the kit would close it. 409 where no way leads there."""
    found = narrows_of(*land, wanted)
    if len(found["passages"]) == 1 and not found["open"]:
        # On either side of it there may be room for less than a body.
        gap = found["width_m"] - 2 * gait_of(land[0], wanted.walker).radius
        with land[0].lock:
            sizes = [
                (max(one.size[:2]), key, one.label) for key, one in kit_of(land[0]).items() if one.blocks != "nothing"
            ]
        fitting = min((one for one in sizes if one[0] >= gap), default=None)
        if fitting is not None:
            found["closed_by"] = {"kit": fitting[1], "name": fitting[2], "size_m": round(fitting[0], 2)}
    return found


@every.get("/fairness")
def fairness(world: TheWorld, walker: WalkerKey = WALKER, tract: Annotated[TractId | None, Query()] = None) -> FairTold:
    """How alike the starts are: how long it takes from each to all that is worth going to and to each other, what
    ground each comes to first, scores, and what makes one worse. On the land of the first tract unless told."""
    return fairness_of(AskFair(walker=walker), world, tract)


@every.post("/fairness")
def fairness_of(asked: AskFair, world: TheWorld, tract: Annotated[TractId | None, Query()] = None) -> FairTold:
    """The same by weights of one's own, or with starts and other places where they would stand."""
    with world.lock:
        land = world.country(world.tract(world.of_tract(tract)).row.id)
    return fair(world, land, asked)


def _see(
    x: Coordinate, y: Coordinate, over_m: Over = 1.65, target_over_m: Over = 0.0,
    reach_m: Annotated[float, Query(ge=1, le=FURTHEST_M)] = 600.0, growth: bool = True,
) -> AskSight:  # fmt: skip
    return AskSight(x=x, y=y, over_m=over_m, target_over_m=target_over_m, reach_m=reach_m, growth=growth)


@router.get("/sight", response_class=Response)
def sight(
    land: TheLand, window: TheWindow, asked: Annotated[AskSight, Depends(_see)],
    step: Annotated[int, Query(ge=1, le=1024)] = 1,
) -> Response:  # fmt: skip
    """What is seen from a place of every `step`-th post of a window: bytes, 255 all of it, 0 nothing, between through
    crowns; over the ground and what stands there, from `over_m` to `target_over_m` over the ground."""
    posts = sight_posts(*land, asked, window, step)
    headers = {"X-Shape": ",".join(map(str, posts.shape))}
    return Response(posts.tobytes(), media_type="application/octet-stream", headers=headers)


@router.post("/first", response_class=Response)
def first(
    asked: AskFair, land: TheLand, window: TheWindow, step: Annotated[int, Query(ge=1, le=1024)] = 1
) -> Response:  # fmt: skip
    """Who comes to every `step`-th post of a land first: bytes, 0 nobody, else the number of the start, from 1, in the
    order in which `fairness` tells them."""
    posts = first_of(*land, asked, window, step)
    headers = {"X-Shape": ",".join(map(str, posts.shape))}
    return Response(posts.tobytes(), media_type="application/octet-stream", headers=headers)


@every.post("/walks")
def walks(wanted: WalkBy, world: TheWorld, tract: Annotated[TractId | None, Query()] = None) -> Walked:
    """A walk by script: where somebody gets by a list of wishes, in the ticks of a trial; in the metres of the world,
    on the land of its first tract unless another is named."""
    with world.lock:
        land = world.country(world.tract(world.of_tract(tract)).row.id)
    return walked(world, land, wanted)


@every.get("/walkers")
def walkers(world: TheWorld) -> list[WalkerTold]:
    """Who moves: those that come with the application first, then the world's own."""
    with world.lock:
        return walkers_told(world)


@every.get("/walks/{key}/track")
def walk_track(key: WalkKey, world: TheWorld) -> TrackTold:
    """Where a kept walk was, at every quarter second, in the metres of the world."""
    with world.lock:
        return track_told(world, world.row(WALKS, key))


@every.post("/walks/{key}/again")
def walks_again(key: WalkKey, world: TheWorld) -> AgainTold:
    """The wishes of a kept walk in the world as it is now, beside where they led before."""
    with world.lock:
        row = world.row(WALKS, key)
    return walk_again(world, row)


def _context(asked: Asked) -> dict[str, Any]:
    with asked.world.lock:
        walkers = walkers_of(asked.world)
    return {"walkers": walkers, "shipped": WALKERS, "aims": AIMS}


PANEL = Panel(
    "trial",
    _context,
    script=True,
    shortcuts=(
        Shortcut(("w", "ArrowUp"), "walk on", "walk-ahead", "walk"),
        Shortcut(("s", "ArrowDown"), "walk back", "walk-back", "walk"),
        Shortcut(("ArrowLeft",), "turn left", "walk-turn-left", "walk"),
        Shortcut(("ArrowRight",), "turn right", "walk-turn-right", "walk"),
        Shortcut(("a",), "step left", "walk-left", "walk"),
        Shortcut(("d",), "step right", "walk-right", "walk"),
        Shortcut(("PageUp",), "look up", "walk-look-up", "walk"),
        Shortcut(("PageDown",), "look down", "walk-look-down", "walk"),
        Shortcut(("Shift",), "run", "walk-run", "walk"),
        Shortcut((" ",), "jump", "walk-jump", "walk"),
        Shortcut(("c",), "crouch", "walk-crouch", "walk"),
        Shortcut(("v",), "see the walker from behind, or through its eyes", "walk-behind", "walk"),
        Shortcut(("n",), "pin a note here", "walk-note", "walk"),
        Shortcut(("k",), "mark that it catches here", "walk-catches", "walk"),
        Shortcut(("m",), "measure from what is looked at, to what is looked at next", "walk-measure", "walk"),
        Shortcut(("r",), "back to where the walk began", "walk-anew", "walk"),
        Shortcut(("Escape",), "back to the map as it was", "walk-leave", "walk"),
    ),
)
