"""Covers in an area of a land: filled with one, or one taken for another; each is one revision."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import ConfigDict, Field, model_validator

from fernfield.core.brush.mask import taken_over
from fernfield.core.cover import soften
from fernfield.core.cover.areas import filled, given_back, sharpened, softened, swapped
from fernfield.core.cover.flecks import NOTHING
from fernfield.core.cover.shares import OpacityArray
from fernfield.core.errors import Conflict, InvalidInput, named
from fernfield.core.grid import FloatArray, Window
from fernfield.work.cover.rows import COVERS, covers_of, shown_covers
from fernfield.work.cover.ruling import COVER_RULES
from fernfield.work.cover.shares import cover_layer, under_of
from fernfield.work.cover.sums import flecks_in, foremost_in
from fernfield.work.kernel.jobs import Job, JobKind
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Key
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.drawing import AsItWas, Masks, draw
from fernfield.work.kernel.writing.ledger import Edited, Ended, said
from fernfield.work.kernel.writing.sweep import Sweep
from fernfield.work.plots.areas import InArea, area_words, share_of, window_of
from fernfield.work.plots.rows import PLOTS


class FillCover(InArea):
    """Bring a cover to a share of the ground in an area; the others keep their proportions."""

    do: Literal["fill_cover"] = "fill_cover"
    cover: Annotated[Key, UNASKED]
    share: Annotated[float, Field(ge=0, le=1), Say("Share", "%", percent=True)] = 1.0


class SwapCover(InArea):
    """Put one cover in the place of another in an area. Where less than `least_share` of it would be left, in a soft
    edge, all of it goes."""

    model_config = ConfigDict(populate_by_name=True)

    do: Literal["swap_cover"] = "swap_cover"
    from_: Annotated[Key, Field(alias="from"), UNASKED]
    to: Annotated[Key, UNASKED]
    least_share: Annotated[float, Field(ge=0, le=1), Say("Nothing under a share of", "%", percent=True)] = 0.05

    @model_validator(mode="after")
    def _differ(self) -> SwapCover:
        if self.from_ == self.to:
            raise InvalidInput(f"from and to must be two covers, not both {self.to!r}", "to")
        return self


class SoftenCovers(InArea):
    """Make the borders between covers in an area so wide."""

    do: Literal["soften_covers"] = "soften_covers"
    width_m: Annotated[float, Field(ge=0.5, le=200), Say("Width", "m")] = 8.0


class SharpenCovers(InArea):
    """Make the borders between covers in an area so many times narrower."""

    do: Literal["sharpen_covers"] = "sharpen_covers"
    times: Annotated[float, Field(ge=1, le=16), Say("Times as sharp")] = 3.0


class GiveBackCovers(InArea):
    """Lift what was laid by hand in an area; what the rules say is there again."""

    do: Literal["give_back_covers"] = "give_back_covers"


class MendFlecks(InArea):
    """Give small patches that lie in the midst of one other cover to that."""

    do: Literal["mend_flecks"] = "mend_flecks"
    least_m2: Annotated[float, Field(gt=0, le=10_000), Say("Smaller than", "m²")] = 4.0


class Worked(Edited):
    """What a work on covers came to: posts that changed, and those that still show what was to go."""

    posts: int
    left: int


@dataclass(frozen=True)
class Covered:
    """What came of it.

    posts : how many changed
    left : how many in the area still show the cover that was to go, by 1 of 255 or more of what is painted
    """

    outcome: Outcome
    posts: int
    left: int

    def public(self) -> Worked:
        return {**self.outcome.public(), "posts": self.posts, "left": self.left}


Said = Callable[[float], None]
"""Is told how far the work is, and may raise to stop it: then nothing has changed."""


def quietly(done: float) -> None:
    """Nobody is told."""


New = Callable[[OpacityArray, FloatArray, Window], OpacityArray]
"""Makes all masks of a part anew, from what they were, how much of each post belongs to the area, and where it is."""


def soften_covers(world: OpenWorld, tract: Tract, command: SoftenCovers, say: Said = quietly) -> Covered:
    """A border is a border wherever the parts meet that it is worked out in."""
    spacing = tract.grid.spacing
    around = soften.reach(0, {"width_m": command.width_m}, spacing)
    words = f"Softened the covers in {area_words(world, command.area)} over {command.width_m:g} m"

    def new(masks: OpacityArray, share: FloatArray, _: Window) -> OpacityArray:
        return softened(masks, share, command.width_m, spacing)

    return _draw(world, tract, command, words, new, None, around, say=say)


def sharpen_covers(world: OpenWorld, tract: Tract, command: SharpenCovers, say: Said = quietly) -> Covered:
    words = f"Sharpened the covers in {area_words(world, command.area)} {command.times:g} times"
    return _draw(
        world, tract, command, words, lambda masks, share, _: sharpened(masks, share, command.times), None, say=say
    )


def give_back_covers(world: OpenWorld, tract: Tract, command: GiveBackCovers, say: Said = quietly) -> Covered:
    words = f"Gave {area_words(world, command.area)} back to the rules"
    return _draw(
        world, tract, command, words, lambda masks, share, _: given_back(masks, share), None, takes_over=False, say=say
    )  # fmt: skip


def fill_cover(world: OpenWorld, tract: Tract, command: FillCover, say: Said = quietly) -> Covered:
    """Raises NotFound for a cover that is not there."""
    at = _number(world, command.cover)
    words = f"Filled {area_words(world, command.area)} with {command.cover}"
    return _draw(
        world, tract, command, words, lambda masks, share, _: filled(masks, at, share, command.share), None, say=say
    )


def swap_cover(world: OpenWorld, tract: Tract, command: SwapCover, say: Said = quietly) -> Covered:
    """Raises NotFound for a cover that is not there."""
    at, to = _number(world, command.from_, "from"), _number(world, command.to, "to")
    words = f"Swapped {command.from_} for {command.to} in {area_words(world, command.area)}"
    return _draw(
        world,
        tract,
        command,
        words,
        lambda masks, share, _: swapped(masks, at, to, share, command.least_share),
        at,
        say=say,
    )


def _number(world: OpenWorld, key: str, what: str = "cover") -> int:
    return named({known: at for at, (known, _) in enumerate(shown_covers(world))}, what, key)


SEEN = 1 / 255


def mend_flecks(world: OpenWorld, tract: Tract, command: MendFlecks, say: Said = quietly) -> Covered:
    """Flecks are those of the land as it is now; `left` counts those that the mend leaves, which should be none."""
    land = world.land_from(tract.row.id)
    whole = window_of(world, land, command.area)
    with world.lock:
        found, to = flecks_in(world, land, whole, command.least_m2)
    if not found:
        raise Conflict(f"there are no flecks smaller than {command.least_m2:g} m² there")
    pairs = sorted({(fleck.cover, fleck.around) for fleck in found})
    # Numbers of all covers as the hand knows them, which leaves out the hidden ones.
    keys, shown = [key for key, _ in covers_of(world)], [key for key, _ in shown_covers(world)]
    front = foremost_in(world, land, whole)

    def new(masks: OpacityArray, share: FloatArray, part: Window) -> OpacityArray:
        box = part.inside(whole)
        for own, around in pairs:
            here = ((to[box] == around) & (front[box] == own)).astype(np.float32) * share
            if here.any():
                masks = swapped(masks, shown.index(keys[own]), shown.index(keys[around]), here, 1.0)
        return masks

    words = f"Mended {len(found)} flecks in {area_words(world, command.area)}"

    def where(part: Window) -> NDArray[np.bool_]:
        return np.asarray(to[part.inside(whole)] != NOTHING)

    made = _draw(world, tract, command, words, new, None, where=where, say=say)
    with world.lock:
        left = len(flecks_in(world, world.land_from(tract.row.id), whole, command.least_m2)[0])
    return Covered(made.outcome, made.posts, left)


def _draw(
    world: OpenWorld, tract: Tract, command: InArea, words: str, new: New, gone: int | None, around: int = 0,
    *, takes_over: bool = True, where: Callable[[Window], NDArray[np.bool_]] | None = None, say: Said = quietly,
) -> Covered:  # fmt: skip
    """One revision of all masks in an area.

    gone : the cover of which is told how much is left
    around : posts beyond a part that have to be known
    where : the only posts of a part that may change
    say : is told how far it is
    takes_over : whether what the rules show becomes the hand's own first
    """
    told: dict[Window, tuple[int, int]] = {}

    def begin() -> Sweep:
        told.clear()
        land, area = world.land_from(tract.row.id), command.area
        layers, under = [cover_layer(key) for key, _ in shown_covers(world)], under_of(world, land)

        def look(as_it_was: AsItWas, part: Window) -> dict[str, OpacityArray]:
            was = as_it_was(land)
            wide = land.clip(part.pad(around)) if around else part
            inner = part.inside(wide)
            held = masks = np.stack([was.read(layer, wide) for layer in layers])
            share = share_of(world, land, area, wide, command.feather_m)
            if where is not None:
                share = share * where(wide)
            mix = under(wide) if under is not None and takes_over else None
            if mix is not None:
                # What the rules show becomes the hand's own, where it works.
                held = taken_over(masks, mix)
            made = np.where(share > 0, new(held, share, wide), masks)
            made, masks, share = made[:, inner[0], inner[1]], masks[:, inner[0], inner[1]], share[inner]
            # A part that is worked out again, since others drew there meanwhile, counts once.
            changed = int((made != masks).any(axis=0).sum())
            told[part] = changed, 0 if gone is None else _left(made[1:], gone, share)
            return {
                layer: mask
                for layer, mask, before in zip(layers, made, masks, strict=True)
                if not np.array_equal(mask, before)
            }

        puts = [Masks(land, window_of(world, land, area), look)]
        return draw(world, puts, None, lambda: Ended(words, said(command)), PLOTS.name, COVERS.name, COVER_RULES.name)

    outcome = world.sweep(begin, say)
    return Covered(outcome, sum(posts for posts, _ in told.values()), sum(left for _, left in told.values()))


def _left(masks: OpacityArray, at: int, share: FloatArray) -> int:
    """How many posts of an area still show a cover."""
    through = np.ones(share.shape, np.float64)
    for mask in masks[at:]:
        through *= 1 - mask / 65_535
    own = through if at == 0 else through * (masks[at - 1] / 65_535)
    return int(((own >= SEEN) & (share > 0)).sum())


# Beside the rest

MOST_AT_ONCE = 4_000_000
"""Posts of an area that are worked on while whoever asked waits for the answer; one with more is a job."""

Work = Callable[[OpenWorld, Tract, Any, Said], Covered]
WORKS: dict[str, Work] = {
    "fill_cover": fill_cover, "swap_cover": swap_cover, "soften_covers": soften_covers,
    "sharpen_covers": sharpen_covers, "give_back_covers": give_back_covers, "mend_flecks": mend_flecks,
}  # fmt: skip
"""By what a command is called; the next is a line here."""


def posts_of(world: OpenWorld, tract: Tract, command: InArea) -> int:
    """How many posts an area has at most. Raises as the work itself does where it lies outside."""
    window = window_of(world, world.land_from(tract.row.id), command.area)
    return window.rows * window.cols


def work_on_covers(job: Job, world: OpenWorld, tract: Tract, command: InArea) -> dict[str, Any]:
    """An area work beside the rest; stopped, it leaves nothing behind."""
    say = partial(_step, job)
    work = WORKS[str(getattr(command, "do"))]  # noqa: B009 (each says its own)
    return dict(work(world, tract, command, say).public())


def _step(job: Job, done: float) -> None:
    job.step(0.98 * done, "Working on the covers")


COVER_WORK = JobKind("covers", "Working on the covers", work_on_covers, card="cover/job_covers.html")
