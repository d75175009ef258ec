"""Forms made from models: what a field is called, what it may be and what leaving it out means come from its own
declaration, and stand nowhere else."""

from __future__ import annotations

import math
import types
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from annotated_types import Ge, Gt, Le, Lt
from pydantic import BaseModel, StringConstraints
from pydantic.fields import FieldInfo

from fernfield.core.settings import Setting
from fernfield.web.kernel.manual import words_for
from fernfield.work.kernel.says import Say

BEYOND = 1e12
"""An end of a range that is only there for the machine's sake: nobody is told of it."""


@dataclass(frozen=True)
class Shown:
    """A field as the macro draws it.

    kind : "number", "text", "long", "choice", "tick" or "colour"
    low, high : of a number; None where there is no end; `open_ends` of them are refused themselves
    choices : value and words; the first may be the empty one, for leaving it out
    when : "other=value another", or nothing
    under, first : the heading that it stands under, which tells what differs from its first value
    """

    name: str
    label: str
    kind: str
    unit: str = ""
    hint: str = ""
    low: float | None = None
    high: float | None = None
    step: str = "any"
    required: bool = True
    value: Any = None
    choices: tuple[tuple[str, str], ...] = ()
    left_out: str = ""
    when: str = ""
    longest: int | None = None
    percent: bool = False
    help: str = ""
    under: str = ""
    first: Any = None
    open_ends: tuple[bool, bool] = (False, False)

    @property
    def text(self) -> str:
        """The value as a form shows it."""
        return self._text(self.value)

    @property
    def numbers(self) -> bool:
        """Whether what is chosen is said as a number."""
        return self.kind == "choice" and isinstance(self.first, int)

    @property
    def first_text(self) -> str:
        return self._text(self.first)

    def _text(self, value: Any) -> str:
        if value is None:
            return ""
        if isinstance(value, bool):
            return "true" if value else ""
        if isinstance(value, float | int):
            return f"{value * (100 if self.percent else 1):.10g}"
        return str(value)

    @property
    def about(self) -> str:
        """What is read out with the field: its range with the unit, how long it may be, what leaving it out means."""
        parts = [self.range or self.unit]
        if self.kind in ("text", "long") and self.longest:
            parts.append(f"at most {self.longest} characters")
        if self.left_out:
            parts.append(f"left out: {self.left_out}")
        elif not self.required and self.kind in ("number", "text", "long"):
            parts.append("may be left out")
        return " ".join(part for part in (self.help, "; ".join(part for part in parts if part)) if part)

    @property
    def range(self) -> str:
        """The range in words, with the unit."""
        low, high = (None if end is None else f"{end:,.10g}".replace("-", "−") for end in (self.low, self.high))
        above, below = self.open_ends
        parts = [
            "" if low is None else f"above {low}" if above else low if high else f"from {low}",
            "" if high is None else f"to below {high}" if below else f"to {high}",
        ]
        return " ".join((*(part for part in parts if part), self.unit)).rstrip() if any(parts) else ""


@dataclass
class _Kind:
    """What an annotation comes to."""

    base: Any = None
    optional: bool = False
    choices: tuple[Any, ...] = ()
    metadata: list[Any] = field(default_factory=list)


def _look_into(annotation: Any, metadata: Iterable[Any]) -> _Kind:
    # Inside of an optional field pydantic leaves its own `Field(...)` as it stands.
    found = _Kind(metadata=[one for m in metadata for one in (m.metadata if isinstance(m, FieldInfo) else [m])])
    if get_origin(annotation) is Annotated:
        base, *more = get_args(annotation)
        return _look_into(base, [*more, *found.metadata])
    if get_origin(annotation) in (Union, types.UnionType):
        parts = [part for part in get_args(annotation) if part is not type(None)]
        inner = _look_into(parts[0], [])
        inner.optional = True
        inner.metadata += found.metadata
        return inner
    if get_origin(annotation) is Literal:
        found.choices = get_args(annotation)
        return found
    found.base = annotation
    return found


