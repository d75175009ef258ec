"""The kit of a world: what ships with the application, and the entries that its people made."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Annotated, Any, Literal
from weakref import WeakKeyDictionary

import numpy as np
from pydantic import BeforeValidator, Field, StringConstraints, model_validator
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput
from fernfield.core.sites.kit import (
    BLOCKS,
    MEETS,
    PLAIN,
    TINT_COLOURS,
    Blocks,
    DataField,
    Entry,
    Look,
    Meets,
    Part,
    Shining,
)
from fernfield.core.sites.shipped import KIT
from fernfield.work.bringing.models import model_of
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import Change, Collection, Colour, Key, Name, Plan, Row
from fernfield.work.kernel.rows import Look as Rows
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld

MOST_ENTRIES = 500
FORMS = ("block", "cylinder", "ramp", "stair", "arch")
Measure = Annotated[float, Field(gt=0, le=300)]
ShortText = Annotated[str, StringConstraints(strip_whitespace=True, max_length=60)]
Word = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=30)]


def _words(said: Any) -> Any:
    """Tags may be said as one text with commas, as a form does."""
    return [word for word in (part.strip() for part in said.split(",")) if word] if isinstance(said, str) else said


Tags = Annotated[tuple[Word, ...], BeforeValidator(_words), Field(max_length=12)]


class OwnLook(Row):
    """One way that an entry looks."""

    name: Key
    label: Annotated[Name, Say("Called")]
    colour: Annotated[Colour, Say("Colour")]


class OwnField(Row):
    """What each placed piece says of its own."""

    name: Key
    label: Annotated[Name, Say("Called")]
    sort: Annotated[Literal["number", "text", "tick"], Say("Sort")] = "number"
    unit: Annotated[ShortText, Say("Unit")] = ""
    low: Annotated[float, Field(ge=-1e12, le=1e12), Say("Least")] = 0.0
    high: Annotated[float, Field(ge=-1e12, le=1e12), Say("Most")] = 1e9
    first: Annotated[float | bool | str, UNASKED] = 0.0

    @model_validator(mode="after")
    def _fits(self) -> OwnField:
        check_value(self.field, self.first, "first")
        return self

    @property
    def field(self) -> DataField:
        return DataField(self.name, self.label, self.sort, self.unit, self.low, self.high, self.first)


def check_value(field: DataField, value: object, at: str) -> None:
    """Raises InvalidInput unless a piece may say this of a field."""
    name = field.label
    if field.sort == "number":
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise InvalidInput(f"{name} must be a number, not {value!r}", at)
        if not field.low <= value <= field.high:
            unit = f" {field.unit}" if field.unit else ""
            raise InvalidInput(f"{name} must be {field.low:g} to {field.high:g}{unit}, not {value:g}", at)
    elif field.sort == "tick" and not isinstance(value, bool):
        raise InvalidInput(f"{name} must be true or false, not {value!r}", at)
    elif field.sort == "text" and (not isinstance(value, str) or len(value) > 200):
        raise InvalidInput(f"{name} must be text of at most 200 signs, not {value!r}", at)


class KitEntry(Row):
    """Collection "kit": an entry of the kit that people made: a plain form of stated measures, a shape that was
    brought, or another entry with changes. [m]

    like : a shipped entry that it begins as; what is not said of it is as there
    up : the axis that points up in a shape that was brought; times : how much larger it is made
    """

    name: Annotated[Name, Say("Name")]
    folder: Annotated[ShortText, Say("Folder")] = "Own"
    tags: Annotated[Tags, Say("Tags", hint="with commas")] = ()
    form: Annotated[Literal["block", "cylinder", "ramp", "stair", "arch", "model", "like"], UNASKED] = "block"
    like: Annotated[Key | None, UNASKED] = None
    model: Annotated[Key | None, UNASKED] = None
    up: Annotated[
        Literal["y", "z"],
        Say("Points up", called={"y": "y, as in glTF", "z": "z"}, when="form=model", under="Measures"),
    ] = "y"
    ahead_deg: Annotated[float, Field(ge=-360, le=360), Say("Turn it by", "°", when="form=model", under="Measures")] = (
        0.0
    )
    times: Annotated[float, Field(gt=0, le=10_000), Say("Size times", "×", when="form=model", under="Measures")] = 1.0
    width_m: Annotated[Measure, Say("Width", "m", when="form=block cylinder ramp stair arch", under="Measures")] = 4.0
    depth_m: Annotated[Measure, Say("Depth", "m", when="form=block cylinder ramp stair arch", under="Measures")] = 4.0
    height_m: Annotated[Measure, Say("Height", "m", when="form=block cylinder ramp stair arch", under="Measures")] = 3.0
    colour: Annotated[Colour, Say("Colour", when="form=block cylinder ramp stair arch", under="Measures")] = "#b3a98f"
    blocks: Annotated[
        Blocks | None, Say("What blocks", called=BLOCKS, left_out="as it begins", under="How it stands")
    ] = None
    stood_on: Annotated[bool | None, UNASKED] = None
    meets: Annotated[
        Meets | None, Say("Meets the ground", called=MEETS, left_out="as it begins", under="How it stands")
    ] = None
    sinks_m: Annotated[
        float | None, Field(ge=-10, le=50), Say("Sinks by", "m", left_out="as it begins", under="How it stands")
    ] = None
    margin_m: Annotated[
        float | None,
        Field(ge=0, le=50),
        Say("Growth keeps off", "m", left_out="as it begins", under="The ground around"),
    ] = None
    pad_m: Annotated[
        float | None, Field(ge=0, le=50), Say("Pad around it", "m", left_out="as it begins", under="The ground around")
    ] = None
    shoulder_m: Annotated[
        float | None, Field(ge=0, le=100), Say("Shoulder", "m", left_out="as it begins", under="The ground around")
    ] = None
    overlaps: Annotated[bool | None, UNASKED] = None
    resource: Annotated[bool | None, UNASKED] = None
    looks: Annotated[tuple[OwnLook, ...], Field(max_length=8), UNASKED] = ()
    tints: Annotated[tuple[Colour, ...], Field(max_length=12), UNASKED] = ()
    fields: Annotated[tuple[OwnField, ...], Field(max_length=12), UNASKED] = ()
    lumens: Annotated[float, Field(ge=0, le=1e6), Say("Light", "lm", under="Lamp")] = 0.0
    lamp_over_m: Annotated[float, Field(ge=0, le=300), Say("Light over its foot", "m", under="Lamp")] = 3.0
    lamp_colour: Annotated[Colour, Say("Colour of the light", under="Lamp")] = "#ffd9a0"

    @model_validator(mode="after")
    def _fits(self) -> KitEntry:
        if (self.form == "like") != (self.like is not None):
            raise InvalidInput("like says which entry it begins as, where form is like", "like")
        if self.like is not None and self.like not in KIT:
            raise InvalidInput(f"like must be one of {', '.join(KIT)}, not {self.like!r}", "like")
        if (self.form == "model") != (self.model is not None):
            raise InvalidInput("model says which shape it has, where form is model", "model")
        for what, names in (("looks", [one.name for one in self.looks]), ("fields", [one.name for one in self.fields])):
            if len(set(names)) < len(names):
                raise InvalidInput(f"a name stands twice among the {what}: {', '.join(names)}", what)
        return self


def _plan(change: Change[KitEntry], look: Rows) -> Plan:
    if change.new is not None and change.new.model is not None:
        look.need_model(change.new.model)
    return plainly(KIT_ROWS, change)


KIT_ROWS = Collection(
    "kit", KitEntry, "entry of the kit", told=True, listed_by_room=True, most=MOST_ENTRIES, plan=_plan,
    pictured="look", order=lambda pair: (pair[1].folder, pair[1].name, pair[0]),
    shipped={key: entry.label for key, entry in KIT.items()},
)  # fmt: skip


def entry_of(world: OpenWorld, key: str, row: KitEntry) -> Entry:
    """An entry that people made, as the core knows it. Raises NotFound for a shape that has gone."""
    begins = _begun(world, key, row)
    own: dict[str, Any] = {
        name: value
        for name in (
            "blocks",
            "meets",
            "sinks_m",
            "margin_m",
            "pad_m",
            "shoulder_m",
            "stood_on",
            "overlaps",
            "resource",
        )
        if (value := getattr(row, name)) is not None
    }
    if row.looks:
        first = next(iter(begins.inks), "body")
        own["looks"] = tuple(Look(one.name, one.label, {first: one.colour}) for one in row.looks)
    if row.fields:
        own["fields"] = tuple(one.field for one in row.fields)
    if row.tints:
        own["tints"] = row.tints
    if row.lumens > 0:
        own["shines"] = Shining(row.lamp_over_m, row.lumens, row.lamp_colour)
    return replace(begins, name=key, label=row.name, folder=row.folder, tags=row.tags, **own)


def _begun(world: OpenWorld, key: str, row: KitEntry) -> Entry:
    if row.like is not None:
        return KIT[row.like]
    if row.model is not None:
        return Entry(key, row.name, own=_brought(world, row), tints=TINT_COLOURS, blocks="hull")
    part = KIT[row.form].parts[0]
    sized = Part(part.form, (row.width_m, row.depth_m, row.height_m))
    return replace(KIT[row.form], parts=(sized,), inks={"body": row.colour}, looks=(PLAIN,), tints=TINT_COLOURS)


def _brought(world: OpenWorld, row: KitEntry) -> Any:
    """Corners of a shape that was brought, as it points, turned and sized: see `entry_shape`."""
    brought = model_of(world, row.model or "")
    at = np.asarray(brought.at, np.float64).reshape(-1, 3)
    if row.up == "z":
        # It was read with y up: what it calls y is its depth after all.
        at = np.column_stack([at[:, 0], at[:, 2], -at[:, 1]])
    turn = np.radians(row.ahead_deg)
    at = np.column_stack([
        at[:, 0] * np.cos(turn) + at[:, 1] * np.sin(turn), at[:, 1] * np.cos(turn) - at[:, 0] * np.sin(turn), at[:, 2]
    ])  # fmt: skip
    low, high = at.min(axis=0), at.max(axis=0)
    at = (at - [(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, low[2]]) * row.times
    faces = at.reshape(-1, 3, 3)
    normal = np.cross(faces[:, 1] - faces[:, 0], faces[:, 2] - faces[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
    colour = np.asarray(brought.colour, np.float64)
    if len(colour) != len(at):
        colour = np.repeat(colour, 3, axis=0)
    return np.concatenate([at, np.repeat(normal, 3, axis=0), colour], axis=1).astype(np.float32)


_KNOWN: WeakKeyDictionary[OpenWorld, tuple[tuple[int, ...], dict[str, Entry]]] = WeakKeyDictionary()
_LOCK = threading.Lock()


def kit_of(world: OpenWorld) -> Mapping[str, Entry]:
    """Every entry of a world's kit by its key: shipped ones first. One whose shape has gone is left out."""
    now = world.changes_of(KIT_ROWS.name)
    with _LOCK:
        known = _KNOWN.get(world)
    if known is not None and known[0] == now:
        return known[1]
    found = dict(KIT)
    before = {} if known is None else known[1]
    rows = {} if known is None else _ROWS.get(world, {})
    for key, row in world.each(KIT_ROWS):
        if rows.get(key) == row and key in before:
            found[key] = before[key]
            continue
        try:
            found[key] = entry_of(world, key, row)
        except LookupError:
            continue
    with _LOCK:
        _KNOWN[world] = now, found
        _ROWS[world] = dict(world.each(KIT_ROWS))
    return found


