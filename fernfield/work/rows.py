"""What a world's rows say: names, water, light, covers, tracts and what stands in them."""

from __future__ import annotations

from typing import TypeVar

from fernfield.core.errors import NotFound
from fernfield.work.entries import (
    About,
    Cover,
    Join,
    Light,
    Limits,
    Mix,
    Plot,
    Row,
    Sheet,
    Symmetry,
    Thing,
    TractPlace,
    Water,
)
from fernfield.work.sheeting import sheets_of

R = TypeVar("R", bound=Row)

DRY_M = -20_000.0
"""A sea level that no ground lies under. [m]"""


class WorldRows:
    """Rows by collection and key, and what is read from them."""

    rows: dict[str, dict[str, Row]]

    def row(self, model: type[R], collection: str, key: str) -> R:
        found = self.rows[collection].get(key)
        if not isinstance(found, model):
            known = ", ".join(self.rows[collection]) or "none"
            raise NotFound(f"there is no {key!r} among the {collection} of this world; there is {known}")
        return found

    @property
    def about(self) -> About:
        return self.row(About, "about", "world")

    @property
    def name(self) -> str:
        return self.about.name

    @property
    def sea_level_m(self) -> float:
        return self.row(Water, "water", "sea").sea_level_m

    def sea_of(self, tract_id: str) -> float:
        """The level of the sea in a tract: underground it is dry, however deep. [m]"""
        return DRY_M if self.place_of(tract_id).kind == "underground" else self.sea_level_m

    @property
    def light(self) -> Light:
        return self.row(Light, "light", "sun")

    def covers(self) -> list[tuple[str, Cover]]:
        """Key and cover, the base first."""
        found = [(k, r) for k, r in self.rows["covers"].items() if isinstance(r, Cover)]
        return sorted(found, key=lambda pair: pair[1].position)

    def mixes(self) -> list[tuple[str, Mix]]:
        return [(k, r) for k, r in sorted(self.rows["mixes"].items()) if isinstance(r, Mix)]

    def things(self, tract_id: str | None = None) -> list[tuple[str, Thing]]:
        """Pieces and starts; with a tract, those that stand in it."""
        found = [(k, r) for k, r in sorted(self.rows["things"].items()) if isinstance(r, Thing)]
        return found if tract_id is None else [(k, r) for k, r in found if self.of_tract(r.tract) == tract_id]

    def plots(self, tract_id: str) -> list[tuple[str, Plot]]:
        """The plots of a tract."""
        found = [(k, r) for k, r in sorted(self.rows["plots"].items()) if isinstance(r, Plot)]
        return [(k, r) for k, r in found if self.of_tract(r.tract) == tract_id]

    def joins(self) -> list[tuple[str, Join]]:
        return [(k, r) for k, r in sorted(self.rows["joins"].items()) if isinstance(r, Join)]

    def sheets(self) -> list[tuple[str, Sheet]]:
        """Key and sheet, in their order."""
        return sheets_of(self.rows["sheets"])

    @property
    def symmetry(self) -> Symmetry:
        found = self.rows["symmetry"].get("world")
        return found if isinstance(found, Symmetry) else Symmetry()

    @property
    def limits(self) -> Limits:
        found = self.rows["limits"].get("world")
        return found if isinstance(found, Limits) else Limits()

    def places(self) -> list[tuple[str, TractPlace]]:
        """Id and place of every tract, in their order."""
        found = [(key, row) for key, row in self.rows["tracts"].items() if isinstance(row, TractPlace)]
        return sorted(found, key=lambda pair: (pair[1].position, pair[0]))

    def place_of(self, tract_id: str) -> TractPlace:
        return self.row(TractPlace, "tracts", tract_id)

    def of_tract(self, own: str | None) -> str:
        """The tract that a thing, plot or line belongs to."""
        return own or self.places()[0][0]