def _shown(name: str, info: FieldInfo, prefix: str, values: Mapping[str, Any]) -> Shown | None:
    kind = _look_into(info.annotation, info.metadata)
    say = next((one for one in reversed(kind.metadata) if isinstance(one, Say)), None)
    if say is None or not say.asked:
        return None
    low = next(
        (float(str(getattr(m, "ge", getattr(m, "gt", None)))) for m in kind.metadata if isinstance(m, Ge | Gt)), None
    )
    high = next(
        (float(str(getattr(m, "le", getattr(m, "lt", None)))) for m in kind.metadata if isinstance(m, Le | Lt)), None
    )
    if high is not None and high > BEYOND:
        high = None
    open_ends = (any(isinstance(m, Gt) for m in kind.metadata), any(isinstance(m, Lt) for m in kind.metadata))
    longest = next((m.max_length for m in kind.metadata if isinstance(m, StringConstraints)), None)
    pattern = next((m.pattern for m in kind.metadata if isinstance(m, StringConstraints)), None)
    first = None if info.is_required() else info.get_default(call_default_factory=True)
    value = values.get(name, first)
    choices: tuple[tuple[str, str], ...] = ()
    if kind.choices:
        choices = tuple((str(c), say.called.get(str(c), str(c))) for c in kind.choices)
    elif say.called:
        choices = tuple((key, words) for key, words in say.called.items())
    sort = "text"
    if choices:
        sort = "choice"
        if kind.optional:
            choices = (("", say.left_out or "—"), *choices)
    elif kind.base is bool:
        sort = "tick"
    elif kind.base in (float, int):
        sort = "number"
    elif isinstance(pattern, str) and pattern.startswith("^#"):
        sort = "colour"
    elif say.long:
        sort = "long"
    scale = 100 if say.percent else 1
    return Shown(
        prefix + name, say.label, sort, say.unit, say.hint,
        None if low is None else low * scale, None if high is None else high * scale,
        "1" if kind.base is int else "any" if say.step is None else f"{say.step:g}",
        not kind.optional and (info.is_required() or sort == "number"), value, choices, say.left_out, say.when, longest,
        say.percent, under=say.under, first=first, open_ends=open_ends,
    )  # fmt: skip


def fields_of(
    model: type[BaseModel],
    values: BaseModel | Mapping[str, Any] | None = None,
    *,
    only: Iterable[str] | None = None,
    without: Iterable[str] = (),
    prefix: str = "",
    **also: Any,
) -> list[Shown]:
    """The fields of a model that a form asks for, in their order, filled in with `values` (or as they are at first).

    only, without : some of them; prefix : before their names ("begin."); also : values that differ
    """
    known: dict[str, Any] = dict(values) if values is not None else {}
    known |= also
    names = list(model.model_fields) if only is None else list(only)
    found = []
    for name in names:
        if name in set(without):
            continue
        shown = _shown(name, model.model_fields[name], prefix, known)
        if shown is not None:
            found.append(replace(shown, help=_help_of(model, name)))
    return found


def _help_of(model: type[BaseModel], name: str) -> str:
    """What the manual says of a field; a model that builds on another has its words too."""
    return next((words for of in model.__mro__ if (words := words_for(f"field.{of.__name__}.{name}"))), "")


def field_of(setting: Setting, pictures: Iterable[tuple[str, str]] = (), of: str = "form") -> Shown:
    """A setting of a tool (`of` is "setting" and its name) or of a landform, as a field."""
    choices = tuple(pictures) if setting.picture else tuple((c, setting.called.get(c, c)) for c in setting.choices)
    scale = 100 if setting.percent else 1
    ends = [None if math.isinf(end) else end * scale for end in (setting.low, setting.high)]
    return Shown(
        setting.name, setting.label, "choice" if choices else "number", setting.unit, "", ends[0], ends[1],
        "1" if setting.whole else "any", setting.first is not None, setting.first, choices, setting.left_out,
        percent=setting.percent, help=words_for(f"{of}.{setting.name}"), first=setting.first,
    )  # fmt: skip
