"""The house: all rooms, and how a stroke is made of what they declare."""

from __future__ import annotations

from fernfield.work.kernel.rooms import House
from fernfield.work.rooms import ROOMS
from fernfield.work.strokes import manner_of

HOUSE = House(ROOMS, manner_of)
