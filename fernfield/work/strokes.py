"""A stroke as scripts, pages and the demo say it: its fields come from the tools that the rooms declare."""

from __future__ import annotations

import itertools
import math
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import Field, create_model, model_validator

from fernfield.core.brush.pace import dab_gap, dab_step
from fernfield.core.brush.tool import Tool
from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.grid import Grid
from fernfield.work.kernel.commands import LONGEST_STROKE_S, MOST_POINTS, PathPoint, StrokeBase
from fernfield.work.kernel.hands.brushwork import Manner
from fernfield.work.kernel.hands.strokes import StrokeRun
from fernfield.work.kernel.jobs import Job, JobKind
from fernfield.work.kernel.posts.layers import HEIGHT, Layer
from fernfield.work.kernel.rows import Key
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.ledger import volume_words
from fernfield.work.plots.keep import KeepTo, kept_by
from fernfield.work.plots.rows import SYMMETRY
from fernfield.work.rooms import ROOMS

TOOLS: dict[str, Tool] = {tool.name: tool for room in ROOMS for tool in room.tools}


def _own_fields() -> dict[str, Any]:
    """The fields that belong to single tools, as the tools declare them; which range holds is checked by the tool."""
    fields: dict[str, Any] = {}
    for tool in TOOLS.values():
        for setting in tool.settings:
            of = f"{setting.label} of {tool.label}"
            if setting.name in fields:
                of = f"{fields[setting.name][1].description}; {of}"
            kind: Any = Annotated[str, Field(max_length=60)] if setting.worded else int if setting.whole else float
            fields[setting.name] = (kind | None, Field(default=None, description=of))
        if tool.subject:
            of = f"the {tool.subject} of {', '.join(t.name for t in TOOLS.values() if t.subject == tool.subject)}"
            fields[tool.subject] = (Key | None, Field(default=None, description=of))
    return fields


if TYPE_CHECKING:

    class ToolFields(StrokeBase):
        target_m: float | None = None
        cover: Key | None = None
        mix: Key | None = None
        target_per_ha: float | None = None

else:
    ToolFields = create_model("ToolFields", __base__=StrokeBase, **_own_fields())

SUBJECTS = sorted({tool.subject for tool in TOOLS.values() if tool.subject})
OWN = sorted({setting.name for tool in TOOLS.values() for setting in tool.settings})
SHEETED = [tool.name for tool in TOOLS.values() if tool.sheeted]


def _either(names: list[str]) -> str:
    """Names as a message lists them: "paint, veil or blotch"."""
    return " or ".join(part for part in (", ".join(names[:-1]), names[-1]) if part)


class StrokeStart(ToolFields):
    """A stroke without its path. `strength` is m/s for raise, lower, flatten and roughen, else percent per second.

    Besides the settings of its tool, every stroke may carry the form of its brush (`shape`,
    `turn_deg`, `turn_by`, `tip`), the `sheet` that a ground tool works into (left out: the
    base), and what it keeps to. `cover` is for paint, take_away, veil, speckle and blotch, `mix` for
    sow, thin and clear, which work on the `kinds` of it that are said (left out: on all).
    """

    sheet: Key | None = None
    kinds: Annotated[list[Key] | None, Field(max_length=16)] = None
    keep_to: KeepTo | None = None

    @model_validator(mode="before")
    @classmethod
    def _laid_at_once(cls, values: Any) -> Any:
        """Tools that lay a whole path have no radius, softness and strength of their own."""
        named = values.get("tool") if isinstance(values, dict) else None
        tool = TOOLS.get(named) if isinstance(named, str) else None
        if tool is not None and tool.lay is not None:
            return {"radius_m": 1.0, "softness": 0.0, "strength": 1.0, **values}
        return values

    @model_validator(mode="after")
    def _fits_its_tool(self) -> StrokeStart:
        tool = TOOLS.get(self.tool)
        if tool is None:
            raise InvalidInput(f"tool must be one of {', '.join(TOOLS)}, not {self.tool!r}", "tool")
        own = {setting.name: setting for setting in tool.settings}
        for field in OWN:
            value = getattr(self, field)
            if value is not None and field not in own:
                tools = [t.name for t in TOOLS.values() if field in t.first]
                raise InvalidInput(f"{field} goes with {_either(tools)}, not with {self.tool}", field)
            if value is not None:
                own[field].check(value)
        for field in SUBJECTS:
            given = getattr(self, field) is not None
            if given and tool.subject != field:
                tools = [t.name for t in TOOLS.values() if t.subject == field]
                raise InvalidInput(f"{field} goes with {_either(tools)}, not with {self.tool}", field)
            if not given and tool.subject == field:
                raise InvalidInput(f"{self.tool} needs {field}", field)
        if self.kinds is not None and tool.subject != "mix":
            words = _either([t.name for t in TOOLS.values() if t.subject == "mix"])
            raise InvalidInput(f"kinds goes with {words}, not with {self.tool}", "kinds")
        if self.sheet is not None and not tool.sheeted:
            raise InvalidInput(f"sheet goes with {_either(SHEETED)}, not with {self.tool}", "sheet")
        return self

    @property
    def into(self) -> str | None:
        return self.sheet

    @property
    def subject(self) -> str | None:
        """Which cover or mix it works with."""
        field = TOOLS[self.tool].subject
        return getattr(self, field) if field else None

    @property
    def own(self) -> dict[str, Any]:
        """The settings of its tool, with their first values where they are left out."""
        first = TOOLS[self.tool].first
        given = {name: getattr(self, name) for name in first}
        return {name: first[name] if value is None else value for name, value in given.items()}


