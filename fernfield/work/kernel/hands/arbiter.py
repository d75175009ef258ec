"""Strokes that are being drawn on one world: who goes on where two meet, and how each is brought to an end."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Sequence
from dataclasses import astuple, replace
from typing import TYPE_CHECKING, Any
from weakref import proxy

from numpy.typing import NDArray

from fernfield.core.brush.pace import Sample
from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.grid import NOWHERE, Window
from fernfield.work.kernel.commands import StrokeBase
from fernfield.work.kernel.events import Moved
from fernfield.work.kernel.hands.brushwork import Manner, hand_of
from fernfield.work.kernel.hands.sides import beside
from fernfield.work.kernel.hands.strokes import TOO_MUCH, Canvas, InTheWay, StrokeRun
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tiles import Place
from fernfield.work.kernel.writing.ledger import PATIENCE_S, Outcome

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld


def _recorded(run: StrokeRun) -> str:
    """A stroke as the logbook keeps it: the command that would draw it again."""
    path = [astuple(sample) for sample in run.samples] or [(0.0, 0.0, 0.0, 1.0)]
    return json.dumps({"do": "stroke", **run.start.model_dump(mode="json", exclude_none=True), "path": path})


class Arbiter:
    """The strokes of one open world. Every method is called under the world's lock."""

    def __init__(self, world: OpenWorld) -> None:
        self._world: OpenWorld = proxy(world)
        self._manners: dict[int, Manner] = {}

    def begin(self, tract_id: str, start: StrokeBase) -> StrokeRun:
        world = self._world
        tract, land = world.tract(tract_id), world.land_from(tract_id)
        manner = world.house.manner(world, tract_id, start)
        grid = replace(tract.grid, west=land.origin[0], south=land.origin[1])
        canvas = Canvas(tract_id, tract.cache, grid, beside(land), world.holds, world.lock)
        run = StrokeRun(start, canvas, hand_of(manner, canvas))
        self._manners[run.serial] = manner
        return run

    def extend(self, run: StrokeRun, samples: Sequence[Sample]) -> Window:
        """Draw more of a stroke. While an earlier stroke is in the way, the samples are only kept."""
        if run.ended:
            raise Conflict("the stroke has already ended")
        if run.waits_for is not None:
            run.take(samples)
            if not run.waits_for.ended:
                return NOWHERE
            run.waits_for = None
            return self._draw(run, run.replay, run.replay)
        return self._draw(run, lambda: run.add(samples), run.replay)

    def _draw(self, run: StrokeRun, action: Callable[[], Window], again: Callable[[], Window]) -> Window:
        """Do `action`; when later strokes are in the way take them back and do `again`."""
        while True:
            try:
                window = action()
            except InTheWay as meeting:
                older = [other for other in meeting.others if other.serial < run.serial]
                if older:
                    self._moved(run, run.roll_back())
                    run.waits_for = older[0]
                    return NOWHERE
                for other in meeting.others:
                    self._moved(other, other.roll_back())
                    other.waits_for = run
                # The dabs before the one that failed are in; begin again from the samples.
                self._moved(run, run.roll_back())
                action = again
                continue
            self._moved(run, window)
            return window

    def _moved(self, run: StrokeRun, window: Window) -> None:
        for side in run.sides:
            part = side.own(window)
            if not part.empty:
                self._world.tell(Moved(side.tract_id, run.hand.seen, part))

    def abandon(self, run: StrokeRun) -> None:
        """Take a stroke back as if it had never begun."""
        if not run.ended:
            self._moved(run, run.roll_back())
            self._end(run)

    def _end(self, run: StrokeRun) -> None:
        run.ended = True
        self._manners.pop(run.serial, None)
        self._world.freed.notify_all()

    def finish(self, run: StrokeRun) -> Outcome:
        """Draw the rest, write the revision, and let the tiles go. Waits for a stroke in the way.

        Raises Conflict when that takes longer than PATIENCE_S; the stroke is then taken back.
        """
        if run.ended:
            raise Conflict("the stroke has already ended")
        try:
            self._finish_drawing(run)
            if run.full and run.whole_or_nothing:
                raise InvalidInput(f"{TOO_MUCH}; nothing was changed", "path")
            manner = self._manners[run.serial]
            check = self._world.house.layers(manner.tool.layer).check
            if check is not None:
                check(self._world, run.start.into)
            if manner.still is not None:
                manner.still({place[0] for side in run.sides for place in side.dirty})
            return self._world.ledger.commit_stroke(run, manner.words, _recorded(run))
        except BaseException:
            self._moved(run, run.roll_back())
            raise
        finally:
            self._end(run)

    def _finish_drawing(self, run: StrokeRun) -> None:
        until = time.monotonic() + PATIENCE_S
        drawn = False
        while not drawn:
            while run.waits_for is not None:
                if run.waits_for.ended:
                    run.waits_for = None
                    self._draw(run, run.replay, run.replay)
                elif not self._world.freed.wait(until - time.monotonic()):
                    raise Conflict("another stroke is being drawn in the same place; this one was not kept")
            self._draw(run, run.finish, run.replay_whole)
            drawn = run.waits_for is None

    def ground_under_way(self) -> dict[tuple[str, Place], NDArray[Any]]:
        """The tiles of the ground as they were before the strokes under way."""
        return {
            (side.tract_id, place): tile
            for run in set(self._world.holds.values())
            for side in run.sides
            for place, tile in side.before.items()
            if place[0] == HEIGHT
        }
