"""The settings that belong to one tool: what they are called, what they may be, what they are at first."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from fernfield.core.errors import InvalidInput

Values = Mapping[str, Any]
"""A tool's settings by name."""


@dataclass(frozen=True, slots=True)
class Setting:
    """One setting of a tool.

    name : as the API has it, with its unit at the end
    label, unit : as the bench shows them
    low, high : the range of a number
    first : the value when it is left out; None is a value of its own, which `left_out` explains
    whole : only whole numbers
    choices : the words it may be; no number then
    called : what the choices are called, where their names do not say it
    picture : the key of a picture (its pixels are put in its place before a tool sees it)
    percent : a share of 1 that is typed in percent
    """

    name: str
    label: str
    unit: str = ""
    low: float = -math.inf
    high: float = math.inf
    first: float | str | None = None
    whole: bool = False
    choices: tuple[str, ...] = ()
    picture: bool = False
    left_out: str = ""
    called: Mapping[str, str] = field(default_factory=dict)
    percent: bool = False

    @property
    def worded(self) -> bool:
        return bool(self.choices) or self.picture

    def check(self, value: float | str) -> None:
        """Raises InvalidInput when `value` is not allowed."""
        if self.choices:
            if value not in self.choices:
                raise InvalidInput(f"{self.name} must be {' or '.join(self.choices)}, not {value!r}", self.name)
        elif not self.picture:
            fits = not isinstance(value, str) and math.isfinite(value) and self.low <= value <= self.high
            if not fits or (self.whole and value != int(value)):
                kind = "a whole number " if self.whole else ""
                unit = f" {self.unit}" if self.unit and not self.percent else ""
                words = f"{self.name} must be {kind}{self.low:g} to {self.high:g}{unit}, not {value!r}"
                raise InvalidInput(words, self.name)
