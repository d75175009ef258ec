"""The Trial stage: nothing of it is kept; a walk asks the other rooms what stands in its way."""

from __future__ import annotations

from fernfield.work.kernel.rooms import Room
from fernfield.work.trial.overlays import OVERLAYS

ROOM = Room("trial", overlays=OVERLAYS)