_ROWS: WeakKeyDictionary[OpenWorld, dict[str, KitEntry]] = WeakKeyDictionary()
"""What entries were made from: one that is as it was is not made again."""


def piece_of(world: OpenWorld, key: str | None) -> Entry | None:
    """An entry of the kit; None for one that has gone."""
    return kit_of(world).get(key or "")


class LookTold(TypedDict):
    name: str
    label: str


class FieldTold(TypedDict):
    """What each placed piece says of its own; no limits where it is no number."""

    name: str
    label: str
    sort: str
    unit: str
    low: float
    high: float
    first: float | str | bool


class EntryTold(TypedDict):
    """An entry of the kit. [m]

    shipped : it comes with the application; outline : the ground that it takes up, polygons in its own frame (x to its
    right, y ahead); half : half its width and depth; triangles : at its finest, in the middle and from far away
    """

    key: str
    label: str
    folder: str
    tags: list[str]
    shipped: bool
    form: str
    width: float
    depth: float
    height: float
    low: float
    colour: str
    outline: list[list[list[float]]]
    half: list[float]
    blocks: str
    meets: str
    sinks_m: float
    stood_on: bool
    margin_m: float
    pad_m: float
    shoulder_m: float
    overlaps: bool
    resource: bool
    looks: list[LookTold]
    tints: list[str]
    fields: list[FieldTold]
    lumens: float
    triangles: list[int]


