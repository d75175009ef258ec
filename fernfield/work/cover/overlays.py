"""What covers show over the plan."""

from __future__ import annotations

from typing import Any

from fernfield.core.drawing.overlays import marked
from fernfield.core.grid import FloatArray, Window
from fernfield.work.cover.rows import COVERS, covers_of
from fernfield.work.cover.shares import met_by, shares_at
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rooms import Laid
from fernfield.work.kernel.world import OpenWorld


def _share(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray | None:
    at = next((at for at, (key, _) in enumerate(covers_of(world)) if key == show.cover), None)
    # A cover may have gone just now: a picture is drawn all the same.
    return None if at is None else shares_at(world, land, window, step)[at].copy()


def _rule(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray | None:
    if show.rule is None or show.rule.cover not in world.rows[COVERS.name]:
        return None
    # Alone, and also where its cover is the base: as a rule for another cover would be.
    return met_by(world, land, window, step, show.rule.model_copy(update={"off": False}))


OVERLAYS = (
    Laid(marked("share", "Share of a cover", "how much of the cover in the hand lies where"), _share),
    Laid(marked("rule", "Rule tried out", "where the rule that is being set is met, alone"), _rule),
)
