"""The landforms, in one list: the next is a module beside this and a line here."""

from __future__ import annotations

from fernfield.core.landforms import basin, crags, downs, dunes, fells, fen, gorge, island, moor, plateau, shore

LANDFORMS = {
    module.FORM.name: module.FORM
    for module in (fen, moor, downs, fells, crags, dunes, gorge, shore, island, basin, plateau)
}
