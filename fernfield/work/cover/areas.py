"""Covers in an area of a land: filled with one, or one taken for another; each is one revision."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import ConfigDict, Field, model_validator

from fernfield.core.cover.areas import filled, swapped
from fernfield.core.cover.shares import OpacityArray
from fernfield.core.errors import InvalidInput, named
from fernfield.core.grid import FloatArray, Window
from fernfield.work.cover.rows import COVERS, covers_of
from fernfield.work.cover.shares import cover_layer
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Key, Spot
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.drawing import AsItWas, Masks, draw
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep
from fernfield.work.plots.areas import Area, Box, Feather, area_words, share_of, window_of
from fernfield.work.plots.rows import PLOTS


class InArea(Command):
    """Where covers change: a plot, a box, an outline, what a cover covers, or the whole tract when none is said."""

    plot: Annotated[Key | None, UNASKED] = None
    box: Annotated[Box | None, UNASKED] = None
    outline: Annotated[tuple[Spot, ...] | None, Field(min_length=3, max_length=2000), UNASKED] = None
    covered_by: Annotated[Key | None, UNASKED] = None
    feather_m: Feather = 0.0

    @property
    def area(self) -> Area:
        return Area(
            plot=self.plot, box=self.box, outline=self.outline, cover=self.covered_by, feather_m=self.feather_m
        )  # fmt: skip

    @model_validator(mode="after")
    def _is_an_area(self) -> InArea:
        _ = self.area
        return self


class FillCover(InArea):
    """Bring a cover to a share of the ground in an area; the others keep their proportions."""

    do: Literal["fill_cover"] = "fill_cover"
    cover: Annotated[Key, UNASKED]
    share: Annotated[float, Field(ge=0, le=1), Say("Share")] = 1.0


class SwapCover(InArea):
    """Put one cover in the place of another in an area. Where less than `least_share` of it would be left, in a soft
    edge, all of it goes."""

    model_config = ConfigDict(populate_by_name=True)

    do: Literal["swap_cover"] = "swap_cover"
    from_: Annotated[Key, Field(alias="from"), UNASKED]
    to: Annotated[Key, UNASKED]
    least_share: Annotated[float, Field(ge=0, le=1), Say("Nothing under a share of")] = 0.05

    @model_validator(mode="after")
    def _differ(self) -> SwapCover:
        if self.from_ == self.to:
            raise InvalidInput(f"from and to must be two covers, not both {self.to!r}", "to")
        return self


@dataclass(frozen=True)
class Covered:
    """What came of it.

    posts : how many changed
    left : how many in the area still show the cover that was to go, by 1 of 255 or more of what is painted
    """

    outcome: Outcome
    posts: int
    left: int

    def public(self) -> dict[str, Any]:
        return {**self.outcome.public(), "posts": self.posts, "left": self.left}


New = Callable[[OpacityArray, FloatArray], OpacityArray]
"""Makes all masks of a part anew, from what they were and how much of each post belongs to the area."""


def fill_cover(world: OpenWorld, tract: Tract, command: FillCover) -> Covered:
    """Raises NotFound for a cover that is not there."""
    at = _number(world, command.cover)
    words = f"Filled {area_words(world, command.area)} with {command.cover}"
    return _draw(world, tract, command, words, lambda masks, share: filled(masks, at, share, command.share), None)


def swap_cover(world: OpenWorld, tract: Tract, command: SwapCover) -> Covered:
    """Raises NotFound for a cover that is not there."""
    at, to = _number(world, command.from_, "from"), _number(world, command.to, "to")
    words = f"Swapped {command.from_} for {command.to} in {area_words(world, command.area)}"
    return _draw(
        world, tract, command, words, lambda masks, share: swapped(masks, at, to, share, command.least_share), at
    )


def _number(world: OpenWorld, key: str, what: str = "cover") -> int:
    return named({known: at for at, (known, _) in enumerate(covers_of(world))}, what, key)


SEEN = 1 / 255


def _draw(world: OpenWorld, tract: Tract, command: InArea, words: str, new: New, gone: int | None) -> Covered:
    """One revision of all masks in an area. `gone`: the cover of which is told how much is left."""
    told: dict[Window, tuple[int, int]] = {}

    def begin() -> Sweep:
        told.clear()
        land, area = world.land_from(tract.row.id), command.area
        layers = [cover_layer(key) for key, _ in covers_of(world)[1:]]

        def look(as_it_was: AsItWas, part: Window) -> dict[str, OpacityArray]:
            was = as_it_was(land)
            masks = np.stack([was.read(layer, part) for layer in layers])
            share = share_of(world, land, area, part, command.feather_m)
            made = new(masks, share)
            # A part that is worked out again, since others drew there meanwhile, counts once.
            told[part] = int((made != masks).any(axis=0).sum()), 0 if gone is None else _left(made, gone, share)
            return {
                layer: mask
                for layer, mask, before in zip(layers, made, masks, strict=True)
                if not np.array_equal(mask, before)
            }

        puts = [Masks(land, window_of(world, land, area), look)]
        return draw(world, puts, None, lambda: Ended(words, said(command)), PLOTS.name, COVERS.name)

    outcome = world.sweep(begin)
    return Covered(outcome, sum(posts for posts, _ in told.values()), sum(left for _, left in told.values()))


def _left(masks: OpacityArray, at: int, share: FloatArray) -> int:
    """How many posts of an area still show a cover."""
    through = np.ones(share.shape, np.float64)
    for mask in masks[at:]:
        through *= 1 - mask / 65_535
    own = through if at == 0 else through * (masks[at - 1] / 65_535)
    return int(((own >= SEEN) & (share > 0)).sum())
