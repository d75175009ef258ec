"""Scatters that were kept follow what changes the ground under them, in a revision that goes with that edit."""

from __future__ import annotations

import math
from collections import Counter
from contextlib import suppress

from fernfield.core.errors import FernError
from fernfield.work.asking.conditions import REACHING, reach_of
from fernfield.work.kernel.events import Touched
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.areas import window_of
from fernfield.work.plots.rows import LINES, PLOTS
from fernfield.work.sites.proposing import place_all
from fernfield.work.sites.rows import THINGS, Piece, Thing
from fernfield.work.sites.scatters import SCATTERS, Scatter, as_rows, scattered

MOST_FOLLOWING = 2_000
"""Pieces of scatters that follow an edit at once: whoever draws waits for it."""
MOST_POSTS_FOLLOWED = 1_025**2
BESIDE_M = 16.0
"""The ground so far beside a scatter counts for its pieces."""
RESTS_ON = frozenset({PLOTS.name, LINES.name, "covers", "cover-rules", "water", "liquids", "pools", "streams"})
"""The rows that the rule of a scatter may rest on, besides what stands."""


def follow_scatters(world: OpenWorld, touched: Touched) -> None:
    """Scatters that were kept follow an edit of the ground, or of what their rules rest on: pieces come, go and turn.
    Those that are as good as they were stay as they are. Under the lock.

    What cannot follow (its rule fails, a stroke is in its way, there is too much of it) stays, and is found by a check.
    """
    if not world.rows[SCATTERS.name] or not (touched.windows or touched.collections & RESTS_ON):
        return
    kept = Counter(
        thing.scatter for thing in world.rows[THINGS.name].values() if isinstance(thing, Piece) and thing.scatter
    )
    left, rows, gone = MOST_FOLLOWING, [], []
    followed: list[str] = []
    for key, row in world.each(SCATTERS):
        # A rule that somebody is still trying is not taken by a stroke.
        if not 0 < kept[key] <= left or row.kept_as != row.rule:
            continue
        with suppress(FernError):
            land = world.land_from(world.of_tract(row.tract))
            if not _is_touched(world, land, row, touched):
                continue
            left -= kept[key]
            own, others = as_rows(world, land, key, row, scattered(world, key, row)[1])
            own = [(one, _as_it_was(world, one, thing)) for one, thing in own]
            own = [(one, thing) for one, thing in own if world.rows[THINGS.name].get(one) != thing]
            if own or others:
                followed.append(row.name)
                rows += own
                gone += others
    if followed:
        with suppress(FernError):
            place_all(world, rows, f"{', '.join(followed)[:200]} followed the ground", "follow", gone)


def _as_it_was(world: OpenWorld, key: str, thing: Thing) -> Thing:
    """A piece that stands where it stood, with all else that was said of it since."""
    was = world.rows[THINGS.name].get(key)
    if not isinstance(was, Piece) or not isinstance(thing, Piece) or was.kit != thing.kit:
        return thing
    place = {name: getattr(thing, name) for name in ("x", "y", "turn_deg", "size", "tilt_deg", "tract")}
    return was.model_copy(update=place)


def _is_touched(world: OpenWorld, land: Land, row: Scatter, touched: Touched) -> bool:
    """Whether an edit changed what a scatter rests on, of one that is not too large to follow at once."""
    window = window_of(world, land, row.area)
    if window.rows * window.cols > MOST_POSTS_FOLLOWED:
        return False
    if touched.collections & RESTS_ON or row.reach:
        return True
    far = max([BESIDE_M, *(reach_of(one) for one in row.conditions if one.what in REACHING)])
    wide = window.pad(math.ceil(far / land.grid.spacing))
    parts = {part.tract.row.id: part for part in land.parts}
    return any(
        not there.shifted(parts[tract_id].row, parts[tract_id].col).meet(wide).empty
        for tract_id, there in touched.windows.items()
        if tract_id in parts
    )
