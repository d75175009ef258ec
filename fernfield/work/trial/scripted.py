"""A walk by script: what somebody wishes, one wish after the other, and where that leads."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput
from fernfield.core.travel.walker import TICK_S, Intent
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rows import Bearing, Name
from fernfield.work.kernel.says import Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.passing.walkers import gait_of
from fernfield.work.trial.kept import keep_walk
from fernfield.work.trial.reaching import From, places_of
from fernfield.work.trial.walks import MOST_TICKS, Walk

LONGEST_S = MOST_TICKS * TICK_S
Part = Annotated[float, Field(ge=-1, le=1)]


class Wish(BaseModel):
    """For so long: ahead and to the right (-1 to 1), looking along a bearing; running, jumping, crouching. [s, °]"""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    seconds: Annotated[float, Field(gt=0, le=LONGEST_S)]
    ahead: Part = 0.0
    aside: Part = 0.0
    facing: Bearing = 0.0
    run: bool = False
    jump: bool = False
    crouch: bool = False


class WalkBy(From):
    """Who walks, from where, and all that is wished. keep : the name under which the walk is kept, if it
    is; plays : the rules and cues of the world go on meanwhile, in a round of its own"""

    plays: bool = False
    keep: Annotated[Name | None, Say("Name of the walk")] = None
    wishes: Annotated[tuple[Wish, ...], Field(min_length=1, max_length=2_000)]


class Blocked(TypedDict):
    """When something began to stand in the way, and what. [s]"""

    t: float
    by: str


class Said(TypedDict):
    """Something that happened in the round of a walk, and when. [s]"""

    t: float
    words: str


class Walked(TypedDict):
    """The places of a walk, each with its time [s, m]; what was in the way; the key of the row where it was kept;
    and what happened in its round."""

    track: list[tuple[float, float, float, float]]
    blocked: list[Blocked]
    key: str | None
    said: list[Said]


def walked(world: OpenWorld, land: Land, wanted: WalkBy) -> Walked:
    """Go by the wishes, tick for tick as a trial does. Raises InvalidInput for more than 20 minutes of them."""
    whole = sum(one.seconds for one in wanted.wishes)
    if whole > LONGEST_S:
        raise InvalidInput(f"a walk lasts {LONGEST_S:g} s at most, not {whole:g} s", "wishes")
    gait = gait_of(world, wanted.walker)
    with world.lock:
        (x, y), *_ = places_of(world, land, wanted)
        plays = world.house.given.plays(world, land) if wanted.plays else None
    walk = Walk(world, land, x, y, wanted.wishes[0].facing, gait=gait, plays=plays, team=wanted.team,
                walker=wanted.walker)  # fmt: skip
    for one in wanted.wishes:
        intent = Intent(one.ahead, one.aside, one.facing, one.run, one.jump, one.crouch)
        walk.advance(intent, max(1, round(one.seconds / TICK_S)))
        walk.mark()
    said = [] if plays is None else [Said(t=one.seconds, words=one.words) for one in plays.said]
    key = None if wanted.keep is None else keep_walk(world, walk, wanted.walker, wanted.keep)
    return {"track": walk.track, "blocked": [Blocked(t=t, by=by) for t, by in walk.blocked], "key": key, "said": said}
