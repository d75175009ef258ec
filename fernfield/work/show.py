"""What the plan shows: chosen by whoever looks at it, not a part of the world."""

from __future__ import annotations

from dataclasses import dataclass

from fernfield.work.commands import KeepTo


@dataclass(frozen=True, slots=True)
class Show:
    """What the plan shows. `contour_m` is the interval, 0 for none [m]; `overlays` by name; `keep_to` of the stroke."""

    contour_m: float = 2.0
    water: bool = True
    growth: bool = True
    shadows: bool = True
    overlays: tuple[str, ...] = ()
    keep_to: KeepTo | None = None
