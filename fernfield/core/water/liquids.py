"""Liquids that a pool may hold, in one list: how they look, and what they do to a walker."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Liquid:
    """One liquid.

    colour : as it is seen from above, "#rrggbb"; clear : how much of the ground is seen through a metre of it, 0 to 1
    wade_m : from this depth on it stops a walker; 0 is walked on as ground (ice)
    tag : for whoever plays it: what it does to those who touch it
    """

    name: str
    label: str
    colour: str
    clear: float
    wade_m: float
    tag: str = ""


LIQUIDS: dict[str, Liquid] = {
    liquid.name: liquid
    for liquid in (
        Liquid("water", "Water", "#2e7a9a", 0.72, 1.2),
        Liquid("mud", "Mud", "#6b5a42", 0.05, 0.5, "slows"),
        Liquid("brine", "Brine", "#7f9a86", 0.6, 1.4, "floats"),
        Liquid("hot", "Hot spring", "#8fb6a0", 0.55, 0.3, "burns"),
        Liquid("ice", "Ice", "#cfdee4", 0.25, 0.0, "slides"),
    )
}
"""The next liquid is a line here."""
