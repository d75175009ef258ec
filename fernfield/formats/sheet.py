"""A map sheet, in millimetres of paper: the plan at a scale, with grid, figures of contours, scale bar, north, legend
and names; drawn as SVG [1]_ and as PDF.

References
----------
.. [1] W3C, Scalable Vector Graphics 1.1, second edition (2011); ISO 216 for the sizes of paper
"""

from __future__ import annotations

import base64
import io
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

PAPERS = {"A4": (210, 297), "A3": (297, 420), "A2": (420, 594), "A1": (594, 841), "A0": (841, 1_189)}
"""ISO 216, short and long side. [mm]"""
MARGIN, HEAD, FOOT, SIDE = 10.0, 14.0, 20.0, 46.0
"""Around the sheet, above the map, below it, and for the legend beside it. [mm]"""
NICE = (1, 2, 5)
INK, PAPER = "#23302a", "#ffffff"
MM = 72 / 25.4
"""Points of a PDF in a millimetre."""
Box = tuple[float, float, float, float]


@dataclass(frozen=True, slots=True)
class Frame:
    """A sheet: its paper [mm], the map's place on it, what of the land it shows [m], and which of how many it is."""

    wide: float
    tall: float
    map_wide: float
    map_tall: float
    box: Box
    page: int
    pages: int


def frames_of(land: Box, scale: float, paper: str) -> list[Frame]:
    """The sheets that show a land x0, y0, x1, y1 [m] at 1 : `scale`, from the north-west, lying on their long side."""
    short, long = PAPERS[paper]
    most_wide, most_tall = long - 2 * MARGIN - SIDE, short - 2 * MARGIN - HEAD - FOOT
    metre = 1_000 / scale
    x0, y0, x1, y1 = land
    cols, rows = (
        max(1, math.ceil((side * metre - 1e-6) / most)) for side, most in ((x1 - x0, most_wide), (y1 - y0, most_tall))
    )
    wide, tall = most_wide / metre, most_tall / metre
    found = []
    for row in range(rows):
        for col in range(cols):
            west, north = x0 + col * wide, y1 - row * tall
            box = west, max(y0, north - tall), min(x1, west + wide), north
            found.append(
                Frame(
                    long,
                    short,
                    (box[2] - box[0]) * metre,
                    (box[3] - box[1]) * metre,
                    box,
                    row * cols + col + 1,
                    rows * cols,
                )
            )
    return found


def nice(most: float) -> float:
    """The largest of 1, 2 and 5 with zeros that is no larger."""
    ten = 10.0 ** math.floor(math.log10(most))
    return max(n * ten for n in NICE if n * ten <= most)


@dataclass(frozen=True, slots=True)
class Lines:
    """A path through places of the paper; filled, or drawn so wide. [mm]"""

    at: tuple[tuple[float, float], ...]
    width: float = 0.0
    fill: str | None = None
    faint: bool = False


@dataclass(frozen=True, slots=True)
class Words:
    """Words with their foot at a place, from there on or about it, turned clockwise [°], on a rim of paper or not."""

    at: tuple[float, float]
    size: float
    text: str
    middle: bool = False
    turn: float = 0.0
    rim: bool = False


@dataclass(frozen=True, slots=True)
class Dot:
    at: tuple[float, float]
    radius: float


Mark = Lines | Words | Dot


@dataclass(frozen=True, slots=True)
class Sheet:
    """What is drawn on one sheet: the plan as PNG, in its place, and the marks on it, the first lowest."""

    frame: Frame
    title: str
    plan: bytes
    marks: tuple[Mark, ...]


def _box(x: float, y: float, wide: float, tall: float, fill: str | None, width: float) -> Lines:
    return Lines(((x, y), (x + wide, y), (x + wide, y + tall), (x, y + tall), (x, y)), width, fill)


