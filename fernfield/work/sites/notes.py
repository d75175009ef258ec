"""Notes: words pinned to a place, for those who work on the world; no player sees them."""

from __future__ import annotations

from typing import Annotated

from pydantic import StringConstraints

from fernfield.work.kernel.rows import Collection, Colour, East, Facing, North, TractId
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.parts.rows import Parted

Text = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=500)]


class Note(Parted):
    """Collection "notes": text at a place in a tract, the first when left out. x east, y north [m]

    facing : which way somebody looked who pinned it while walking [°]
    """

    text: Annotated[Text, Say("Text", long=True)]
    x: Annotated[East, Say("East", "m")]
    y: Annotated[North, Say("North", "m")]
    colour: Annotated[Colour, Say("Colour")] = "#a2431f"
    done: Annotated[bool, Say("Done")] = False
    facing: Annotated[Facing | None, UNASKED] = None
    tract: Annotated[TractId | None, UNASKED] = None

    @property
    def title(self) -> str:
        return self.text.partition("\n")[0][:40]


NOTES = Collection("notes", Note, "note", in_tract=True, packed=True, most=5_000)
