"""Elevation files as the tests read them."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.formats.source import Said
from fernfield.work.kernel.says import Say
from fernfield.work.worlds.intake import Layout, Placing, heights_of, quiet, read_samples


def read_heights(
    path: Path, said: Said | None = None, placing: Placing | None = None, say: Say = quiet
) -> tuple[FloatArray, Layout]:
    """The heights that a file becomes, and how they are laid out. [m]"""
    samples = read_samples(path, said or Said(), path.with_suffix(".samples"), say)
    try:
        with heights_of(samples, placing or Placing(), say) as (heights, plan):
            return np.array(heights), plan
    finally:
        samples.path.unlink()
