"""What the shipped kit is put together from: several parts at once, by their measures. [m, °]"""

from __future__ import annotations

import math

from fernfield.core.sites.kit import Part


def posts(
    xs: tuple[float, ...], ys: tuple[float, ...], tall: float, thick: float, *, z: float = 0.0, least: int = 1
) -> tuple[Part, ...]:
    """Upright timbers at all these places."""
    return tuple(Part("box", (thick, thick, tall), (x, y, z), "post", least=least) for x in xs for y in ys)


def planks(width: float, depth: float, z: float, step: float = 0.5) -> tuple[Part, ...]:
    """A deck: one board from far away, many near."""
    count = max(2, round(depth / step))
    run = depth / count
    boards = tuple(
        Part(
            "box",
            (width * (0.96 if k % 3 else 1.0), run * 0.86, 0.07),
            (0.0, -depth / 2 + run * (k + 0.5), z + 0.05),
            "deck",
            least=2,
            firm=False,
        )
        for k in range(count)
    )
    return (Part("box", (width, depth, 0.12), (0.0, 0.0, z), "deck"), *boards)


def sails(
    hub: tuple[float, float, float], long: float, looks: tuple[str, ...], start: float = 28.0
) -> tuple[Part, ...]:
    """Four sails about a hub that looks ahead: a stock each, and a frame of cloth beside it."""
    made = []
    for k in range(4):
        roll = start + 90.0 * k
        made.append(Part("box", (0.28, 0.2, long), hub, "frame", roll_deg=roll, firm=False, looks=looks))
        cos, sin = math.cos(math.radians(roll)), math.sin(math.radians(roll))
        # Beside the stock, from a quarter of it on.
        off, up = 0.75, long * 0.22
        at = (hub[0] + off * cos + up * sin, hub[1] + 0.06, hub[2] + up * cos - off * sin)
        made.append(Part("box", (1.35, 0.08, long * 0.76), at, "sail", roll_deg=roll, firm=False, looks=looks))
    return tuple(made)


def spiked(tall: float, out: float, count: int, ink: str, z: float) -> tuple[Part, ...]:
    """Bars that lean outwards in a ring: the basket of a beacon."""
    return tuple(
        Part("box", (0.09, 0.09, tall), (math.sin(a) * out, math.cos(a) * out, z), ink, pitch_deg=16.0,
             turn_deg=math.degrees(a), least=1, firm=False)
        for a in (2 * math.pi * k / count for k in range(count))
    )  # fmt: skip


def door(x: float, y: float, width: float, height: float, turn: float = 0.0) -> Part:
    return Part("box", (width, 0.12, height), (x, y, 0.0), "door", turn_deg=turn, least=1, firm=False)