def sheet_of(
    frame: Frame, scale: float, plan: bytes, title: str, about: str, legend: Sequence[tuple[str, str]],
    names: Sequence[tuple[float, float, str]], figures: Sequence[tuple[float, float, float, str]] = (),
) -> Sheet:  # fmt: skip
    """One sheet. plan : its picture as PNG; legend : colours and what they are; names : east, north and words [m];
    figures : of contours: east, north [m], turn clockwise [°] and words"""
    x0, y0, x1, y1 = frame.box
    left, top, metre = MARGIN, MARGIN + HEAD, 1_000 / scale
    bottom, right = top + frame.map_tall, left + frame.map_wide

    def on(x: float, y: float) -> tuple[float, float]:
        return left + (x - x0) * metre, bottom - (y - y0) * metre

    marks: list[Mark] = [Words((left, MARGIN + 6), 6, title), Words((left, MARGIN + 11), 3, about)]
    step = nice(50 / metre)
    for k in range(math.ceil(x0 / step), math.floor(x1 / step) + 1):
        x, _ = on(k * step, y0)
        marks += [Lines(((x, top), (x, bottom)), 0.1, faint=True), Words((x, bottom + 3), 2.4, f"{k * step:g}", True)]
    for k in range(math.ceil(y0 / step), math.floor(y1 / step) + 1):
        _, y = on(x0, k * step)
        marks += [Lines(((left, y), (right, y)), 0.1, faint=True), Words((right + 1, y + 0.8), 2.4, f"{k * step:g}")]
    marks.append(_box(left, top, frame.map_wide, frame.map_tall, None, 0.3))
    for x, y, turn, words in figures:
        marks.append(Words(on(x, y), 2.0, words, True, turn, rim=True))
    for x, y, words in names:
        if x0 <= x <= x1 and y0 <= y <= y1:
            px, py = on(x, y)
            marks += [Dot((px, py), 0.6), Words((px + 1.2, py + 1), 2.8, words, rim=True)]
    return Sheet(frame, title, plan, (*marks, *_legend(frame, legend), *_scale_bar(frame, scale, metre)))


def _legend(frame: Frame, legend: Sequence[tuple[str, str]]) -> Iterable[Mark]:
    x, y = min(MARGIN + frame.map_wide + 20, frame.wide - MARGIN - SIDE + 12), MARGIN + HEAD
    yield Lines(((x + 4, y + 10), (x + 4, y), (x + 2, y + 4), (x + 6, y + 4), (x + 4, y)), 0.4)
    yield Words((x + 8, y + 4), 3, "north")
    for number, (colour, words) in enumerate(legend):
        at = y + 16 + 5 * number
        yield _box(x, at, 6, 3.4, colour, 0.1)
        yield Words((x + 8, at + 2.8), 3, words)


def _scale_bar(frame: Frame, scale: float, metre: float) -> Iterable[Mark]:
    step, x, y = nice(20 / metre), MARGIN, frame.tall - MARGIN - 6
    for k in range(4):
        yield _box(x + k * step * metre, y, step * metre, 1.6, PAPER if k % 2 else INK, 0.2)
    for k in range(5):
        yield Words((x + k * step * metre, y + 5), 2.8, f"{k * step:g}", True)
    words = f"metres · 1 : {scale:,.0f}" + (f" · sheet {frame.page} of {frame.pages}" if frame.pages > 1 else "")
    yield Words((x + 4 * step * metre + 6, y + 1.6), 2.8, words)


def _svg_mark(one: Mark) -> str:
    if isinstance(one, Dot):
        return f'<circle cx="{one.at[0]:.3f}" cy="{one.at[1]:.3f}" r="{one.radius}"/>'
    if isinstance(one, Lines):
        path = "M" + "L".join(f"{x:.4f} {y:.4f}" for x, y in one.at)
        faint = ' stroke-opacity="0.5"' if one.faint else ""
        return f'<path d="{path}" fill="{one.fill or "none"}" stroke="{INK}" stroke-width="{one.width}"{faint}/>'
    x, y = one.at
    rim = f' stroke="{PAPER}" stroke-width="0.8" paint-order="stroke"' if one.rim else ""
    middle = ' text-anchor="middle"' if one.middle else ""
    turn = f' transform="rotate({one.turn:g} {x:.3f} {y:.3f})"' if one.turn else ""
    return f'<text x="{x:.3f}" y="{y:.3f}" font-size="{one.size:g}"{middle}{turn}{rim}>{escape(one.text)}</text>'


