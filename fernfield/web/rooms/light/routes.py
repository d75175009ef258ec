"""The Light stage's panel."""

from __future__ import annotations

from fernfield.web.kernel.panels import Panel
from fernfield.work.light.rows import LIGHT, Light

PANEL = Panel("light", lambda asked: {"Light": Light, "light": asked.world.only(LIGHT)}, script=True)
