"""Guises as a world keeps them: which covers, kinds of growth and pieces of the kit stand for which others."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import ConfigDict, Field, model_validator

from fernfield.core.errors import InvalidInput
from fernfield.core.sites.shipped import KIT
from fernfield.work.cover.rows import covers_of
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.rows import Collection, Key, Name, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld


class Exchange(Row):
    """One thing for another."""

    model_config = ConfigDict(populate_by_name=True, serialize_by_alias=True)

    from_: Annotated[Key, Field(alias="from"), UNASKED]
    to: Annotated[Key, UNASKED]

    @model_validator(mode="after")
    def _differ(self) -> Exchange:
        if self.from_ == self.to:
            raise InvalidInput(f"from and to must be two, not both {self.to!r}", "to")
        return self


class CoverExchange(Exchange):
    """One cover for another."""

    from_: Annotated[Key, Field(alias="from"), Names("covers"), UNASKED]
    to: Annotated[Key, Names("covers"), UNASKED]


class KindExchange(Exchange):
    """One kind of growth for another."""

    from_: Annotated[Key, Field(alias="from"), Names("kinds"), UNASKED]
    to: Annotated[Key, Names("kinds"), UNASKED]


class PieceExchange(Exchange):
    """One entry of the kit for another."""

    from_: Annotated[Key, Field(alias="from"), Names("kit", always=KIT), UNASKED]
    to: Annotated[Key, Names("kit", always=KIT), UNASKED]


FEW = Field(max_length=32)


class Guise(Row):
    """Collection "guises": which covers, kinds of growth and pieces of the kit stand for which others, all at once."""

    name: Annotated[Name, Say("Name")]
    covers: Annotated[tuple[CoverExchange, ...], FEW, UNASKED] = ()
    kinds: Annotated[tuple[KindExchange, ...], FEW, UNASKED] = ()
    pieces: Annotated[tuple[PieceExchange, ...], FEW, UNASKED] = ()

    @model_validator(mode="after")
    def _goes_both_ways(self) -> Guise:
        for what, pairs in (("covers", self.covers), ("kinds", self.kinds), ("pieces", self.pieces)):
            for side in ("from_", "to"):
                names = [getattr(pair, side) for pair in pairs]
                if len(set(names)) < len(names):
                    twice = next(name for name in names if names.count(name) > 1)
                    words = f"{twice!r} stands twice on one side of the {what}: a guise could not be set back"
                    raise InvalidInput(words, what)
        if not self.covers and not self.kinds and not self.pieces:
            raise InvalidInput("a guise exchanges at least one cover, kind or piece", "covers")
        return self


GUISES = Collection("guises", Guise, "guise", most=32)


def kinds_in_guise(world: OpenWorld, key: str | None) -> dict[str, str]:
    """Which kind is seen for which, as a guise would have them."""
    guise = world.rows[GUISES.name].get(key or "")
    return {pair.from_: pair.to for pair in guise.kinds} if isinstance(guise, Guise) else {}


def in_guise(world: OpenWorld, key: str | None, colours: list[Any]) -> list[Any]:
    """The colours of all covers as a guise would have them, to be looked at before it is set."""
    guise = world.rows[GUISES.name].get(key or "")
    if not isinstance(guise, Guise):
        return colours
    keys = [name for name, _ in covers_of(world)]
    seen = list(colours)
    for pair in guise.covers:
        if pair.from_ in keys and pair.to in keys:
            seen[keys.index(pair.from_)] = colours[keys.index(pair.to)]
    return seen
