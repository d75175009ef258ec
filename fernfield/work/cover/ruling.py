"""Rules for covers as a world keeps them: the list that holds now, and sets of rules with names."""

from __future__ import annotations

from itertools import combinations
from typing import Annotated, Any, Literal

from pydantic import ConfigDict, Field, model_validator

from fernfield.core.cover.rules import WHATS, check_limits
from fernfield.core.errors import InvalidInput
from fernfield.work.cover.rows import COVERS
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import ONLY, Change, Collection, Key, Look, Name, NameText, Plan, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import LINES, PLOTS

MOST_RULES, MOST_CONDITIONS = 32, 8

WhatName = Literal[
    "elevation", "above_water", "slope", "aspect", "curvature", "wetness", "water_distance", "noise", "plot",
    "line_distance", "piece_distance", "cover",
]  # fmt: skip
NAMES: dict[str, tuple[str, ...]] = {
    "plot": ("plot",), "line_distance": ("line",), "piece_distance": ("piece",), "cover": ("cover",),
    "noise": ("size_m", "seed"),
}  # fmt: skip
"""What a condition names besides its limits."""
NEEDED = {"plot": "plot", "line_distance": "line", "cover": "cover"}


class Condition(Row):
    """What a rule asks of a post: between `from` and `to` (left out: no limit on that side), half met at the limits and
    wholly `soft` / 2 inside them. The unit is that of what is asked."""

    model_config = ConfigDict(populate_by_name=True, serialize_by_alias=True)

    what: WhatName
    from_: Annotated[float | None, Field(alias="from")] = None
    to: float | None = None
    soft: Annotated[float, Field(ge=0, le=12_000)] = 0.0
    plot: Key | None = None
    line: Key | None = None
    piece: Key | None = None
    cover: Key | None = None
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
        for name in ("plot", "line", "piece", "cover", "size_m", "seed"):
            if getattr(self, name) is not None and name not in own:
                raise InvalidInput(f"{name} does not go with {self.what}", name)
        if (need := NEEDED.get(self.what)) is not None and getattr(self, need) is None:
            raise InvalidInput(f"{self.what} needs {need}: whose", need)
        return self

    @property
    def asks(self) -> tuple[Any, ...]:
        """What two conditions have in common that ask the same."""
        return self.what, self.plot, self.line, self.piece, self.cover, self.size_m, self.seed

    @property
    def words(self) -> str:
        unit = WHATS[self.what].unit
        low = "" if self.from_ is None else f" from {self.from_:g}"
        high = "" if self.to is None else f" to {self.to:g}"
        return f"{self.what}{low}{high} {unit}".rstrip()


class Rule(Row):
    """Puts a cover where all conditions are met. `ragged` tears its edges by noise of `grain_m`."""

    cover: Annotated[Key, UNASKED]
    name: Annotated[NameText | None, UNASKED] = None
    amount: Annotated[float, Field(ge=0, le=1), Say("Amount", "%", percent=True)] = 1.0
    ragged: Annotated[float, Field(ge=0, le=1), Say("Raggedness", "%", percent=True)] = 0.0
    grain_m: Annotated[float, Field(ge=0.5, le=1_000), Say("Grain of its edges", "m")] = 20.0
    seed: Annotated[int, Field(ge=0, le=2**31 - 1), Say("Seed")] = 1
    off: Annotated[bool, Say("Left out for now")] = False
    conditions: Annotated[tuple[Condition, ...], Field(max_length=MOST_CONDITIONS), UNASKED] = ()

    @model_validator(mode="after")
    def _can_be_met(self) -> Rule:
        for one, other in combinations(self.conditions, 2):
            if one.asks != other.asks or WHATS[one.what].around:
                continue
            lows = [c.from_ for c in (one, other) if c.from_ is not None]
            highs = [c.to for c in (one, other) if c.to is not None]
            if lows and highs and max(lows) > min(highs):
                raise InvalidInput(
                    f"the rule for {self.cover} contradicts itself: {one.words} and {other.words}", "conditions"
                )
        return self


Rules = Annotated[tuple[Rule, ...], Field(max_length=MOST_RULES)]


class CoverRules(Row):
    """Collection "cover-rules", key "world": read from top to bottom, each takes its part of what those above left."""

    rules: Annotated[Rules, UNASKED] = ()


class RuleSet(Row):
    """Collection "rule-sets": rules with a name, to be kept, and put into this or another world."""

    name: Name
    rules: Annotated[Rules, UNASKED] = ()


def _plan(change: Change[CoverRules], look: Look) -> Plan:
    """Raises NotFound for a rule that names a cover, plot or line that is not there."""
    assert change.new is not None
    for rule in change.new.rules:
        look.need(COVERS, rule.cover)
        for condition in rule.conditions:
            if condition.cover is not None:
                look.need(COVERS, condition.cover)
            if condition.plot is not None:
                look.need(PLOTS, condition.plot)
            if condition.line is not None:
                look.need(LINES, condition.line)
    return plainly(COVER_RULES, change)


def _words(row: CoverRules) -> str:
    return f"Set {len(row.rules)} rules for covers" if len(row.rules) != 1 else "Set one rule for covers"


COVER_RULES = Collection(
    "cover-rules", CoverRules, "rules for covers", only=ONLY, first=CoverRules(), pictured=True, plan=_plan,
    words=_words, told=True,
)  # fmt: skip
RULE_SETS = Collection("rule-sets", RuleSet, "set of rules", most=64, told=True)

RESTS = {"plot": PLOTS.name, "line_distance": LINES.name, "piece_distance": "things"}
"""The collections that conditions read, besides covers."""


def conditions_of(world: OpenWorld) -> list[Condition]:
    """Every condition that is asked now."""
    return [condition for rule in world.only(COVER_RULES).rules if not rule.off for condition in rule.conditions]


def rests_on(world: OpenWorld) -> set[str]:
    """The collections a change of which moves covers by rule."""
    return {RESTS[condition.what] for condition in conditions_of(world) if condition.what in RESTS}


def reach_of(condition: Condition) -> float:
    """How far away a distance has to be known. [m]"""
    limits = [value for value in (condition.from_, condition.to) if value is not None]
    return max(limits, default=0.0) + condition.soft / 2


def drains(world: OpenWorld) -> bool:
    """Whether a rule asks how wet the ground is: then what is raised here changes what lies far off."""
    return any(condition.what == "wetness" for condition in conditions_of(world))
