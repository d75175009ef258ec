"""What is seen of a world: the overlays that lie over its plan."""

from __future__ import annotations

from fernfield.core.drawing.overlays import OVERLAYS
from fernfield.work.kernel.rooms import Room

ROOM = Room("seen", overlays=tuple(OVERLAYS.values()))
