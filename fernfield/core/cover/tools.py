"""The cover tools, in one list."""

from __future__ import annotations

from fernfield.core.brush.tool import FirstBrush, Tool
from fernfield.core.cover.drag import drag
from fernfield.core.cover.drag import reach as pull
from fernfield.core.cover.patterns import grains, patches
from fernfield.core.cover.soften import reach, soften
from fernfield.core.cover.veil import veil
from fernfield.core.settings import Setting

COVER = "cover"
"""The sort of layer that says how much of a cover was painted: "cover:" and the cover's key."""


def _grained(size: float) -> tuple[Setting, ...]:
    return (
        Setting("grain_m", "Grain", "m", 0.5, 1_000, size),
        Setting("variability", "Variability", "%", 0, 1, 0.5, percent=True),
        Setting("seed", "Seed", "", 0, 2**31 - 1, 1, whole=True),
    )


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
        Tool(
            "veil", "Veil", "W", "%/s", "take_away", "Brings the cover to one share at once, however often you pass.",
            "sets the share", FirstBrush(20, 0.5, 200), layer=COVER, subject="cover", sign=1,
            steady=True, press_masks=veil, timeless=True,
            settings=(Setting("share", "Share", "%", 0, 1, 0.28, percent=True),),
        ),
        Tool(
            "speckle", "Speckle", "S", "%/s", "take_away", "Lays the cover on in scattered grains.", "lays",
            FirstBrush(20, 0.5, 200), layer=COVER, subject="cover", sign=1, steady=True, pattern=grains,
            settings=_grained(6),
        ),
        Tool(
            "soften", "Soften", "F", "%/s", "soften", "Makes the borders between covers as wide as you say.", "softens",
            FirstBrush(20, 0.5, 300), layer=COVER, sign=1, press_masks=soften, reads=reach, looks_back=True,
            settings=(Setting("width_m", "Width", "m", 0.5, 500, 8),),
        ),
        Tool(
            "blotch", "Blotch", "B", "%/s", "take_away", "Lays the cover on in patches, as with a sponge.", "lays",
            FirstBrush(40, 0.5, 200), layer=COVER, subject="cover", sign=1, steady=True, pattern=patches,
            settings=_grained(24),
        ),
        Tool(
            "drag", "Drag", "D", "%/s", "drag", "Pulls what lies there along with the hand, one cover into the next.",
            "pulls", FirstBrush(20, 0.7, 200), layer=COVER, sign=1, press_masks=drag, reads=pull, timeless=True,
            settings=(Setting("hold", "Hold", "%", 0, 1, 0.9, percent=True),),
        ),
        Tool(
            "give_back", "Give back", "I", "%/s", "give_back",
            "Lifts what was laid by hand; what the rules say is there again.", "lifts", FirstBrush(20, 0.5, 200),
            layer=COVER, sign=-1, steady=True,
        ),
    )
}  # fmt: skip
