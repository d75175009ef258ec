"""The Water stage's panel."""

from __future__ import annotations

from fernfield.web.kernel.panels import Panel
from fernfield.work.water.rows import WATER, Water

PANEL = Panel("water", lambda asked: {"Water": Water, "water": asked.world.only(WATER)})
