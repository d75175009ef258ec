"""Plots, the level book, kept lines, symmetry, and the world's limits: plain rows, put and removed by key."""

from __future__ import annotations

from typing import Any, Literal

from fastapi import APIRouter

from fernfield.web.api.parts import TheWorld, outcome_json
from fernfield.work.commands import PutRow, RemoveRow, SetLimits, SetSymmetry
from fernfield.work.entries import Key, Level, Limits, Line, Plot, Symmetry

router = APIRouter(prefix="/api/worlds/{world}", tags=["rows"])

Book = Literal["plots", "levels", "lines"]


@router.get("/symmetry")
def get_symmetry(world: TheWorld) -> dict[str, Any]:
    return world.symmetry.model_dump()


@router.put("/symmetry")
def put_symmetry(symmetry: Symmetry, world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.edit(SetSymmetry(symmetry=symmetry)))


@router.get("/limits")
def get_limits(world: TheWorld) -> dict[str, Any]:
    return world.limits.model_dump()


@router.put("/limits")
def put_limits(limits: Limits, world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.edit(SetLimits(limits=limits)))


@router.put("/plots/{key}")
def put_plot(key: Key, plot: Plot, world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.edit(PutRow(book="plots", key=key, row=plot)))


@router.put("/levels/{key}")
def put_level(key: Key, level: Level, world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.edit(PutRow(book="levels", key=key, row=level)))


@router.put("/lines/{key}")
def put_line(key: Key, line: Line, world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.edit(PutRow(book="lines", key=key, row=line)))


@router.get("/{book}")
def list_rows(book: Book, world: TheWorld) -> list[dict[str, Any]]:
    with world.lock:
        return [{"key": key, **row.model_dump()} for key, row in sorted(world.rows[book].items())]


@router.delete("/{book}/{key}")
def remove_row(book: Book, key: Key, world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.edit(RemoveRow(book=book, key=key)))
