"""The growth tools, in one list."""

from __future__ import annotations

from fernfield.core.brush.tool import FirstBrush, Tool

GROWTH = "growth"
"""The sort of layer that says how full the growth of a mix is: "growth:" and the mix's key."""

GROWTH_TOOLS = {
    tool.name: tool
    for tool in (
        Tool(
            "sow", "Sow", "S", "%/s", "thin", "Puts growth down, up to the mix's full density.", "sows",
            FirstBrush(40, 0.5, 120), layer=GROWTH, subject="mix", sign=1, steady=True,
        ),
        Tool(
            "thin", "Thin", "T", "%/s", "sow", "Takes some of the growth away.", "thins", FirstBrush(40, 0.5, 120),
            layer=GROWTH, subject="mix", sign=-1, steady=True,
        ),
    )
}  # fmt: skip
