"""The kit: what can be placed. The next piece is one entry here."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class KitPiece:
    """One thing to place.

    name : as the API has it; label : as the page shows it
    width, depth, height : of the box it fills, across, along its facing, and up. [m]
    form : how it is drawn: "house" (with a pitched roof), "block", "shaft" or "mound"
    resource : whether it is something to gather
    colour : of its walls, as #rrggbb
    """

    name: str
    label: str
    width: float
    depth: float
    height: float
    form: str
    colour: str
    resource: bool = False


KIT = {
    piece.name: piece
    for piece in (
        KitPiece("pump_house", "Pump house", 9.0, 12.0, 7.5, "house", "#8d6a52"),
        KitPiece("windpump", "Windpump", 4.5, 4.5, 14.0, "shaft", "#6d6f66"),
        KitPiece("stone_barn", "Stone barn", 10.0, 18.0, 8.0, "house", "#93907f"),
        KitPiece("sluice_gate", "Sluice gate", 8.0, 1.2, 3.2, "block", "#4f4a41"),
        KitPiece("field_wall", "Field wall", 12.0, 0.7, 1.3, "block", "#8a8676"),
        KitPiece("beacon", "Beacon", 3.0, 3.0, 10.0, "shaft", "#7a4b35"),
        KitPiece("spring_head", "Spring head", 3.0, 3.0, 1.2, "mound", "#5f7f86", resource=True),
        KitPiece("peat_stack", "Peat stack", 3.0, 5.0, 1.8, "mound", "#4a3a2c", resource=True),
    )
}

TEAM_MARKS = ("triangle", "square", "ring", "cross", "bar", "diamond", "chevron", "dot")
"""The mark of each team, so that colour is never the only sign."""

TEAM_COLOURS = ("#8a6410", "#27637f", "#a2431f", "#2c6647", "#5b4a86", "#7a2f55", "#3d4a52", "#6b6b1f")
