"""What a landform is: a height at every place, from a seed and a few settings in real units."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from fernfield.core.grid import Array, FloatArray
from fernfield.core.noise import PLAIN, Octaves, noise_at
from fernfield.core.settings import Setting, Values


@dataclass(frozen=True, slots=True)
class Ground:
    """Where a landform is made.

    x, y : places, of one shape [m]
    middle, reach : of the whole region, for landforms that have one: (x, y) and half its shorter side [m]
    seed : the same seed gives the same land anywhere
    """

    x: FloatArray
    y: FloatArray
    middle: tuple[float, float]
    reach: float
    seed: int

    def widened(self, times: float) -> Ground:
        """The same land, so many times as wide: slopes become as many times gentler."""
        if times == 1:
            return self
        k = np.float32(times)
        middle = self.middle[0] / times, self.middle[1] / times
        return Ground(self.x / k, self.y / k, middle, self.reach / times, self.seed)

    def noise(
        self, feature: float, count: int, persistence: float = 0.5, lane: int = 0, mode: int = PLAIN,
        *, x: FloatArray | None = None, y: FloatArray | None = None,
    ) -> FloatArray:  # fmt: skip
        """Noise at these places (or at others of the same shape); each `lane` is a field of its own."""
        octaves = Octaves(feature, count, persistence, self.seed * 31 + lane)
        return noise_at(self.x if x is None else x, self.y if y is None else y, octaves, mode)

    def warped(self, feature: float, by: float, lane: int) -> tuple[FloatArray, FloatArray]:
        """The places, pushed about by noise of that size by up to so many metres."""
        east = self.noise(feature, 3, 0.5, lane) * np.float32(by)
        north = self.noise(feature, 3, 0.5, lane + 1) * np.float32(by)
        return (self.x + east).astype(np.float32), (self.y + north).astype(np.float32)


@dataclass(frozen=True, slots=True)
class Suits:
    """What suits a landform: words of covers, the first that a world has; and how full its growth is, 0 to 1.

    Growth stands where it is drier than `above_sea_m` over the sea [m] and flatter than `below_deg` [°].
    """

    covers: tuple[str, ...]
    growth: float
    above_sea_m: float = 0.6
    below_deg: float = 32.0


@dataclass(frozen=True, slots=True)
class Landform:
    """name : as the API has it; label, words : as the page shows them; settings : its own, in real units

    make : heights over the level that the region is made on. [m]
    relief : the setting that says how high it is
    suits : covers and growth that are proposed for it
    bears_deg : how steep it may be at its steep places (one in twenty is steeper) and still be what it is called;
        common practice, from rock slopes, the angle of repose and maps of such land [°]
    widens : whether it can be made wider; not where the region itself is its width
    """

    name: str
    label: str
    words: str
    settings: tuple[Setting, ...]
    make: Callable[[Ground, Values], FloatArray]
    relief: str = "relief_m"
    suits: Suits = Suits((), 0.0)
    bears_deg: float = 60.0
    widens: bool = True

    @property
    def first(self) -> dict[str, float]:
        return {s.name: s.first for s in self.settings}  # type: ignore[misc]


def smooth_step(t: Array) -> FloatArray:
    """0 to 1, level at both ends."""
    t = np.clip(t, 0, 1)
    return np.asarray(t * t * (3 - 2 * t), np.float32)


def relief(first: float, low: float = 0.5, high: float = 3000) -> Setting:
    return Setting("relief_m", "Relief", "m", low, high, first)
