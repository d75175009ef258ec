"""Parts of a world."""

from __future__ import annotations

from fernfield.work.kernel.rooms import Gives, Room
from fernfield.work.parts.rows import PARTS, check_unlocked

ROOM = Room("parts", collections=(PARTS,), gives=Gives(guards=check_unlocked))
