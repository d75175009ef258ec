"""The boundary helper: the edge of a tract made so that nobody leaves on foot, and the proof that it holds."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import partial
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from fernfield.core.grid import FloatArray, Grid, Window
from fernfield.core.ground.boundary import Boundary, inner_of
from fernfield.core.travel.enclosure import Enclosure, enclosed
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.jobs import Job
from fernfield.work.kernel.posts.lands import alone
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Key
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.windows import scratch, take_out
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.aside import Asides, overtaken
from fernfield.work.kernel.writing.drawing import Put, draw, plainly
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep
from fernfield.work.worlds.beginnings import edge_of


class PutBoundary(Command):
    """A boundary along the edge of a tract: a rim, or an edge sunk `depth_m` under the sea. [m, °]"""

    do: Literal["boundary"] = "boundary"
    kind: Annotated[
        Literal["rim", "sunk"], Say("By", called={"rim": "a rim of hills", "sunk": "an edge under the sea"})
    ] = "rim"
    width_m: Annotated[float, Field(gt=0, le=5_000), Say("Width", "m")] = 60.0
    steep_deg: Annotated[float, Field(ge=1, le=80), Say("Steepness", "°")] = 55.0
    depth_m: Annotated[float, Field(ge=0, le=500), Say("Depth of the edge", "m", when="kind=sunk")] = 6.0
    sheet: Annotated[Key | None, UNASKED] = None


def boundary_of(world: OpenWorld, tract: Tract, command: PutBoundary) -> Boundary:
    """Raises InvalidInput for a strip that does not fit the tract."""
    boundary = Boundary(command.kind, command.width_m, command.steep_deg, command.depth_m, world.sea_of(tract.row.id))
    boundary.fits(tract.grid)
    return boundary


def _strips(grid: Grid, boundary: Boundary) -> list[Window]:
    """The four sides of the strip; together they hold every post of it once."""
    wide = math.ceil(boundary.width_m / grid.spacing - 1e-9)
    south = grid.rows - wide
    return [
        Window(0, 0, wide, grid.cols),
        Window(south, 0, grid.rows, grid.cols),
        Window(wide, 0, south, wide),
        Window(wide, grid.cols - wide, south, grid.cols),
    ]


def put_boundary(
    job: Job, world: OpenWorld, tract: Tract, command: PutBoundary, starts: Callable[[str], list[tuple[float, float]]]
) -> dict[str, Any]:
    """Shape the edge, as one revision; the outcome says whether anybody gets out on foot, and where."""
    boundary, grid = boundary_of(world, tract, command), tract.grid
    job.step(0.05, "Shaping the edge")

    def begin() -> Sweep:
        there = Asides(world)
        cache = there[tract.row.id]
        # The line of the inner land's own edge, as it is before anything is drawn.
        wide = math.ceil(boundary.width_m / grid.spacing - 1e-9)
        north, south = (cache.read(HEIGHT, Window(r, 0, r + 1, grid.cols))[0] for r in (wide, grid.rows - 1 - wide))
        west, east = (cache.read(HEIGHT, Window(0, c, grid.rows, c + 1))[:, 0] for c in (wide, grid.cols - 1 - wide))

        def foot(rows: np.ndarray, cols: np.ndarray) -> FloatArray:
            found = np.where(rows == wide, north[cols], south[cols])
            found = np.where(cols == wide, west[rows], found)
            found = np.where(cols == grid.cols - 1 - wide, east[rows], found)
            return np.asarray(found, np.float32)

        def edge(part: Window, _was: FloatArray) -> FloatArray:
            return edge_of(grid, boundary, part, foot)

        puts = [Put(alone(tract), strip, plainly(edge)) for strip in _strips(grid, boundary)]
        kind = "a rim" if command.kind == "rim" else "a sunk edge"
        ended = Ended(f"Put {kind} of {command.width_m:g} m at {command.steep_deg:g}° along the edge", said(command))
        return draw(world, puts, command.sheet, lambda: ended, still=lambda: not overtaken(world, there.seen))

    outcome = world.sweep(begin, lambda done: job.step(0.05 + 0.25 * done, "Shaping the edge"))
    job.step(0.3, "Proving that it holds")
    proof = prove(job, world, tract, boundary, starts(tract.row.id))
    return {
        **outcome.public(),
        **proof_json(tract, proof),
    }


def proof_json(tract: Tract, proof: Enclosure) -> dict[str, Any]:
    """Whether it holds; if not, the place at the edge that is reached. [m]"""
    grid = tract.grid
    place = {} if proof.holds else {"x": grid.x_of(proof.col), "y": grid.y_of(proof.row)}
    return {"holds": proof.holds, "walked": round(proof.reached, 4), **place}


def prove(
    job: Job, world: OpenWorld, tract: Tract, boundary: Boundary | None, starts: Sequence[tuple[float, float]] = ()
) -> Enclosure:
    """Flood the land with walkers from the starts in the tract, and from all of the inner land's own edge."""
    grid = tract.grid
    with scratch((grid.rows, grid.cols), np.float32) as heights:
        read = partial(tract.cache.read, HEIGHT)
        take_out(world.lock, read, grid.window, heights, job.step, "Proving that it holds", (0.3, 0.8))
        posts = [(round(grid.row_of(y)), round(grid.col_of(x))) for x, y in starts]
        if boundary is not None:
            rows, cols = inner_of(grid, boundary, np.arange(grid.rows), np.arange(grid.cols))
            posts += [(int(rows[0]), int(c)) for c in cols] + [(int(rows[-1]) - 1, int(c)) for c in cols]
            posts += [(int(r), int(cols[0])) for r in rows] + [(int(r), int(cols[-1]) - 1) for r in rows]
        posts = posts or [(grid.rows // 2, grid.cols // 2)]
        return enclosed(
            np.asarray(heights), grid.spacing, world.sea_of(tract.row.id), posts,
            say=lambda done: job.step(0.8 + 0.2 * done, "Proving that it holds"),
        )  # fmt: skip
