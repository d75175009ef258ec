"""Openings: posts at which the ground is open, as a mask of 0 to 65,535."""

from __future__ import annotations

OPENING = "opening"
"""The layer that says where the ground is open."""

HOLE = 32_768
"""From so much on (half of the whole) a post is a hole."""