class Stroke(StrokeStart):
    """A whole stroke: `path` is [x m, y m, seconds] of the pointer, in order of time, and a pen's pressure if any."""

    do: Literal["stroke"] = "stroke"
    path: Annotated[list[PathPoint], Field(min_length=1, max_length=MOST_POINTS)]

    @model_validator(mode="after")
    def _time_runs_forward(self) -> Stroke:
        times = [point[2] for point in self.path]
        for before, after in itertools.pairwise(times):
            if after < before:
                raise InvalidInput(f"times in a path must not run backwards: {after} s after {before} s", "path")
        if times[-1] - times[0] > LONGEST_STROKE_S:
            words = f"a stroke lasts at most {LONGEST_STROKE_S:g} s, not {times[-1] - times[0]:g} s"
            raise InvalidInput(words, "path")
        return self

    @property
    def begins(self) -> StrokeStart:
        return StrokeStart(**self.model_dump(exclude={"path", "do"}))


def manner_of(world: OpenWorld, tract_id: str, said: StrokeBase) -> Manner:
    """Everything about a stroke that is settled before its first sample: what it asks for by name is found."""
    start = said if isinstance(said, StrokeStart) else StrokeStart(**said.model_dump())
    tool, land = TOOLS[start.tool], world.land_from(tract_id)
    layer, ground = world.house.layers(tool.layer), world.house.layers(HEIGHT)
    if layer.check is not None:
        layer.check(world, start.into)
    values = start.own
    for setting in tool.settings:
        if setting.picture:
            values[setting.name] = world.picture(values[setting.name])
    masks = layer.touched(world, tool, start.subject) if layer.touched is not None else ()
    manner = Manner(
        start,
        tool,
        stroke_words,
        {**values, "turn_deg": start.turn_deg, **(layer.told(world, start) if layer.told is not None else {})},
        masks,
        layer.seen,
        None if start.tip is None else world.picture(start.tip),
        kept_by(world, land, start.keep_to),
        world.only(SYMMETRY).images(),
        still=partial(_check_still_there, world, layer, tool, start.subject),
        under=None if layer.under is None else layer.under(world, land),
    )
    if ground.bounds is None:
        return manner
    low, high = ground.bounds(world)
    return replace(manner, lowest=low, highest=high)


def _check_still_there(world: OpenWorld, layer: Layer, tool: Tool, subject: str | None, changed: set[str]) -> None:
    """Raises NotFound or Conflict when the subject of a stroke, or a layer that it changed, has gone since it began."""
    if layer.touched is None:
        return
    now = {name for name, _ in layer.touched(world, tool, subject)}
    gone = sorted(name.partition(":")[2] for name in changed - now)
    if gone:
        words = f"{' and '.join(gone)} went, or was hidden, while this stroke was drawn on it"
        raise Conflict(f"{words}; nothing of the stroke was kept")


def stroke_words(run: StrokeRun, cut_m3: float, fill_m3: float) -> str:
    """What a stroke did, for the logbook."""
    start = run.start
    assert isinstance(start, StrokeStart)
    tool, own = TOOLS[start.tool], start.own
    what = f" {start.subject}" if start.subject else ""
    by = f" by {own['by']}" if own.get("by") in ("cut", "fill") else ""
    kind = f" with {own['kind']}" if "kind" in own else ""
    size = f", radius {start.radius_m:g} m"
    if tool.lay is not None:
        facts = run.progress()
        size = f", {facts['length_m']:.0f} m at {facts['percent']:.1f} %" if "percent" in facts else ""
    volumes = volume_words(cut_m3, fill_m3)
    return f"{tool.label}{what}{by}{kind}{size}" + (f": {volumes}" if volumes else "")


MOST_AT_ONCE = 500_000_000
"""Posts that a stroke may work on while whoever sent it waits for the answer; one with more is a job."""


def work_of(stroke: Stroke, grid: Grid) -> float:
    """How many posts a stroke works on, each as often as it is worked on: the brush's area times its dabs."""
    xs, ys = [x for x, *_ in stroke.path], [y for _, y, *_ in stroke.path]
    side = 2 * stroke.radius_m / grid.spacing
    if TOOLS[stroke.tool].lay is not None:
        wide, deep = ((max(v) - min(v)) / grid.spacing + side for v in (xs, ys))
        return min(wide, float(grid.cols)) * min(deep, float(grid.rows))
    length = sum(math.dist(a[:2], b[:2]) for a, b in itertools.pairwise(stroke.path))
    seconds = stroke.path[-1][2] - stroke.path[0][2]
    dabs = 1 + length / dab_gap(stroke.radius_m) + seconds / dab_step(side / 2)
    return dabs * min(side, float(grid.cols)) * min(side, float(grid.rows))


def draw_stroke(job: Job, world: OpenWorld, tract_id: str, stroke: Stroke) -> dict[str, Any]:
    """A stroke that takes long, beside the rest."""
    words = f"{TOOLS[stroke.tool].label}: drawing the stroke"
    return dict(world.stroke(tract_id, stroke, lambda done: job.step(0.95 * done, words)).public())


STROKE = JobKind("stroke", "Drawing a stroke", draw_stroke)
