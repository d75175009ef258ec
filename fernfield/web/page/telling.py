"""What of a revision an open page is told: the rows that changed, and what of its picture does."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection
from typing import Any

from fernfield.work.kernel.events import Revised
from fernfield.work.kernel.rooms import House
from fernfield.work.kernel.world import OpenWorld

MOST_ROWS_TOLD = 2_000
"""More changed rows of one collection than this are not sent, but asked for."""


def rows_told(world: OpenWorld, event: Revised) -> dict[str, Any]:
    """The rows that a revision changed, as the page knows them; where they are very many, which are to be asked for."""
    many = Counter(change.collection for change in event.rows)
    anew = sorted(name for name, count in many.items() if count > MOST_ROWS_TOLD)
    rows = []
    for change in event.rows:
        if change.collection in anew:
            continue
        collection = world.house.collection(change.collection)
        told = None if change.row is None else collection.tell(world, change.key, change.row)
        rows.append({"collection": change.collection, "key": change.key, "row": told})
    return {"rows": rows, "anew": anew}


def cause_of(house: House, changed: Collection[str], rests: Collection[str]) -> str:
    """What of the picture changes with rows of some collections: "look", all of it; "shade", its light alone; "".

    rests : the collections that rules for covers ask
    """
    causes = {house.collection(name).pictured for name in changed}
    return "look" if "look" in causes or set(rests) & set(changed) else "shade" if "shade" in causes else ""