def entry_told(world: OpenWorld, entry: Entry) -> EntryTold:
    """An entry as the API tells it."""
    width, depth, height = entry.size
    row = world.get(KIT_ROWS, entry.name)
    return {
        "key": entry.name,
        "label": entry.label,
        "folder": entry.folder,
        "tags": list(entry.tags),
        "shipped": row is None,
        "form": "" if row is None else row.form,
        "width": round(width, 3),
        "depth": round(depth, 3),
        "height": round(height, 3),
        "low": round(entry.box[0][2], 3),
        "colour": entry.colour,
        "outline": [np.round(one, 4).tolist() for one in entry.outline],
        "half": [round(width / 2, 4), round(depth / 2, 4)],
        "blocks": entry.blocks,
        "meets": entry.meets,
        "sinks_m": entry.sinks_m,
        "stood_on": entry.stood_on,
        "margin_m": entry.margin_m,
        "pad_m": entry.pad_m,
        "shoulder_m": entry.shoulder_m,
        "overlaps": entry.overlaps,
        "resource": entry.resource,
        "looks": [{"name": look.name, "label": look.label} for look in entry.looks],
        "tints": list(entry.tints),
        "fields": [
            {
                "name": f.name,
                "label": f.label,
                "sort": f.sort,
                "unit": f.unit,
                "low": f.low,
                "high": f.high,
                "first": f.first,
            }
            for f in entry.fields
        ],
        "lumens": 0.0 if entry.shines is None else entry.shines.lumens,
        "triangles": list(entry.triangles[::-1]),
    }


def found_in_kit(world: OpenWorld, find: str = "", folder: str | None = None) -> Iterator[Entry]:
    """The entries of a folder (all when left out) in which each word of `find` stands: in name, tag, folder or size."""
    words = find.lower().split()
    for entry in kit_of(world).values():
        if folder is not None and entry.folder.lower() != folder.lower():
            continue
        size = "x".join(f"{side:.0f}" for side in entry.size)
        told = " ".join((entry.label, entry.name, entry.folder, *entry.tags, size, *_sized(entry))).lower()
        if all(word in told for word in words):
            yield entry


def _sized(entry: Entry) -> tuple[str, ...]:
    """Words for how large it is (our choice): under 2 m, up to 6 m, and beyond."""
    largest = max(entry.size)
    return ("small",) if largest < 2 else ("middling",) if largest < 6 else ("large",)
