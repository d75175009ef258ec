"""Rules for covers as a world keeps them: the list that holds now, and sets of rules with names."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator

from fernfield.core.errors import InvalidInput
from fernfield.work.asking.conditions import RESTS, Condition, Conditions, contradiction
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.rows import ONLY, Collection, Key, Name, NameText, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld

MOST_RULES = 32


class Rule(Row):
    """Puts a cover where all conditions are met. `ragged` tears its edges by noise of `grain_m`."""

    cover: Annotated[Key, Names("covers"), UNASKED]
    name: Annotated[NameText | None, UNASKED] = None
    amount: Annotated[float, Field(ge=0, le=1), Say("Amount", "%", percent=True)] = 1.0
    ragged: Annotated[float, Field(ge=0, le=1), Say("Raggedness", "%", percent=True, under="More")] = 0.0
    grain_m: Annotated[float, Field(ge=0.5, le=1_000), Say("Grain of its edges", "m", under="More")] = 20.0
    seed: Annotated[int, Field(ge=0, le=2**31 - 1), Say("Seed", under="More")] = 1
    off: Annotated[bool, Say("Left out for now", under="More")] = False
    conditions: Annotated[Conditions, UNASKED] = ()

    @model_validator(mode="after")
    def _can_be_met(self) -> Rule:
        clash = contradiction(self.conditions)
        if clash is not None:
            raise InvalidInput(f"the rule for {self.cover} contradicts itself: {clash}", "conditions")
        return self


Rules = Annotated[tuple[Rule, ...], Field(max_length=MOST_RULES)]


class CoverRules(Row):
    """Collection "cover-rules", key "world": read from top to bottom, each takes its part of what those above left."""

    rules: Annotated[Rules, UNASKED] = ()


class RuleSet(Row):
    """Collection "rule-sets": rules with a name, to be kept, and put into this or another world."""

    name: Name
    rules: Annotated[Rules, UNASKED] = ()


def _words(row: CoverRules) -> str:
    return f"Set {len(row.rules)} rules for covers" if len(row.rules) != 1 else "Set one rule for covers"


COVER_RULES = Collection(
    "cover-rules", CoverRules, "rules for covers", only=ONLY, first=CoverRules(), pictured="look",
    words=_words, told=True,
)  # fmt: skip
RULE_SETS = Collection("rule-sets", RuleSet, "set of rules", most=64, told=True, loose=True)


def conditions_of(world: OpenWorld) -> list[Condition]:
    """Every condition that is asked now."""
    return [condition for rule in world.only(COVER_RULES).rules if not rule.off for condition in rule.conditions]


def rests_on(world: OpenWorld) -> set[str]:
    """The collections a change of which moves covers by rule."""
    return {RESTS[condition.what] for condition in conditions_of(world) if condition.what in RESTS}


def drains(world: OpenWorld) -> bool:
    """Whether a rule asks how wet the ground is: then what is raised here changes what lies far off."""
    return any(condition.what == "wetness" for condition in conditions_of(world))
