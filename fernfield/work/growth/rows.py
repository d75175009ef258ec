"""Growth: kinds of plants and stones, and the mixes that they are sown in."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.growth.scatter import DENSEST_PER_HA
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import Change, Collection, Colour, Key, Look, Name, Plan, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld


class Kind(Row):
    """One sort of plant or stone. `crown_m` and `tall_m` are those of size 1, `blocks_m` its trunk's radius. [m]"""

    key: Annotated[Key, UNASKED]
    name: Annotated[Name, UNASKED]
    form: Annotated[Literal["tree", "boulder"], UNASKED]
    habit: Annotated[Literal["upright", "leaning"], UNASKED]
    density_per_ha: Annotated[float, Field(ge=0, le=DENSEST_PER_HA), Say("Density", "/ha")]
    size_min: Annotated[float, Field(gt=0, le=100), Say("Smallest", "×")]
    size_max: Annotated[float, Field(gt=0, le=100), Say("Largest", "×")]
    crown_m: Annotated[float, Field(gt=0, le=50), UNASKED]
    tall_m: Annotated[float, Field(gt=0, le=100), UNASKED]
    blocks_m: Annotated[float, Field(ge=0, le=50), UNASKED]
    colour: Annotated[Colour, UNASKED]

    @model_validator(mode="after")
    def _smallest_first(self) -> Kind:
        if self.size_min > self.size_max:
            words = f"smallest size must not be above the largest, not {self.size_min} and {self.size_max}"
            raise InvalidInput(words, "size_min")
        return self


class Mix(Row):
    """Collection "mixes": kinds that are sown together, from one seed."""

    name: Annotated[Name, UNASKED]
    seed: Annotated[int, Field(ge=0, lt=2**31), Say("Seed")]
    kinds: Annotated[tuple[Kind, ...], Field(min_length=1, max_length=16), UNASKED]


def _plan(change: Change[Mix], look: Look) -> Plan:
    if change.old is None:
        look.need(MIXES, change.key)
    if change.new is None:
        raise Conflict("mixes cannot be removed yet")
    return plainly(MIXES, change)


MIXES = Collection("mixes", Mix, "mix", pictured=True, plan=_plan)


def mixes_of(world: OpenWorld) -> list[tuple[str, Mix]]:
    return world.each(MIXES)


def kinds_of(world: OpenWorld) -> list[tuple[str, Mix, int, Kind]]:
    """Every kind: the key of its mix, the mix, its number in it, and the kind."""
    return [(key, mix, number, kind) for key, mix in mixes_of(world) for number, kind in enumerate(mix.kinds)]
