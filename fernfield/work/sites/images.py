"""What follows a placed row under the world's symmetry: whichever of its images is moved, the others follow."""

from __future__ import annotations

from typing import Any, TypeVar

from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.posts.lands import joined_to
from fernfield.work.kernel.posts.tracts import JOINS, PLACES
from fernfield.work.kernel.rows import Change, Collection, Look, Plan, Row
from fernfield.work.plots.rows import SYMMETRY

IMAGE_MARK = "--"
"""Between the key of a row and the number of its image under a symmetry."""
MOST_TEAMS = 8

P = TypeVar("P", bound=Row)


def images_of(key: str, row: Any, look: Look) -> list[tuple[int, str, dict[str, Any]]]:
    """The images of a row that has a place: their numbers (0: itself, where one of its images was moved), their keys,
    and what is different of them: place, bearing, name, and teams, which go on by one from image to image. [m, °]"""
    at = look.need(PLACES, look.tract_or_first(row.tract))
    copies = [image.seen_at(at.x, at.y) for image in look.only(SYMMETRY).images()]
    if not copies:
        return []
    root, _, mark = key.partition(IMAGE_MARK)
    number = int(mark) if mark.isdigit() and int(mark) <= len(copies) else 0
    back = copies[number - 1].back() if number else None
    x, y = back.place(row.x, row.y) if back else (row.x, row.y)
    turn = getattr(row, "turn_deg", None)
    if back and turn is not None:
        turn = back.bearing(turn)
    teams = {name: value for name in ("team", "for_team") if (value := getattr(row, name, None)) is not None}
    name = row.name.removesuffix(f" {number + 1}") if number else row.name
    found = []
    for k, copy in enumerate([None, *copies]):
        if k == number:
            continue
        place = (x, y) if copy is None else copy.place(x, y)
        # Rounding may put it on the border a hair beyond it.
        said: dict[str, Any] = {
            "x": round(place[0], 6) + 0.0, "y": round(place[1], 6) + 0.0,
            "name": name if k == 0 else f"{name[:76]} {k + 1}",
            **{field: (team - 1 - number + k) % MOST_TEAMS + 1 for field, team in teams.items()},
        }  # fmt: skip
        if turn is not None:
            said["turn_deg"] = round(turn if copy is None else copy.bearing(turn), 6) % 360
        found.append((k, f"{root}{IMAGE_MARK}{k}" if k else root, said))
    return found


def at_home(row: P, look: Look) -> P | None:
    """A row in the tract of its land in which it comes to stand; None when it falls outside of all."""
    placed: Any = row
    own = look.tract_or_first(placed.tract)
    if look.grid(own).holds(placed.x, placed.y):
        return row
    at = look.need(PLACES, own)
    for tract_id in sorted(joined_to(own, (join for _, join in look.each(JOINS)))):
        place = look.need(PLACES, tract_id)
        x, y = placed.x + at.x - place.x, placed.y + at.y - place.y
        if look.grid(tract_id).holds(x, y):
            return row.model_copy(update={"x": x, "y": y, "tract": tract_id})
    return None


def with_images(collection: Collection[P], change: Change[P], look: Look) -> Plan:
    """A row and its images; those that would fall outside the land are left out."""
    made = plainly(collection, change)
    row = change.new or change.old
    followers = 0
    for _, key, said in images_of(change.key, row, look):
        if change.new is None:
            if look.get(collection, key) is not None:
                made.moves[collection.name, key] = None
            continue
        image = at_home(change.new.model_copy(update=said), look)
        if image is not None:
            made.moves[collection.name, key] = image
            followers += 1
    made.words += f" and {followers} by symmetry" if followers else ""
    return made
