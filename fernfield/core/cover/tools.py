"""The cover tools, in one list."""

from __future__ import annotations

from fernfield.core.brush.tool import FirstBrush, Tool

COVER = "cover"
"""The sort of layer that says how much of a cover was painted: "cover:" and the cover's key."""

COVER_TOOLS = {
    tool.name: tool
    for tool in (
        Tool(
            "paint", "Paint", "P", "%/s", "take_away", "Lays the cover on, over all that lie under it.", "lays",
            FirstBrush(20, 0.5, 200), layer=COVER, subject="cover", sign=1, steady=True,
        ),
        Tool(
            "take_away", "Take away", "T", "%/s", "paint", "Takes one cover away; what lay under it is there again.",
            "lifts", FirstBrush(20, 0.5, 200), layer=COVER, subject="cover", sign=-1, steady=True,
        ),
    )
}  # fmt: skip
