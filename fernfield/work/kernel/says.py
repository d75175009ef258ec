"""What a form says of a field: declared beside the field's range, and nowhere else."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True, eq=False)
class Say:
    """How a field is called and filled in; put into `Annotated` beside its range.

    label, unit : as a form shows them
    hint : what it means, where its label does not say it
    called : what its choices are called
    left_out : what leaving it out means
    when : "other=value another": there only when the field `other` has one of these values
    step : of a number; any when left out
    percent : a share of 1 that is typed in percent
    long : a text of several lines
    under : asked seldom, under this heading, which tells what is set there and opens one at a time
    asked : False for a field that no form asks for
    """

    label: str
    unit: str = ""
    hint: str = ""
    called: Mapping[str, str] = field(default_factory=dict)
    left_out: str = ""
    when: str = ""
    step: float | None = None
    percent: bool = False
    long: bool = False
    under: str = ""
    asked: bool = True


UNASKED = Say("", asked=False)
