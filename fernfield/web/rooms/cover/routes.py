"""The Cover stage's panel."""

from __future__ import annotations

from typing import Any

from fernfield.core.cover.tools import COVER_TOOLS
from fernfield.web.kernel.panels import Asked, Panel
from fernfield.work.cover.rows import CoverRule, covers_of


def _context(asked: Asked) -> dict[str, Any]:
    covers = covers_of(asked.world)
    # The rules that there are, and the top cover's, which may get one.
    ruled = [(key, cover) for key, cover in covers[1:] if cover.rule is not None or key == covers[-1][0]]
    return {"tools": COVER_TOOLS.values(), "ruled": ruled, "CoverRule": CoverRule}


PANEL = Panel("cover", _context)
