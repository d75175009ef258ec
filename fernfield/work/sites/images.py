"""What follows a placed row under the world's symmetry: whichever of its images is moved, the others follow."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, TypeVar

from pydantic import BaseModel

from fernfield.core.brush.symmetry import Image
from fernfield.work.kernel.declared import by_far, named_in, placed, renamed, spots_of
from fernfield.work.kernel.edits import Planned, plainly
from fernfield.work.kernel.posts.lands import joined_to
from fernfield.work.kernel.posts.tracts import JOINS, PLACES
from fernfield.work.kernel.rows import Change, Collection, Look, Plan, Row
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import SYMMETRY

IMAGE_MARK = "--"
"""Between the key of a row and the number of its image under a symmetry."""
MOST_TEAMS = 8
APART = ("parts", "groups", "scatters", "kit", "assemblies", "covers", "moods")
"""Collections whose rows have no images: what names one of them names the same in each image."""

P = TypeVar("P", bound=Row)
B = TypeVar("B", bound=BaseModel)


def images_of(key: str, row: Any, look: Look) -> list[tuple[int, str, dict[str, Any]]]:
    """The images of a row: their numbers (0: itself, where one of its images was moved), their keys, and what is
    different of them: where they lie, name, and teams, which go on by one from image to image. [m, °]"""
    copies = look.only(SYMMETRY).images()
    if not copies:
        return []
    if hasattr(row, "tract"):
        at = look.need(PLACES, look.tract_or_first(row.tract))
        copies = [image.seen_at(at.x, at.y) for image in copies]
    root, _, mark = key.partition(IMAGE_MARK)
    number = int(mark) if mark.isdigit() and int(mark) <= len(copies) else 0
    back = copies[number - 1].back() if number else None
    name = row.name.removesuffix(f" {number + 1}") if number else row.name
    found = []
    for k, copy in enumerate([None, *copies]):
        if k != number:
            said = _teams_on(row, k - number)
            said |= placed(type(row), dict(row), *_by(back, copy))
            said["name"] = name if k == 0 else f"{name[:76]} {k + 1}"
            found.append((k, f"{root}{IMAGE_MARK}{k}" if k else root, said))
    return found


def _by(
    back: Image | None, copy: Image | None
) -> tuple[Callable[[float, float], tuple[float, float]], Callable[[float], float]]:
    """How places and bearings of one image are those of another."""

    def place(x: float, y: float) -> tuple[float, float]:
        for image in (back, copy):
            x, y = image.place(x, y) if image is not None else (x, y)
        # Rounding may put it on the border a hair beyond it.
        return round(x, 6) + 0.0, round(y, 6) + 0.0

    def bearing(degrees: float) -> float:
        for image in (back, copy):
            degrees = image.bearing(degrees) if image is not None else degrees
        return round(degrees, 6) % 360

    return place, bearing


def _teams_on(row: BaseModel, by: int) -> dict[str, Any]:
    """The fields of a model that say a team, there or in its parts, so many teams on."""
    found: dict[str, Any] = {}
    for name in type(row).model_fields:
        value = getattr(row, name)
        if name in ("team", "for_team"):
            new: Any = None if value is None else (value - 1 + by) % MOST_TEAMS + 1
        elif isinstance(value, tuple):
            new = tuple(_on(one, by) if isinstance(one, BaseModel) else one for one in value)
        else:
            new = _on(value, by) if isinstance(value, BaseModel) else value
        if new != value:
            found[name] = new
    return found


def _on(row: B, by: int) -> B:
    return row.model_copy(update=_teams_on(row, by))


def at_home(row: P, look: Look) -> P | None:
    """A row in the tract of its land in which it comes to lie; None when it falls outside of all."""
    lying: Any = row
    own, spots = look.tract_or_first(lying.tract), spots_of(row)
    if all(look.grid(own).holds(x, y) for x, y in spots):
        return row
    at = look.need(PLACES, own)
    for tract_id in sorted(joined_to(own, (join for _, join in look.each(JOINS)))):
        place = look.need(PLACES, tract_id)
        east, north = at.x - place.x, at.y - place.y
        if all(look.grid(tract_id).holds(x + east, y + north) for x, y in spots):
            return row.model_copy(update={**placed(type(row), dict(row), by_far(east, north)), "tract": tract_id})
    return None


def image_in(collection: Collection[P], row: P, k: int, said: dict[str, Any], look: Look) -> P | None:
    """An image of a row where it comes to lie, naming the images of what it names; None where it falls outside, or
    nothing of it is another's."""
    image = row.model_copy(update=said)
    keys = {}
    for names, key in named_in(row):
        if names.collection not in APART:
            own = f"{key.partition(IMAGE_MARK)[0]}{IMAGE_MARK}{k}" if k else key.partition(IMAGE_MARK)[0]
            if _there(look, names.collection, own):
                keys[names.collection, key] = own
    image = renamed(image, keys)
    if collection.in_tract:
        return at_home(image, look)
    # What lies nowhere has an image where all that it names has one.
    wanted = {(names.collection, key) for names, key in named_in(row) if names.collection not in APART}
    return image if keys and wanted == set(keys) else None


def _there(look: Look, collection: str, key: str) -> bool:
    return any(one.name == collection and look.get(one, key) is not None for one in look.collections())


def with_images(collection: Collection[P], change: Change[P], look: Look) -> Plan:
    """A row and its images; those that would fall outside the land are left out."""
    made = plainly(collection, change)
    row = change.new or change.old
    followers = 0
    for k, key, said in images_of(change.key, row, look):
        if change.new is None:
            if look.get(collection, key) is not None:
                made.moves[collection.name, key] = None
            continue
        image = image_in(collection, change.new, k, said, look)
        if image is not None:
            made.moves[collection.name, key] = image
            followers += 1
    made.words += f" and {followers} by symmetry" if followers else ""
    return made


def without_image(world: OpenWorld, collections: tuple[Collection[Any], ...]) -> Iterator[tuple[str, Row, str]]:
    """The rows that have no image though one would lie on the land: their collection, row and tract. Under the lock."""
    look = Planned(world)
    if not look.only(SYMMETRY).images():
        return
    for collection in collections:
        for key, row in world.each(collection):
            for k, own, said in images_of(key, row, look):
                if look.get(collection, own) is None and image_in(collection, row, k, said, look) is not None:
                    yield collection.one, row, world.of_tract(getattr(row, "tract", None))
                    break
