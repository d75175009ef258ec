"""The one list of rooms, in the order of the work. What a room brings, it declares in its own `room.py`."""

from __future__ import annotations

from fernfield.work.cover.room import ROOM as COVER
from fernfield.work.ground.room import ROOM as GROUND
from fernfield.work.growth.room import ROOM as GROWTH
from fernfield.work.handover.room import ROOM as HANDOVER
from fernfield.work.kernel.rooms import Room
from fernfield.work.light.room import ROOM as LIGHT
from fernfield.work.parts.room import ROOM as PARTS
from fernfield.work.plots.room import ROOM as PLOTS
from fernfield.work.sites.room import ROOM as SITES
from fernfield.work.trial.room import ROOM as TRIAL
from fernfield.work.water.room import ROOM as WATER
from fernfield.work.worlds.room import ROOM as WORLDS

ROOMS: tuple[Room, ...] = (WORLDS, PARTS, PLOTS, GROUND, COVER, GROWTH, WATER, LIGHT, SITES, TRIAL, HANDOVER)
