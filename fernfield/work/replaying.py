"""The logbook as a script: the commands in force, one a line, and done once more on the same land or another."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator
from typing import Any

from pydantic import TypeAdapter, ValidationError
from typing_extensions import TypedDict

from fernfield.core.errors import FernError, FormatError, NotFound
from fernfield.store.worlds import WorldStore
from fernfield.work.kernel.commands import Edit
from fernfield.work.kernel.many import ChangeMany, RemoveMany, change_many, remove_many
from fernfield.work.kernel.refused import refused
from fernfield.work.kernel.rows import Collection
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.strokes import Stroke

AT_ONCE = 200
MOST_LINES = 20_000
NAMED = re.compile(r'"tract": ?"(\w+)"')
"""A tract that a row says it lies in."""
EDIT: TypeAdapter[Any] = TypeAdapter(Edit)


class Line(TypedDict):
    """A revision of a script: its number and words, the tract that it was done in, and its command."""

    number: int
    words: str
    tract: str | None
    command: dict[str, Any]


LINE: TypeAdapter[Line] = TypeAdapter(Line)


class LeftOut(TypedDict):
    """What was not done once more, and why."""

    number: int
    words: str
    why: str


class Replayed(TypedDict):
    """The revision that a world came to, how many commands were done, and which were not."""

    revision: int
    done: int
    left_out: list[LeftOut]


def script_of(store: WorldStore, world: OpenWorld, first: int, last: int, *, all_of_it: bool) -> Iterator[Line]:
    """The revisions from `first` up to `last`, the oldest first; what was undone and not made again is left out unless
    all is asked for, and so are undoing and making again."""
    taken_back: set[int] = set()
    if not all_of_it:
        for one in _revisions(store, world.id, 1, world.revision):
            if one.sort == "undo" and one.target is not None:
                taken_back.add(one.target)
            elif one.sort == "redo" and one.target is not None:
                taken_back.discard(one.target)
    for one in _revisions(store, world.id, first, last):
        if all_of_it or (one.sort == "edit" and one.number not in taken_back):
            said = store.command(world.id, one.number)
            tracts = sorted({at.tract_id for at in store.changed(world.id, one.number)}) or NAMED.findall(said)[:1]
            tract = tracts[0] if tracts else None
            yield {"number": one.number, "words": one.words, "tract": tract, "command": json.loads(said)}


def _revisions(store: WorldStore, world_id: str, first: int, last: int) -> Iterator[Any]:
    for begin in range(first, last + 1, AT_ONCE):
        upto = min(begin + AT_ONCE - 1, last)
        for one in reversed(store.revisions(world_id, before=upto + 1, most=AT_ONCE)):
            if one.number >= begin:
                yield one


def lines_of(text: Iterable[bytes]) -> list[Line]:
    """A script that came as a file. Raises FormatError for a line that is none."""
    found: list[Line] = []
    for number, line in enumerate(text, 1):
        if not line.strip():
            continue
        if len(found) == MOST_LINES:
            raise FormatError(f"a script has {MOST_LINES:,} lines at most", "file")
        try:
            found.append(LINE.validate_json(line))
        except ValidationError as error:
            raise FormatError(f"line {number} is no command: {_why(error)}", "file") from None
    return found


def replay(world: OpenWorld, lines: list[Line], tract: str | None, east_m: float, north_m: float) -> Replayed:
    """Do commands once more, in their order: each is a revision of its own. What cannot be done here is told.

    tract : where what was done in a tract that this world has not is done; the first when left out
    east_m, north_m : by how much strokes and places of rows are moved
    """
    known = world.tracts
    into = known[tract].row.id if tract is not None else world.first_tract.row.id
    done, left_out = 0, []
    for line in lines:
        was = line["tract"]
        own = was if was is not None and was in known else into
        # Rows name the tract that they lie in.
        command = json.loads(json.dumps(line["command"]).replace(was, own)) if was else line["command"]
        try:
            _do(world, own, command, east_m, north_m)
            done += 1
        except ValidationError as error:
            left_out.append(LeftOut(number=line["number"], words=line["words"], why=_why(error)))
        except FernError as error:
            left_out.append(LeftOut(number=line["number"], words=line["words"], why=str(error)))
    return {"revision": world.revision, "done": done, "left_out": left_out}


def _do(world: OpenWorld, tract: str, command: dict[str, Any], east_m: float, north_m: float) -> None:
    """Raises FernError or ValidationError for what cannot be done."""
    what, body = command.get("do"), {key: value for key, value in command.items() if key != "do"}
    if what == "stroke":
        stroke = Stroke.model_validate(body)
        path = [(x + east_m, y + north_m, *rest) for x, y, *rest in stroke.path]
        world.stroke(tract, stroke.model_copy(update={"path": path}))
    elif what in ("put", "patch", "remove", "together"):
        EDIT.validate_python(command)
        world.edit(EDIT.validate_python(_moved(command, east_m, north_m)))
    elif what == "change_many":
        many = ChangeMany.model_validate(command)
        change_many(world, _collection(world, many.collection), many.ids, many.change)
    elif what == "remove_many":
        gone = RemoveMany.model_validate(command)
        remove_many(world, _collection(world, gone.collection), gone.ids, None)
    else:
        raise FormatError(f"work of the sort {what!r} is not done once more by a script")


def _collection(world: OpenWorld, name: str) -> Collection[Any]:
    found = world.house.collections.get(name)
    if found is None:
        raise NotFound(f"there is no collection {name!r}")
    return found


def _why(error: ValidationError) -> str:
    first = refused(error.errors())[0]
    return f"{first.field}: {first.message}" if first.field else first.message


def _place(point: Any, east_m: float, north_m: float) -> Any:
    """A point moved; what is none stays as it is, to be refused by its row."""
    match point:
        case [int() | float() as x, int() | float() as y, *rest]:
            return [x + east_m, y + north_m, *rest]
    return point


def _moved(command: dict[str, Any], east_m: float, north_m: float) -> dict[str, Any]:
    if not (east_m or north_m):
        return command
    if "edits" in command:
        return {**command, "edits": [_moved(one, east_m, north_m) for one in command["edits"]]}
    row = dict(command.get("row", {}))
    for name, by in (("x", east_m), ("y", north_m)):
        if isinstance(row.get(name), int | float):
            row[name] += by
    if isinstance(row.get("points"), list):
        row["points"] = [_place(one, east_m, north_m) for one in row["points"]]
    return {**command, "row": row} if "row" in command else command
