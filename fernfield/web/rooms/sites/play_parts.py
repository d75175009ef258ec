"""The parts of rules and cues as forms: one for each sort of condition, and of what follows."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, get_args

from pydantic import BaseModel

from fernfield.web.kernel.forms import Shown, fields_of
from fernfield.work.kernel.declared import naming
from fernfield.work.sites.play.cues import Comes, Then, When
from fernfield.work.sites.play.rules import Condition

WHEN = {
    "enters": "somebody enters", "leaves": "somebody leaves", "stays": "somebody stays",
    "counted": "a count is reached", "after": "a time has passed", "changes": "an objective changes hands",
    "cued": "another cue goes off",
}  # fmt: skip
THEN = {
    "tell": "say a message", "give": "give", "take": "take away", "open": "open", "close": "close", "light": "lamp on",
    "dark": "lamp off", "appear": "appears", "vanish": "vanishes", "spawn": "guards come", "move": "move them to",
    "mood": "change the light", "sound": "a sound", "count": "count", "end": "end the round",
}  # fmt: skip
WINS = {
    "done": "an objective is done", "every": "every objective of a sort", "gathered": "so much is gathered",
    "last": "no other team is left", "over": "the time is over",
}  # fmt: skip
CALLED = {
    "plots": "Plot",
    "things": "Thing",
    "objectives": "Objective",
    "cues": "Cue",
    "camps": "Camp",
    "moods": "Mood",
}


@dataclass(frozen=True, slots=True)
class PartForm:
    """A form of one sort. picks : fields that are chosen among rows, by their name, collection and label"""

    sort: str
    words: str
    fields: list[Shown]
    picks: list[tuple[str, str, str]] = field(default_factory=list)


def _models(union: Any) -> tuple[type[BaseModel], ...]:
    return get_args(get_args(union)[0])


def _parts(model: type[BaseModel], prefix: str = "") -> Iterator[tuple[str, type[BaseModel]]]:
    """A model and those that are parts of it, each with what stands before its fields' names."""
    yield prefix, model
    for name, info in model.model_fields.items():
        if isinstance(info.annotation, type) and issubclass(info.annotation, BaseModel):
            yield from _parts(info.annotation, f"{prefix}{name}.")


def part_forms(union: Any, words: Mapping[str, str]) -> list[PartForm]:
    """The forms of a union of parts, in the order of their words."""
    found = {}
    for model in _models(union):
        for sort in get_args(model.model_fields["sort"].annotation):
            shown: list[Shown] = []
            picks = []
            for prefix, part in _parts(model):
                left = ("seconds",) if model is Comes and sort != "stays" else ()
                shown += fields_of(part, {}, prefix=prefix, without=("sort", *left))
                for name, own in naming(part).items():
                    if own.names is not None:
                        picks.append((f"{prefix}{name}", own.names.collection, CALLED[own.names.collection]))
            found[sort] = PartForm(sort, words[sort], shown, picks)
    return [found[sort] for sort in words]


def play_forms() -> dict[str, list[PartForm]]:
    return {"when": part_forms(When, WHEN), "then": part_forms(Then, THEN), "wins": part_forms(Condition, WINS)}
