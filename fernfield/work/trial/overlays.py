"""What a trial shows over the plan before anybody has walked: when each place is reached, and what never is."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

import numpy as np

from fernfield.core.drawing.overlays import marked
from fernfield.core.errors import FernError
from fernfield.core.grid import FloatArray, Window
from fernfield.core.travel.reach import NOT_REACHED, TRAP
from fernfield.core.travel.walkers import WALKER
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rooms import Laid
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.trial.reaching import From, What, reach_posts

LONGEST_S = 600.0
_ONE = threading.Lock()
"""Many pictures are asked for at once: the first works it out, the others find it."""


def _posts(world: OpenWorld, land: Land, window: Window, step: int, show: Any, what: What) -> FloatArray | None:
    """None where there is nowhere to begin, or the land is too large."""
    try:
        begin = From(walker=show.walker or WALKER)
        return np.asarray(reach_posts(world, land, begin, what, window, step), np.float32)
    except FernError:
        return None


def _ahead(what: What) -> Callable[[OpenWorld, Land, Any], None]:
    """Has the whole land worked out before a picture holds the world."""

    def work_out(world: OpenWorld, land: Land, show: Any) -> None:
        with _ONE:
            _posts(world, land, Window(land.bounds.row0, land.bounds.col0, land.bounds.row0 + 1, land.bounds.col0 + 1),
                   1, show, what)  # fmt: skip

    return work_out


def _minutes(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray | None:
    seconds = _posts(world, land, window, step, show, "seconds")
    if seconds is None:
        return None
    return np.where(np.isfinite(seconds), np.clip(seconds / np.float32(LONGEST_S), 0, 1), 0).astype(np.float32)


def _cut_off(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray | None:
    found = _posts(world, land, window, step, show, "class")
    if found is None:
        return None
    return np.select([found == NOT_REACHED, found == TRAP], [1.0, 0.5], 0.0).astype(np.float32)


OVERLAYS = (
    Laid(marked("minutes", "Time to get there", "how long it takes from the default start to walk to each place",
                f"{LONGEST_S / 60:g} min or more", f"{LONGEST_S / 120:g} min", "at once"), _minutes, _ahead("seconds")),
    Laid(marked("cut_off", "Not reached", "ground that could be walked on and is not reached from the default start; "
                "and ground that one does not come back from", "not reached", "a trap", "reached"),
         _cut_off, _ahead("class")),
)  # fmt: skip
