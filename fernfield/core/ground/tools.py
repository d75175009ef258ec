"""The ground tools, in one list: the next one is a module beside this and a line here."""

from __future__ import annotations

from fernfield.core.brush.brush import Touch
from fernfield.core.brush.pressing import Pressing
from fernfield.core.brush.tool import FirstBrush, Tool
from fernfield.core.grid import FloatArray
from fernfield.core.ground import flatten, grade, imprint, roughen, smooth, weather
from fernfield.core.ground.openings import OPENING
from fernfield.core.ground.raise_lower import lower_in_place, press_down, press_up, raise_in_place
from fernfield.core.settings import Values


def _sigma(radius: float, values: Values, spacing: float) -> float:
    return smooth.detail_posts(radius, values["detail_m"], spacing)


def _press_smooth(p: Pressing) -> None:
    smooth.press_smooth(p, _sigma(p.radius, p.values, p.spacing))


def _quick_raise(heights: FloatArray, touch: Touch, target: float, values: Values, spacing: float) -> None:
    raise_in_place(heights, touch)


def _quick_lower(heights: FloatArray, touch: Touch, target: float, values: Values, spacing: float) -> None:
    lower_in_place(heights, touch)


def _quick_smooth(heights: FloatArray, touch: Touch, target: float, values: Values, spacing: float) -> None:
    smooth.smooth_in_place(heights, touch, _sigma(touch.radius, values, spacing))


def _quick_flatten(heights: FloatArray, touch: Touch, target: float, values: Values, spacing: float) -> None:
    flatten.flatten_in_place(heights, touch, target, values["by"])


GROUND_TOOLS = {
    tool.name: tool
    for tool in (
        Tool(
            "raise", "Raise", "R", "m/s", "lower", "Adds ground under the brush.", "adds", FirstBrush(40, 0.7, 6),
            sheeted=True, press=press_up, quick=_quick_raise,
        ),
        Tool(
            "lower", "Lower", "L", "m/s", "raise", "Takes ground away under the brush.", "takes",
            FirstBrush(40, 0.7, 6),
            sheeted=True, press=press_down, quick=_quick_lower,
        ),
        Tool(
            "smooth", "Smooth", "S", "%/s", "smooth", "Evens out humps and hollows up to the size of detail.",
            "smooths",
            FirstBrush(30, 0.6, 300), sheeted=True, press=_press_smooth, quick=_quick_smooth,
            reads=lambda radius, values, spacing: smooth.halo_posts(radius, values["detail_m"], spacing),
            settings=smooth.SETTINGS, plain=lambda values: values["keep_edges_deg"] is None,
        ),
        Tool(
            "flatten", "Flatten", "F", "m/s", "flatten", "Brings the ground to one elevation, and stops on it.",
            "moves",
            FirstBrush(30, 0.4, 12), sheeted=True, press=flatten.press_flat, quick=_quick_flatten,
            settings=flatten.SETTINGS, aims=flatten.first_target,
        ),
        Tool(
            "roughen", "Roughen", "N", "m/s", "smooth", "Gives the ground a grain, up to the stated height.",
            "roughens",
            FirstBrush(70, 0.6, 6), sheeted=True, press=roughen.roughen, settings=roughen.SETTINGS, covers=True,
        ),
        Tool(
            "weather", "Weather", "E", "%/s", "smooth", "Rain carves channels, frost brings steep ground to rest.",
            "works", FirstBrush(50, 0.6, 100), sheeted=True, steady=True, press=weather.weather,
            settings=weather.SETTINGS,
        ),
        Tool(
            "grade", "Grade", "G", "", "grade", "An even slope from where the drag begins to where it ends.",
            sheeted=True, settings=grade.SETTINGS, lay=grade.lay_grade, area=grade.grade_area, measures=grade.measures,
        ),
        Tool(
            "imprint", "Imprint", "I", "", "imprint", "Presses a grey image into the land; it is set when you let go.",
            sheeted=True, settings=imprint.SETTINGS, lay=imprint.lay_imprint, area=imprint.imprint_area,
        ),
        Tool(
            "open", "Open", "O", "%/s", "close", "Marks posts as a hole: a cave mouth, a well.", "opens",
            FirstBrush(4, 0, 1000), layer=OPENING, sign=1, steady=True,
        ),
        Tool(
            "close", "Close", "K", "%/s", "open", "Closes a hole.", "closes", FirstBrush(6, 0, 1000), layer=OPENING,
            sign=-1, steady=True,
        ),
    )
}  # fmt: skip
