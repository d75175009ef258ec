"""The Trial stage: nothing of it is kept; a walk asks the other rooms what stands in its way."""

from __future__ import annotations

from fernfield.work.kernel.rooms import Room

ROOM = Room("trial")
