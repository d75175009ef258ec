"""The Trial stage: nothing of it is kept; a walk asks the other rooms what stands in its way."""

from __future__ import annotations

from fernfield.work.kernel.rooms import Room
from fernfield.work.passing.walkers import WALKER_ROWS
from fernfield.work.trial.kept import WALKS
from fernfield.work.trial.overlays import OVERLAYS
from fernfield.work.trial.running import RUNS

ROOM = Room("trial", collections=(WALKER_ROWS, WALKS, RUNS), overlays=OVERLAYS)
