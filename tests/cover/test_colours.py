"""The demo's covers can be told apart, also by people who do not see all colours."""

from __future__ import annotations

import itertools
import json

import cv2
import numpy as np
import pytest

from fernfield.demo.kept import BESIDE, ROWS

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
"""Of linear RGB, at full severity: G. M. Machado, M. M. Oliveira and L. A. F. Fernandes (2009),
doi:10.1109/TVCG.2009.113, their table (values from memory; the rows add up to 1, as they must)."""

TOLD_APART = 9.0
"""In CIE 1976 L*a*b*: some four times what is just seen (2.3, common practice)."""


@pytest.mark.parametrize("who", SEEN_BY)
def test_covers_of_the_demo_are_told_apart(who: str) -> None:
    matrix = np.array(SEEN_BY[who])
    assert matrix.sum(axis=1) == pytest.approx(1, abs=1e-4)
    covers = json.loads((BESIDE / ROWS).read_text(encoding="utf-8"))["rows"]["covers"]
    screen = np.array([[int(row["colour"][i : i + 2], 16) for i in (1, 3, 5)] for row in covers.values()]) / 255
    # The transfer function of sRGB, IEC 61966-2-1.
    linear = np.where(screen <= 0.04045, screen / 12.92, ((screen + 0.055) / 1.055) ** 2.4)
    seen = np.clip(linear @ matrix.T, 0, 1)
    back = np.where(seen <= 0.0031308, seen * 12.92, 1.055 * seen ** (1 / 2.4) - 0.055).astype(np.float32)
    lab = cv2.cvtColor(back[None], cv2.COLOR_RGB2Lab)[0]
    apart = {
        (one, other): float(np.linalg.norm(lab[i] - lab[j]))
        for (i, one), (j, other) in itertools.combinations(enumerate(covers), 2)
    }
    assert min(apart.values()) > TOLD_APART, min(apart, key=lambda pair: apart[pair])
