"""Teams: their marks and colours, and whether two colours can be told apart by whoever sees them."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from fernfield.core.colours import linear_of

MARKS = ("triangle", "square", "ring", "cross", "bar", "diamond", "chevron", "dot")
"""The mark of each team, so that colour is never the only sign."""

COLOURS = ("#ad7f31", "#1b5861", "#802f24", "#2c9e73", "#7935bd", "#848bbd", "#131342", "#330e17")
"""Searched for among colours of our paper's family: none of two is under 26 from the other for anybody in `SEEN_BY`."""

TOLD_APART = 9.0
"""In CIE 1976 L*a*b*: some four times what is just seen (2.3, common practice)."""

SEEN_BY: dict[str, list[list[float]]] = {
    "everybody": [[1, 0, 0], [0, 1, 0], [0, 0, 1]],
    "protanopia": [
        [0.152286, 1.052583, -0.204868],
        [0.114503, 0.786281, 0.099216],
        [-0.003882, -0.048116, 1.051998],
    ],
    "deuteranopia": [
        [0.367322, 0.860646, -0.227968],
        [0.280085, 0.672501, 0.047413],
        [-0.011820, 0.042940, 0.968881],
    ],
    "tritanopia": [
        [1.255528, -0.076749, -0.178779],
        [-0.078411, 0.930809, 0.147602],
        [0.004733, 0.691367, 0.303900],
    ],
}
"""What of linear RGB people see, at full severity: G. M. Machado, M. M. Oliveira and L. A. F. Fernandes (2009),
doi:10.1109/TVCG.2009.113, their table."""

_XYZ = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
"""Linear sRGB to CIE XYZ under D65, IEC 61966-2-1."""


def lab_of(colours: Sequence[str], who: str = "everybody") -> NDArray[np.float64]:
    """CIE 1976 L*a*b* of colours (#rrggbb) as somebody of `SEEN_BY` sees them, shape (n, 3)."""
    screen = np.array([[int(one[i : i + 2], 16) for i in (1, 3, 5)] for one in colours], np.float64) / 255
    seen = np.clip(linear_of(screen) @ np.array(SEEN_BY[who]).T, 0, 1)
    part = seen @ _XYZ.T / _XYZ.sum(axis=1)
    # The cube root, and a straight line near black (CIE 15).
    f = np.where(part > (6 / 29) ** 3, np.cbrt(part), part / (3 * (6 / 29) ** 2) + 4 / 29)
    return np.column_stack([116 * f[:, 1] - 16, 500 * (f[:, 0] - f[:, 1]), 200 * (f[:, 1] - f[:, 2])])


def alike(colours: Sequence[str], least: float = TOLD_APART) -> list[tuple[int, int, str]]:
    """Pairs of colours that somebody cannot tell apart: their numbers, and the first of `SEEN_BY` who cannot."""
    found: dict[tuple[int, int], str] = {}
    for who in SEEN_BY:
        lab = lab_of(colours, who) if colours else np.zeros((0, 3))
        for one, other in combinations(range(len(colours)), 2):
            if float(np.linalg.norm(lab[one] - lab[other])) < least:
                found.setdefault((one, other), who)
    return [(one, other, who) for (one, other), who in sorted(found.items())]
