"""What the page may say over the socket; anything else is answered with a message and changes nothing."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from fernfield.core.travel.walkers import WALKER
from fernfield.work.kernel.commands import PathPoint
from fernfield.work.kernel.rows import Name
from fernfield.work.passing.walkers import WalkerKey
from fernfield.work.seen.show import Show
from fernfield.work.strokes import StrokeStart
from fernfield.work.water.rows import Tide


class Message(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


Metres = Annotated[float, Field(ge=-1e6, le=1e6)]
Pixel = Annotated[int, Field(ge=-100_000, le=200_000)]


class View(Show):
    """What the page shows of the plan: the level and the pixels of it, and whether it wants heights too.

    `shown` comes back with every picture, so that one drawn for what was shown before can be told.
    """

    is_: Literal["view"] = Field(alias="is")
    level: Annotated[int, Field(ge=-2, le=7)]
    row0: Pixel
    col0: Pixel
    row1: Pixel
    col1: Pixel
    heights: bool = False
    shown: Annotated[int, Field(ge=0, le=1_000_000_000)] = 0


class Begin(Message):
    is_: Literal["begin"] = Field(alias="is")
    tract: Annotated[str, Field(max_length=40)]
    stroke: StrokeStart


class Move(Message):
    is_: Literal["move"] = Field(alias="is")
    samples: Annotated[list[PathPoint], Field(min_length=1, max_length=2_000)]


class End(Message):
    is_: Literal["end", "abandon"] = Field(alias="is")


class Drawn(Message):
    """The page has taken the last patch in and can take another."""

    is_: Literal["drawn"] = Field(alias="is")


class AskSpot(Message):
    """The cursor is at (x, y); `section` asks for the ground through it from x0 to x1; the sea stands as at `tide`."""

    is_: Literal["spot"] = Field(alias="is")
    x: Metres
    y: Metres
    x0: Metres = 0.0
    x1: Metres = 1e6
    section: bool = True
    tide: Tide | None = None


class BeginWalk(Message):
    """Begin a walk at (x, y), or at the default start when they are left out; the sea stands as at `tide`. walker : who
    walks; over_m : so high over the ground there; plays : the rules and cues of the world go on meanwhile"""

    is_: Literal["walk"] = Field(alias="is")
    x: Metres | None = None
    y: Metres | None = None
    facing: Metres = 0.0
    tide: Tide | None = None
    walker: WalkerKey = WALKER
    over_m: Annotated[float, Field(ge=0, le=1000)] = 0.0
    plays: bool = False


class Wish(Message):
    """What the walker wants until the next one comes."""

    is_: Literal["wish"] = Field(alias="is")
    ahead: Annotated[float, Field(ge=-1, le=1)]
    aside: Annotated[float, Field(ge=-1, le=1)]
    facing: Metres
    run: bool = False
    jump: bool = False
    crouch: bool = False


class KeepWalk(Message):
    """Keep the walk that is under way, or the last one, as a row of the collection "walks"."""

    is_: Literal["keep-walk"] = Field(alias="is")
    name: Name


class EndWalk(Message):
    is_: Literal["stand"] = Field(alias="is")


Incoming = Annotated[
    View | Begin | Move | End | Drawn | AskSpot | BeginWalk | Wish | EndWalk | KeepWalk, Field(discriminator="is_")
]
INCOMING: TypeAdapter[Incoming] = TypeAdapter(Incoming)

LONGEST_WAIT_S = 10.0
"""A stroke whose page says nothing for so long is ended and kept."""
