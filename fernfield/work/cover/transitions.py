"""Transitions as a world keeps them: two covers, and the steps between them."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator

from fernfield.core.cover.transition import Strip
from fernfield.core.errors import InvalidInput
from fernfield.work.cover.rows import covers_of
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.rows import Collection, Key, Name, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld

MOST_WIDE_M = 120.0
"""Of a strip: what lies so far around a post has to be known wherever that is looked at."""


class TransitionStep(Row):
    """One step of a strip: a cover, and how wide it is. [m]"""

    cover: Annotated[Key, Names("covers"), UNASKED]
    width_m: Annotated[float, Field(ge=0.25, le=60), Say("Width", "m")]


class Transition(Row):
    """Collection "transitions": steps along the border between two covers, from the first's side to the second's."""

    name: Name
    first: Annotated[Key, Names("covers", "delete"), UNASKED]
    second: Annotated[Key, Names("covers", "delete"), UNASKED]
    steps: Annotated[tuple[TransitionStep, ...], Field(min_length=1, max_length=8), UNASKED]
    ragged: Annotated[float, Field(ge=0, le=1), Say("Raggedness", "%", percent=True, under="More")] = 0.0
    grain_m: Annotated[float, Field(ge=0.5, le=1_000), Say("Grain of its edges", "m", under="More")] = 15.0
    seed: Annotated[int, Field(ge=0, le=2**31 - 1), Say("Seed", under="More")] = 1

    @model_validator(mode="after")
    def _can_be_laid(self) -> Transition:
        if self.first == self.second:
            raise InvalidInput(f"first and second must be two covers, not both {self.first!r}", "second")
        wide = sum(step.width_m for step in self.steps)
        if wide > MOST_WIDE_M:
            raise InvalidInput(f"all steps together must be {MOST_WIDE_M:g} m wide at most, not {wide:g} m", "steps")
        return self


TRANSITIONS = Collection("transitions", Transition, "transition", pictured="look", most=16)


def strips_of(world: OpenWorld) -> list[tuple[Transition, Strip]]:
    """The transitions that can be laid; one that names a cover that has gone, or is hidden, is not."""
    numbers = {key: at for at, (key, cover) in enumerate(covers_of(world)) if not cover.hidden}
    found = []
    for _, row in world.each(TRANSITIONS):
        if all(key in numbers for key in (row.first, row.second, *(step.cover for step in row.steps))):
            steps = tuple((numbers[step.cover], step.width_m) for step in row.steps)
            found.append((row, Strip(numbers[row.first], numbers[row.second], steps, row.ragged)))
    return found
