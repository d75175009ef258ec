"""Places by name."""

from __future__ import annotations

from fernfield.work.kernel.rooms import Room
from fernfield.work.plots.rows import LINES, PLOTS, SYMMETRY

ROOM = Room("plots", collections=(PLOTS, LINES, SYMMETRY))