def svg_of(sheet: Sheet) -> str:
    """A sheet as SVG, in millimetres."""
    frame = sheet.frame
    return "".join([
        f'<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" width="{frame.wide:g}mm" '
        f'height="{frame.tall:g}mm" viewBox="0 0 {frame.wide:g} {frame.tall:g}" font-family="sans-serif" '
        f'fill="{INK}">',
        f"<title>{escape(sheet.title)}</title>",
        f'<rect width="{frame.wide:g}" height="{frame.tall:g}" fill="{PAPER}"/>',
        f'<image x="{MARGIN}" y="{MARGIN + HEAD}" width="{frame.map_wide:.4f}" height="{frame.map_tall:.4f}" '
        f'preserveAspectRatio="none" xlink:href="data:image/png;base64,{base64.b64encode(sheet.plan).decode()}"/>',
        *(_svg_mark(one) for one in sheet.marks), "</svg>\n",
    ])  # fmt: skip


FONT, FACE = "Archivo", Path(__file__).with_name("archivo.ttf")
"""The face of the pages, as a file that PDF can hold (SIL Open Font License; `web/static/vendor/licences`)."""


def pdf_of(sheets: Iterable[Sheet], title: str) -> bytes:
    """Sheets as the pages of one PDF. The same sheets give the same bytes."""
    from reportlab.lib.utils import ImageReader  # heavy: imported where it is used
    from reportlab.pdfgen.canvas import Canvas

    out = io.BytesIO()
    page = Canvas(out, invariant=1, pageCompression=1)
    page.setTitle(title)
    font = _font()
    for sheet in sheets:
        frame = sheet.frame
        page.setPageSize((frame.wide * MM, frame.tall * MM))
        # From the upper left, in millimetres, as the marks are.
        page.scale(MM, -MM)
        page.translate(0, -frame.tall)
        page.saveState()
        page.translate(MARGIN, MARGIN + HEAD + frame.map_tall)
        page.scale(1, -1)
        page.drawImage(ImageReader(io.BytesIO(sheet.plan)), 0, 0, frame.map_wide, frame.map_tall)
        page.restoreState()
        for one in sheet.marks:
            _pdf_mark(page, one, font)
        page.showPage()
    page.save()
    return out.getvalue()


@cache
def _font() -> str:
    from reportlab.pdfbase.pdfmetrics import registerFont
    from reportlab.pdfbase.ttfonts import TTFont

    registerFont(TTFont(FONT, FACE))
    return FONT


def _pdf_mark(page: Any, one: Mark, font: str) -> None:
    page.saveState()
    page.setStrokeColor(INK)
    page.setStrokeAlpha(0.5 if isinstance(one, Lines) and one.faint else 1)
    page.setFillColor(INK)
    if isinstance(one, Dot):
        page.circle(*one.at, one.radius, stroke=0, fill=1)
    elif isinstance(one, Lines):
        page.setLineWidth(one.width)
        path = page.beginPath()
        path.moveTo(*one.at[0])
        for place in one.at[1:]:
            path.lineTo(*place)
        if one.fill is not None:
            page.setFillColor(one.fill)
        page.drawPath(path, stroke=1, fill=int(one.fill is not None))
    else:
        page.translate(*one.at)
        page.rotate(one.turn)
        page.scale(1, -1)
        draw = page.drawCentredString if one.middle else page.drawString
        page.setFont(font, one.size)
        if one.rim:
            page.setStrokeColor(PAPER)
            page.setLineWidth(0.8)
            draw(0, 0, one.text, mode=1)
        draw(0, 0, one.text, mode=0)
    page.restoreState()
