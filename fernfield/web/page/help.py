"""The help: what every tool, setting, overlay, check and stage is, beside the work (F1) and as a manual (/help)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cache
from html import escape
from typing import Annotated, Any

import numpy as np
from fastapi import Path, Query, Request
from fastapi.responses import Response
from pydantic import BaseModel

from fernfield.core.errors import NotFound, named
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.landforms import LANDFORMS
from fernfield.core.landforms.landform import Landform
from fernfield.core.settings import Setting
from fernfield.web.kernel.forms import fields_of
from fernfield.web.kernel.manual import manual, sources
from fernfield.web.kernel.parts import page
from fernfield.web.kernel.pictures import png_of
from fernfield.web.kernel.routing import Router
from fernfield.web.rooms import PANELS
from fernfield.web.rooms.files.routes import AsTract, AsWorld
from fernfield.work.cover.areas import FillCover, GiveBackCovers, SharpenCovers, SoftenCovers, SwapCover
from fernfield.work.cover.guises import Guise
from fernfield.work.cover.rows import Cover, CoverRule
from fernfield.work.cover.ruling import Rule
from fernfield.work.cover.transitions import Transition, TransitionStep
from fernfield.work.ground.commands import MoveLand, PressFile, Reset, Weather
from fernfield.work.ground.rows import Landscape, Level, Limits, Recipe, Sheet, Weathering
from fernfield.work.growth.areas import GrowArea
from fernfield.work.growth.load import Target
from fernfield.work.growth.rows import Kind, Mix, Part
from fernfield.work.growth.swards import Sward
from fernfield.work.growth.touching import PlantChange
from fernfield.work.handover.deliveries import Delivery
from fernfield.work.handover.findings import Accepted
from fernfield.work.house import HOUSE
from fernfield.work.kernel.posts.tracts import TractPlace
from fernfield.work.light.rows import Lamp, Light, Mist, Mood
from fernfield.work.parts.rows import WorldPart
from fernfield.work.passing.walkers import OwnWalker
from fernfield.work.plots.keep import KeepTo
from fernfield.work.plots.rows import Symmetry
from fernfield.work.seen.trying import compared, formed, overlaid, pair, tried
from fernfield.work.sites.arranging import Arrange
from fernfield.work.sites.assemblies import Assembly
from fernfield.work.sites.decals import Decal
from fernfield.work.sites.groups import Group
from fernfield.work.sites.kit import KitEntry
from fernfield.work.sites.notes import Note
from fernfield.work.sites.play.aims import Camp, Guard, Hold, Objective, Resource
from fernfield.work.sites.play.cues import Cue
from fernfield.work.sites.play.doors import Door, Launch, Way
from fernfield.work.sites.play.rules import Rules
from fernfield.work.sites.play.teams import Team
from fernfield.work.sites.road_ways import FindWay, WayCosts
from fernfield.work.sites.roads import Road
from fernfield.work.sites.rows import Assembled, Piece, Start, Thing, Wall
from fernfield.work.sites.scatters import Scatter
from fernfield.work.strokes import StrokeStart
from fernfield.work.trial.kept import KeptWalk
from fernfield.work.trial.running import Run
from fernfield.work.water.rows import OwnLiquid, Pool, Stream, Water
from fernfield.work.worlds.beginnings import Rim, SeaFloor, WorldSpec
from fernfield.work.worlds.bounding import PutBoundary
from fernfield.work.worlds.intake import Placing, Reading
from fernfield.work.worlds.rows import About
from fernfield.work.worlds.tracts import CropTract, RespaceTract, TractSpec

router = Router(include_in_schema=False)

ABOUT_THE_PAGE = {
    "map": "The map", "keyboard": "The map by keyboard", "bench": "The bench", "section": "The section",
    "altitudes": "The altitude bar", "spot": "The spot", "places": "Places", "undo": "Undo and redo",
    "logbook": "The logbook", "area": "The area in the hand", "sheets": "Sheets", "plots": "Plots",
    "seed": "Land from a seed", "joins": "Joined tracts", "files": "Files in and out",
}  # fmt: skip

FORMS: tuple[tuple[str, tuple[tuple[str, type[BaseModel]], ...]], ...] = (
    ("ground", (
        ("Form of the brush", StrokeStart), ("Keep to", KeepTo), ("Sheet", Sheet), ("Level book", Level),
        ("Symmetry", Symmetry), ("Limits of the ground", Limits), ("Reset", Reset), ("Move land", MoveLand),
        ("Weather", Weather), ("Press a file in", PressFile), ("Land from a seed", Recipe),
        ("Landscape", Landscape), ("Weather of made land", Weathering),
    )),
    ("cover", (
        ("Fill an area", FillCover), ("Swap covers", SwapCover), ("Soften covers", SoftenCovers),
        ("Sharpen covers", SharpenCovers), ("Give covers back", GiveBackCovers), ("Cover", Cover), ("Rule", Rule),
        ("Cover by slope", CoverRule), ("Guise", Guise), ("Transition", Transition),
        ("Step of a transition", TransitionStep),
    )),
    ("growth", (
        ("Sow an area", GrowArea), ("Mix", Mix), ("Kind in a mix", Part), ("Kind", Kind),
        ("Ground cover", Sward), ("Change of plants", PlantChange), ("Target machine", Target),
    )),
    ("water", (("Sea", Water), ("Pool", Pool), ("Stream", Stream), ("Liquid", OwnLiquid))),
    ("light", (("Sun", Light), ("Mood", Mood), ("Lamp", Lamp), ("Bank of mist", Mist))),
    ("handover", (("Accepted finding", Accepted), ("Delivery", Delivery))),
    ("trial", (("Walker", OwnWalker), ("Kept walk", KeptWalk), ("Run", Run))),
    ("sites", (
        ("Anything placed", Thing), ("Piece", Piece), ("Placed assembly", Assembled), ("Wall", Wall), ("Start", Start),
        ("Many at once", Arrange),
        ("Scatter", Scatter), ("Road", Road), ("How a way is found", FindWay), ("What a way costs", WayCosts),
        ("Team", Team), ("Objective", Objective), ("Place to hold", Hold), ("Thing to guard", Guard),
        ("Something to gather", Resource), ("Camp of guards", Camp), ("Door or launching place", Way), ("Door", Door),
        ("Launching place", Launch), ("Part of a world", WorldPart), ("Rules of the world", Rules), ("Cue", Cue),
        ("Group", Group), ("Assembly", Assembly), ("Entry of the kit", KitEntry), ("Decal", Decal), ("Note", Note),
    )),
    ("worlds", (
        ("World", WorldSpec), ("About a world", About), ("Sea floor", SeaFloor), ("Rim", Rim), ("Tract", TractPlace),
        ("New tract", TractSpec), ("Crop or extend", CropTract), ("Another spacing", RespaceTract),
        ("Boundary", PutBoundary), ("Reading a file", Reading), ("Placing a file", Placing),
        ("A file as a world", AsWorld), ("A file as a tract", AsTract),
    )),
)  # fmt: skip
"""Which forms there are, by the part of the manual in which they stand."""


SEEN = {
    "tool": "the ground before as a dashed line, and after",
    "setting": "the ground before as a dashed line, and after with two values of the setting",
    "overlay": "laid over a small plan",
    "landform": "a small plan of it",
    "form": "a small plan with half of it, and one with twice of it",
}
"""What a picture shows, by the table of the manual."""


@dataclass(frozen=True)
class Entry:
    """One text of the help.

    key : as in the manual's file; also its place on the page
    within : what it is a part of ("Grade"), or nothing
    also : what stands beside it: a key, a unit, a range
    pictured : whether there is a picture of it, made by the tool, landform or overlay itself
    """

    key: str
    title: str
    words: str
    within: str = ""
    also: str = ""
    source: str = ""
    pictured: bool = False

    @property
    def picture(self) -> str:
        """Where its picture is."""
        return f"/help/pictures/{self.key}.{'svg' if self.key.startswith(('tool.', 'setting.')) else 'png'}"

    @property
    def seen(self) -> str:
        """What its picture shows, for who does not see it."""
        return f"{self.title}: {SEEN[self.key.partition('.')[0]]}"

    def holds(self, asked: str) -> bool:
        """Whether every asked word is in it somewhere."""
        text = f"{self.title} {self.within} {self.words} {self.also}".lower()
        return all(word in text for word in asked.lower().split())


def _entry(key: str, title: str, within: str = "", also: str = "", pictured: bool = False) -> Entry:
    return Entry(key, title, manual().get(key, ""), within, also, sources().get(key, ""), pictured)


def _stage(name: str) -> Iterator[Entry]:
    yield _entry(f"stage.{name}", name.capitalize(), "Stage")
    room = next(one for one in HOUSE.rooms if one.name == name)
    for tool in room.tools:
        yield _entry(f"tool.{tool.name}", tool.label, "Tool", f"key {tool.key}", pictured=True)
        for setting in tool.settings:
            pictured = pair(tool.name, setting) is not None
            key = f"setting.{tool.name}.{setting.name}"
            yield _entry(key, setting.label, tool.label, setting.unit, pictured=pictured)
    for check in room.checks:
        yield _entry(f"check.{check.name}", check.name.capitalize(), "Check")


def _forms(part: str) -> Iterator[Entry]:
    models = dict(FORMS).get(part, ())
    for title, model in models:
        # What a model has of another one here stands there.
        known = {name for _, base in models if base in model.__mro__[1:] for name in base.model_fields}
        for shown in fields_of(model, without=known):
            yield _entry(f"field.{model.__name__}.{shown.name}", shown.label, title, shown.range or shown.unit)


@cache
def form_settings() -> dict[str, tuple[Landform, Setting]]:
    """Every setting of the landforms by its name, with the first landform that has it."""
    return {s.name: (form, s) for form in reversed(LANDFORMS.values()) for s in form.settings}


@cache
def parts() -> tuple[tuple[str, tuple[Entry, ...]], ...]:
    """The whole manual: its parts in the order of the work, each with its entries."""
    found = [("Getting about", tuple(_entry(f"page.{key}", title) for key, title in ABOUT_THE_PAGE.items()))]
    found += [(panel.name.capitalize(), (*_stage(panel.name), *_forms(panel.name))) for panel in PANELS]
    seed = [_entry(f"landform.{form.name}", form.label, "Landscape", pictured=True) for form in LANDFORMS.values()]
    seed += [_entry(f"form.{n}", s.label, "Landscape", s.unit, pictured=True) for n, (_, s) in form_settings().items()]
    found.append(("Landscapes", tuple(seed)))
    found.append(
        (
            "Overlays",
            tuple(_entry(f"overlay.{o.name}", o.label, "Overlay", pictured=True) for o in HOUSE.overlays.values()),
        )
    )
    others = next(room for room in HOUSE.rooms if room.name == "worlds")
    found.append((
        "Worlds, tracts and files",
        (*_forms("worlds"), *(_entry(f"check.{c.name}", c.name.capitalize(), "Check") for c in others.checks)),
    ))  # fmt: skip
    return tuple(found)


@router.get("/help")
def help_page(request: Request, q: Annotated[str, Query(max_length=80)] = "") -> Response:
    """The manual; with `q`, what of it holds all of those words."""
    found = [(title, [one for one in entries if one.holds(q)]) for title, entries in parts()]
    return page(request, "help.html", asked=q, parts=[(title, entries) for title, entries in found if entries])


@router.get("/help/{key}")
def help_part(request: Request, key: Annotated[str, Path(max_length=80)]) -> Response:
    """What the help sheet shows of one key: the text itself, and what else belongs to it."""
    every = [one for _, entries in parts() for one in entries]
    own = next((one for one in every if one.key == key), None)
    if own is None:
        raise NotFound(f"there is no help for {key!r}; the manual lists what there is")
    table, _, name = key.partition(".")
    of = f"setting.{name}." if table == "tool" else ""
    more = [one for one in every if of and one.key.startswith(of)]
    if table == "stage":
        more = [one for title, entries in parts() if title.lower() == name for one in entries if one.within == "Tool"]
    return page(request, "help_part.html", own=own, more=more)


WIDE, HIGH = 240, 72
DAY = {"Cache-Control": "max-age=86400"}
INK, FERN, RUST = "#1e2925", "#2c6647", "#a2431f"


def _drawn(before: FloatArray, afters: Sequence[tuple[FloatArray, str]], words: Sequence[str] = ()) -> str:
    """An SVG of the ground before, dashed, and after: filled where there is one, a line of each colour else."""
    every = np.concatenate([before, *(after for after, _ in afters)])
    low = float(every.min())
    span = max(float(every.max()) - low, 1e-6)
    top = 20 if words else 8

    def line(values: FloatArray) -> str:
        x = np.linspace(0, WIDE, len(values))
        y = HIGH - 8 - (values - low) / span * (HIGH - 8 - top)
        return " ".join(f"{a:.1f},{b:.1f}" for a, b in zip(x, y, strict=True))

    ground = f'<polygon points="0,{HIGH} {line(afters[0][0])} {WIDE},{HIGH}" fill="#d9d0b8" stroke="{afters[0][1]}"/>'
    others = "".join(
        f'<polyline points="{line(a)}" fill="none" stroke="{colour}" stroke-width="1.5"/>' for a, colour in afters[1:]
    )
    # Beside each other where they fit, else one over the other.
    places = ((6, 13, "start"), (WIDE - 6, 13 if sum(map(len, words)) < 36 else 26, "end"))
    said = "".join(
        f'<text x="{x}" y="{y}" text-anchor="{anchor}" fill="{colour}">{escape(word)}</text>'
        for word, (x, y, anchor), (_, colour) in zip(words, places, afters, strict=bool(words))
    )
    was = INK if words else RUST
    dashed = f'<polyline points="{line(before)}" fill="none" stroke="{was}" stroke-dasharray="5 3"/>'
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDE} {HIGH}" width="{WIDE}" height="{HIGH}"'
        ' font-family="sans-serif" font-size="11">'
        f'<rect width="{WIDE}" height="{HIGH}" fill="#faf8f1"/>{ground}{others}{dashed}{said}</svg>'
    )


def _value(setting: Setting, value: Any) -> str:
    """A value of a setting as a picture says it."""
    if value is None:
        return setting.left_out
    if setting.choices:
        return setting.called.get(value, value)
    return f"{value * 100 if setting.percent else value:g} {setting.unit}".rstrip()


@router.get("/help/pictures/tool.{tool}.svg")
def picture(tool: Annotated[str, Path(max_length=40)]) -> Response:
    """What a tool makes of a piece of ground: before as a dashed line, after as the ground."""
    was = tried(named(HOUSE.tools, "tool", tool))
    return Response(_drawn(was.before, [(was.after, INK)]), media_type="image/svg+xml", headers=DAY)


@router.get("/help/pictures/setting.{tool}.{setting}.svg")
def setting_picture(
    tool: Annotated[str, Path(max_length=40)], setting: Annotated[str, Path(max_length=40)]
) -> Response:
    """What a tool makes of a piece of ground with two values of a setting."""
    found = named(HOUSE.tools, "tool", tool)
    own = named({s.name: s for s in found.settings}, "setting", setting)
    two, values = compared(found, own), pair(tool, own)
    if two is None or values is None:
        raise NotFound(f"there is no picture of {setting!r}")
    afters = [(two[0].after, FERN), (two[1].after, RUST)]
    words = [_value(own, value) for value in values]
    return Response(_drawn(two[0].before, afters, words), media_type="image/svg+xml", headers=DAY)


@router.get("/help/pictures/overlay.{overlay}.png")
def overlay_picture(overlay: Annotated[str, Path(max_length=40)]) -> Response:
    """What an overlay shows on a small plan."""
    return _png(overlaid(named(HOUSE.overlays, "overlay", overlay)))


@router.get("/help/pictures/landform.{form}.png")
def landform_picture(form: Annotated[str, Path(max_length=40)]) -> Response:
    """A small plan of a landform as it is at first."""
    return _png(formed(named(LANDFORMS, "landform", form)))


@router.get("/help/pictures/form.{setting}.png")
def form_picture(setting: Annotated[str, Path(max_length=40)]) -> Response:
    """Two small plans of a landform, with half and with twice of a setting, beside each other."""
    form, own = named(form_settings(), "setting", setting)
    first = float(form.first[own.name])
    half, twice = max(own.low, first / 2), min(own.high, first * 2)
    left, right = (formed(form, {own.name: value}, WIDE // 2 - 1) for value in (half, twice))
    return _png(np.concatenate([left, np.full((HIGH, 2, 3), 250, np.uint8), right], axis=1))


def _png(drawn: ByteArray) -> Response:
    return Response(png_of(drawn), media_type="image/png", headers=DAY)
