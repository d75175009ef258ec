"""What a tool is given: for one dab, and for a whole path at once."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.noise import Spots, plain_spots
from fernfield.core.settings import Values

ANYWHERE = plain_spots(0.0, 0.0, 1.0)


@dataclass(slots=True)
class Pressing:
    """One dab of any form.

    heights : shape (rows, cols), modified; holds the tool's halo around what it may change. [m]
    weights : same shape, 0 to 1; where it is 0 nothing may change
    amount : what strength and time make: metres, or a share
    spacing : between posts [m]
    values : the tool's own settings
    target : elevation of Flatten [m]
    spots : where the posts are, as the stroke's own side of a symmetry sees them
    covered : same shape, modified; how much of its work a stroke has done at each post so far, 0 to 1
    serial : number of the dab in its stroke, to seed what is random
    radius : of the brush [posts]
    """

    heights: FloatArray
    weights: FloatArray
    amount: float
    spacing: float
    values: Values
    target: float = 0.0
    spots: Spots = ANYWHERE
    covered: FloatArray = field(default_factory=lambda: np.zeros((0, 0), np.float32))
    serial: int = 0
    radius: float = 1.0


@dataclass(slots=True)
class MaskPressing:
    """One dab of any form on masks that lie over each other.

    masks : shape (masks, rows, cols), modified; lowest first
    base : whether the work is on the lowest of all, which is also whatever the others leave
    weights : shape (rows, cols), 0 to 1; where it is 0 nothing may change
    amount : the share that strength and time make
    values : the tool's own settings
    spacing : between posts [m]
    before : shape (masks, rows, cols): as they were before the stroke, for a tool that looks back
    at : the number of the mask that is worked on
    pull : how far the hand has come since the dab before, down and right [posts]
    """

    masks: NDArray[np.uint16]
    base: bool
    weights: FloatArray
    amount: float
    values: Values
    spacing: float
    before: NDArray[np.uint16]
    at: int = 0
    pull: tuple[float, float] = (0.0, 0.0)


@dataclass(slots=True)
class Laying:
    """A whole path, for tools that lay their work at once.

    heights : shape (rows, cols), modified [m]
    path : shape (points, 2), row and column in posts of `heights`
    spacing : [m]
    values : the tool's own settings
    began, ended : elevation of the ground at the first and the last point, before the stroke [m]
    turn : how much a symmetry turns this copy, clockwise [°]; `flipped` when it mirrors it
    """

    heights: FloatArray
    path: FloatArray
    spacing: float
    values: Values
    began: float
    ended: float
    turn: float = 0.0
    flipped: bool = False
