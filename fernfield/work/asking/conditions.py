"""Conditions that the land is asked: how high, how steep, how wet, how far from what. Rules and habitats have them."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import combinations
from typing import Annotated, Any, Literal

from pydantic import ConfigDict, Field, model_validator

from fernfield.core.cover.rules import WHATS, check_limits
from fernfield.core.errors import InvalidInput
from fernfield.core.light.shade import REACH_M
from fernfield.core.sites.shipped import KIT
from fernfield.work.kernel.declared import AllOrNone, Names
from fernfield.work.kernel.rows import Key, Row
from fernfield.work.plots.rows import LINES, PLOTS

MOST_CONDITIONS = 8

WhatName = Literal[
    "elevation", "above_water", "slope", "aspect", "curvature", "wetness", "shade", "water_distance", "tide", "noise",
    "plot", "line_distance", "piece_distance", "start_distance", "cover",
]  # fmt: skip
NAMES: dict[str, tuple[str, ...]] = {
    "plot": ("plot",), "line_distance": ("line",), "piece_distance": ("piece", "kit"), "cover": ("cover",),
    "noise": ("size_m", "seed"),
}  # fmt: skip
"""What a condition names besides its limits."""
NEEDED = {"plot": "plot", "line_distance": "line", "cover": "cover"}

REACHING = ("water_distance", "shade")
"""What is asked of the ground around a post, as far as `reach_of` says."""


class Condition(Row):
    """What a rule asks of a post: between `from` and `to` (left out: no limit on that side), half met at the limits and
    wholly `soft` / 2 inside them. The unit is that of what is asked."""

    model_config = ConfigDict(populate_by_name=True, serialize_by_alias=True)

    what: WhatName
    from_: Annotated[float | None, Field(alias="from")] = None
    to: float | None = None
    soft: Annotated[float, Field(ge=0, le=12_000)] = 0.0
    plot: Annotated[Key | None, Names("plots")] = None
    line: Annotated[Key | None, Names("lines")] = None
    piece: Annotated[Key | None, Names("things")] = None
    kit: Annotated[Key | None, Names("kit", always=KIT)] = None
    cover: Annotated[Key | None, Names("covers")] = None
    size_m: Annotated[float | None, Field(ge=0.5, le=10_000)] = None
    seed: Annotated[int | None, Field(ge=0, le=2**31 - 1)] = None

    @model_validator(mode="after")
    def _fits(self) -> Condition:
        what = WHATS[self.what]
        for name, value in (("from", self.from_), ("to", self.to)):
            if value is not None and not what.least <= value <= what.most:
                words = f"{name} of {self.what} must be {what.least:g} to {what.most:g} {what.unit}"
                raise InvalidInput(f"{words.strip()}, not {value:g}", name)
        if self.from_ is None and self.to is None and self.what != "plot":
            raise InvalidInput(f"{self.what} needs from, to or both", "from")
        check_limits(what, self.from_, self.to)
        own = NAMES.get(self.what, ())
        for name in ("plot", "line", "piece", "kit", "cover", "size_m", "seed"):
            if getattr(self, name) is not None and name not in own:
                raise InvalidInput(f"{name} does not go with {self.what}", name)
        if (need := NEEDED.get(self.what)) is not None and getattr(self, need) is None:
            raise InvalidInput(f"{self.what} needs {need}: whose", need)
        return self

    @property
    def asks(self) -> tuple[Any, ...]:
        """What two conditions have in common that ask the same."""
        return self.what, self.plot, self.line, self.piece, self.kit, self.cover, self.size_m, self.seed

    @property
    def words(self) -> str:
        unit = WHATS[self.what].unit
        low = "" if self.from_ is None else f" from {self.from_:g}"
        high = "" if self.to is None else f" to {self.to:g}"
        return f"{self.what}{low}{high} {unit}".rstrip()


Conditions = Annotated[tuple[Condition, ...], Field(max_length=MOST_CONDITIONS), AllOrNone]

RESTS = {"plot": PLOTS.name, "line_distance": LINES.name, "piece_distance": "things", "start_distance": "things"}
"""The collections that conditions read, besides covers."""


SAID_ONLY = (
    "about", "accepted", "camps", "cues", "decals", "deliveries", "doors", "groups", "guises", "icon", "lamps", "mists",
    "notes", "objectives", "parts", "recipes", "relations", "resources", "rule-sets", "rules", "runs", "sheets",
    "swards", "target", "teams", "walks",
)  # fmt: skip
"""The collections whose rows change nothing of which cover lies where, or what grows there."""


def contradiction(conditions: Iterable[Condition]) -> str | None:
    """Two conditions that no post can meet together, in words."""
    for one, other in combinations(conditions, 2):
        if one.asks != other.asks or WHATS[one.what].around:
            continue
        lows = [c.from_ for c in (one, other) if c.from_ is not None]
        highs = [c.to for c in (one, other) if c.to is not None]
        if lows and highs and max(lows) > min(highs):
            return f"{one.words} and {other.words}"
    return None


def reach_of(condition: Condition) -> float:
    """How far away the land has to be known for it. [m]"""
    if condition.what == "shade":
        return REACH_M
    limits = [value for value in (condition.from_, condition.to) if value is not None]
    return max(limits, default=0.0) + condition.soft / 2


def whats_told() -> dict[str, Any]:
    """What a condition may ask, for a page's script: `named` is the collection that it names one of, in `field`."""
    out = {}
    for name, what in WHATS.items():
        field = NEEDED.get(name, "")
        out[name] = {
            "label": what.label, "unit": what.unit, "least": what.least, "most": what.most, "percent": what.percent,
            "named": RESTS.get(name, "covers") if field else "", "field": field,
        }  # fmt: skip
    return out
