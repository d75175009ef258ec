"""A map sheet as SVG [1]_, in millimetres of paper: the plan at a scale, with grid, scale bar, north, legend and names.

References
----------
.. [1] W3C, Scalable Vector Graphics 1.1, second edition (2011); ISO 216 for the sizes of paper
"""

from __future__ import annotations

import base64
import math
from collections.abc import Sequence
from dataclasses import dataclass
from xml.sax.saxutils import escape, quoteattr

PAPERS = {"A4": (210, 297), "A3": (297, 420), "A2": (420, 594), "A1": (594, 841), "A0": (841, 1_189)}
"""ISO 216, short and long side. [mm]"""
MARGIN, HEAD, FOOT, SIDE = 10.0, 14.0, 20.0, 46.0
"""Around the sheet, above the map, below it, and for the legend beside it. [mm]"""
NICE = (1, 2, 5)
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


def sheet_svg(
    frame: Frame, scale: float, plan: bytes, title: str, about: str, legend: Sequence[tuple[str, str]],
    names: Sequence[tuple[float, float, str]],
) -> str:  # fmt: skip
    """One sheet. plan : its picture as PNG; legend : colours and what they are; names : east, north and words [m]"""
    x0, y0, x1, y1 = frame.box
    left, top, metre = MARGIN, MARGIN + HEAD, 1_000 / scale
    bottom, right = top + frame.map_tall, left + frame.map_wide
    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" width="{frame.wide:g}mm" '
        f'height="{frame.tall:g}mm" viewBox="0 0 {frame.wide:g} {frame.tall:g}" font-family="sans-serif" '
        'fill="#23302a">',
        f"<title>{escape(title)}</title>",
        f'<rect width="{frame.wide:g}" height="{frame.tall:g}" fill="#ffffff"/>',
        f'<text x="{left}" y="{MARGIN + 6}" font-size="6">{escape(title)}</text>',
        f'<text x="{left}" y="{MARGIN + 11}" font-size="3">{escape(about)}</text>',
        f'<image x="{left}" y="{top}" width="{frame.map_wide:.4f}" height="{frame.map_tall:.4f}" '
        f'preserveAspectRatio="none" xlink:href="data:image/png;base64,{base64.b64encode(plan).decode()}"/>',
        '<g class="grid" stroke="#23302a" stroke-width="0.1" stroke-opacity="0.5" font-size="2.4">',
    ]  # fmt: skip
    step = nice(50 / metre)
    for k in range(math.ceil(x0 / step), math.floor(x1 / step) + 1):
        x = left + (k * step - x0) * metre
        out.append(f'<path d="M{x:.3f} {top}V{bottom:.3f}"/><text x="{x:.3f}" y="{bottom + 3:.3f}" stroke="none" '
                   f'text-anchor="middle">{k * step:g}</text>')  # fmt: skip
    for k in range(math.ceil(y0 / step), math.floor(y1 / step) + 1):
        y = bottom - (k * step - y0) * metre
        out.append(f'<path d="M{left} {y:.3f}H{right:.3f}"/><text x="{right + 1:.3f}" y="{y + 0.8:.3f}" stroke="none">'
                   f"{k * step:g}</text>")  # fmt: skip
    out.append(f'</g><rect x="{left}" y="{top}" width="{frame.map_wide:.4f}" height="{frame.map_tall:.4f}" '
               'fill="none" stroke="#23302a" stroke-width="0.3"/><g class="names" font-size="2.8">')  # fmt: skip
    for x, y, words in names:
        if x0 <= x <= x1 and y0 <= y <= y1:
            px, py = left + (x - x0) * metre, bottom - (y - y0) * metre
            out.append(f'<circle cx="{px:.3f}" cy="{py:.3f}" r="0.6"/><text x="{px + 1.2:.3f}" y="{py + 1:.3f}" '
                       f'stroke="#ffffff" stroke-width="0.8" paint-order="stroke">{escape(words)}</text>')  # fmt: skip
    out.append("</g>")
    out += _legend(frame, legend)
    out += _scale_bar(frame, scale, metre)
    return "".join(out) + "</svg>\n"


def _legend(frame: Frame, legend: Sequence[tuple[str, str]]) -> list[str]:
    x, y = frame.wide - MARGIN - SIDE + 12, MARGIN + HEAD
    out = [f'<g class="legend" font-size="3"><path d="M{x + 4} {y + 10}V{y}l-2 4h4l-2 -4" fill="none" stroke="#23302a" '
           f'stroke-width="0.4"/><text x="{x + 8}" y="{y + 4}">north</text>']  # fmt: skip
    for number, (colour, words) in enumerate(legend):
        at = y + 16 + 5 * number
        out.append(f'<rect x="{x}" y="{at}" width="6" height="3.4" fill={quoteattr(colour)} stroke="#23302a" '
                   f'stroke-width="0.1"/><text x="{x + 8}" y="{at + 2.8}">{escape(words)}</text>')  # fmt: skip
    return [*out, "</g>"]


def _scale_bar(frame: Frame, scale: float, metre: float) -> list[str]:
    step, x, y = nice(20 / metre), MARGIN, frame.tall - MARGIN - 6
    out = ['<g class="scale" font-size="2.8">']
    for k in range(4):
        fill = "#ffffff" if k % 2 else "#23302a"
        out.append(f'<rect x="{x + k * step * metre:.3f}" y="{y}" width="{step * metre:.3f}" height="1.6" '
                   f'fill="{fill}" stroke="#23302a" stroke-width="0.2"/>')  # fmt: skip
    for k in range(5):
        out.append(f'<text x="{x + k * step * metre:.3f}" y="{y + 5}" text-anchor="middle">{k * step:g}</text>')
    words = f"metres · 1 : {scale:,.0f}" + (f" · sheet {frame.page} of {frame.pages}" if frame.pages > 1 else "")
    return [*out, f'<text x="{x + 4 * step * metre + 6:.3f}" y="{y + 1.6}">{words}</text></g>']
