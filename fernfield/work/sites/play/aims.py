"""What a round is played for: objectives, what is gathered, and who guards it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints

from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rooms import Worth
from fernfield.work.kernel.rows import Collection, East, Facing, Key, Name, North, TractId
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.parts.rows import Parted
from fernfield.work.sites.images import with_images
from fernfield.work.sites.play.teams import Number, Owner, of_team

Far = Annotated[float, Field(ge=0.5, le=2_000)]
Reach = Annotated[Far, Say("Reach", "m")]
Seconds = Annotated[float, Field(ge=0, le=36_000)]


class Objective(Parted):
    """Collection "objectives": what all of them have. x east, y north [m]

    team : whose it is at first; for_team : who is to do it, everybody when left out
    """

    sort: Annotated[str, UNASKED]
    name: Annotated[Name, Say("Name")]
    x: Annotated[East, Say("East", "m")]
    y: Annotated[North, Say("North", "m")]
    reach_m: Reach = 10.0
    team: Annotated[Number | None, of_team("It is of", "nobody")] = None
    for_team: Annotated[Number | None, of_team("It is for", "everybody")] = None
    tract: Annotated[TractId | None, UNASKED] = None

    @property
    def called(self) -> str:
        return self.sort


class Hold(Objective):
    """A place to be held: whoever is within its reach alone for so long has it. [s]"""

    sort: Annotated[Literal["hold"], UNASKED] = "hold"
    seconds: Annotated[Seconds, Say("It takes", "s")] = 20.0


class Take(Objective):
    """A thing to be taken to the place. thing : what is carried"""

    sort: Annotated[Literal["take"], UNASKED] = "take"
    thing: Annotated[Key, Names("things", gone="refuse"), UNASKED]


class Guard(Objective):
    """A thing that must not be lost, for so long; as long as the round lasts when left out. [s]"""

    sort: Annotated[Literal["guard"], UNASKED] = "guard"
    thing: Annotated[Key, Names("things", gone="refuse"), UNASKED]
    seconds: Annotated[Seconds | None, Say("For so long", "s", left_out="all the round")] = None


class Get(Objective):
    """A place to be reached."""

    sort: Annotated[Literal["reach"], UNASKED] = "reach"


SORTS = {"hold": "a place to hold", "take": "a thing to take", "guard": "a thing to guard", "reach": "a place to reach"}


def _completed(world: OpenWorld, said: dict[str, Any], number: int = 0) -> dict[str, Any]:
    own = {name: value for name, value in said.items() if value is not None or name in ("team", "for_team")}
    own.setdefault("name", f"Objective {len(world.rows[OBJECTIVES.name]) + 1 + number}")
    return own


OBJECTIVES: Collection[Objective] = Collection(
    "objectives", Objective, "objective", variants={"hold": Hold, "take": Take, "guard": Guard, "reach": Get},
    in_tract=True, packed=True, completes=_completed, plan=lambda change, look: with_images(OBJECTIVES, change, look),
)  # fmt: skip

SortText = Annotated[str, StringConstraints(strip_whitespace=True, to_lower=True, pattern=r"^[^\x00-\x1f]{1,40}$")]
"""What a resource is of, as people call it: peat, springs."""


class Resource(Parted):
    """Collection "resources": something to be gathered at a place. x east, y north [m]

    of : its sort; amount : how much of it there is; back_s : it is there again after so long [s]; never when left out
    thing : what stands for it; team : whose it is
    """

    name: Annotated[Name, Say("Name")]
    of: Annotated[SortText, Say("What", hint="such as peat")]
    amount: Annotated[float, Field(gt=0, le=1e9), Say("Amount")] = 100.0
    back_s: Annotated[Seconds | None, Say("There again after", "s", left_out="never")] = None
    x: Annotated[East, Say("East", "m")]
    y: Annotated[North, Say("North", "m")]
    team: Owner = None
    thing: Annotated[Key | None, Names("things", gone="clear"), UNASKED] = None
    tract: Annotated[TractId | None, UNASKED] = None


RESOURCES: Collection[Resource] = Collection(
    "resources", Resource, "resource", in_tract=True, packed=True, most=5_000,
    plan=lambda change, look: with_images(RESOURCES, change, look),
)  # fmt: skip


class Camp(Parted):
    """Collection "camps": guards at a place, who watch what is within their reach; turned to a bearing. [m, °]"""

    name: Annotated[Name, Say("Name")]
    guards: Annotated[int, Field(ge=1, le=1_000), Say("Guards")] = 4
    reach_m: Annotated[Far, Say("They watch", "m")] = 40.0
    x: Annotated[East, Say("East", "m")]
    y: Annotated[North, Say("North", "m")]
    turn_deg: Annotated[Facing, Say("Turn", "°")] = 0.0
    team: Owner = None
    tract: Annotated[TractId | None, UNASKED] = None


CAMPS: Collection[Camp] = Collection(
    "camps", Camp, "camp", in_tract=True, packed=True, plan=lambda change, look: with_images(CAMPS, change, look)
)


def worth_going_to(world: OpenWorld, land: Land) -> Iterator[Worth]:
    """The objectives of a land and what is gathered there. Hold the lock."""
    for part in land.parts:
        for key, aim in world.each_in(OBJECTIVES, part.tract.row.id):
            yield Worth("objectives", key, "objective", aim.name, aim.for_team, aim.x + part.x, aim.y + part.y)
        for key, one in world.each_in(RESOURCES, part.tract.row.id):
            yield Worth("resources", key, one.of, one.name, one.team, one.x + part.x, one.y + part.y)
