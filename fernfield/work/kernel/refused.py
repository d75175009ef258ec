"""What a model refuses, in our own words: which field, by the label that forms give it, what is allowed, what came.

Nothing of a library's English, no dotted path and no pattern reaches a person. Scripts have the path beside the words.
"""

from __future__ import annotations

import re
import types
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Union, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from fernfield.core.errors import InvalidInput
from fernfield.work.kernel.says import Say

UNIT = re.compile(r"_(m|m2|m3|deg|ha|s|mm|mib|per_ha|per_m2)$")
LONGEST = 60
"""So much of what came is said again."""


@dataclass(frozen=True)
class Refused:
    """One field that was refused: its place as scripts say it, what people call it, and a whole sentence about it."""

    field: str
    label: str
    message: str


def refused(errors: Sequence[Mapping[str, Any]], model: Any = None) -> list[Refused]:
    """One entry for each bad field of a pydantic error. `model`: what was said, where it is known."""
    return [_one(error, model) for error in errors]


def _one(error: Mapping[str, Any], model: Any) -> Refused:
    cause, at = error.get("ctx", {}).get("error"), tuple(error["loc"])
    if isinstance(cause, InvalidInput) and cause.field:
        at = (*at, *cause.field.split("."))
    if error["type"] == "json_invalid":
        # Where in the text it breaks off is no field.
        at = ()
    place, label = ".".join(str(part) for part in at), label_of(model, at)
    if isinstance(cause, Exception):
        # A model's own check says all of it.
        return Refused(place, label, str(cause))
    subject = label or ("It" if place else "What was sent")
    return Refused(place, label, f"{subject} {_words(error)}")


def _words(error: Mapping[str, Any]) -> str:
    sort, ctx, came = str(error["type"]), error.get("ctx", {}), error.get("input")
    for name, words in LIMITS:
        if sort == name:
            return f"{words} {_figure(next(iter(ctx.values())))}, not {_shown(came)}"
    if sort == "missing" or (sort == "string_too_short" and came == ""):
        return "is needed"
    if sort.endswith(("too_short", "too_long")):
        least, of = sort.endswith("short"), " signs" if sort.startswith("string") else ""
        most = ctx["min_length" if least else "max_length"]
        return f"must have {'at least' if least else 'at most'} {most:,}{of}, not {_count(ctx, came)}"
    if sort == "extra_forbidden":
        return "is not asked for here"
    if sort in ("literal_error", "enum"):
        return f"must be one of {_plain(ctx['expected'])}, not {_shown(came)}"
    if sort == "union_tag_invalid":
        return f"must be one of {_plain(ctx['expected_tags'])}, not {_shown(ctx['tag'])}"
    if sort == "union_tag_not_found":
        return f"must say its {_plain(ctx['discriminator'])}"
    if sort == "json_invalid":
        return "cannot be read as JSON"
    if sort == "string_pattern_mismatch" and str(ctx["pattern"]).startswith("^#"):
        return f"must be a colour like #2f6b46, not {_shown(came)}"
    if sort == "string_pattern_mismatch":
        return f"has a sign or a form that is not allowed here: {_shown(came)}"
    for start, words in KINDS:
        if sort.startswith(start):
            return f"must be {words}, not {_shown(came)}"
    return f"cannot be {_shown(came)}"


LIMITS = (
    ("greater_than", "must be above"),
    ("greater_than_equal", "must be at least"),
    ("less_than", "must be below"),
    ("less_than_equal", "must be at most"),
    ("multiple_of", "must be a multiple of"),
)
A_TIME = "a date and time with an offset, as 2026-06-21T18:30+02:00"
KINDS = (
    ("int", "a whole number"),
    ("finite", "a finite number"),
    ("float", "a number"),
    ("bool", "true or false"),
    ("string", "text"),
    ("list", "a list"),
    ("tuple", "a list"),
    ("set", "a list"),
    ("dict", "fields with their values"),
    ("model", "fields with their values"),
    ("bytes", "text"),
    ("timezone", A_TIME),
    ("datetime", A_TIME),
)


def _figure(value: Any) -> str:
    return f"{value:,.10g}" if isinstance(value, int | float) else str(value)


def _shown(came: Any) -> str:
    if came is None:
        return "nothing"
    if isinstance(came, str | int | float | bool):
        text = repr(came)
        return text if len(text) <= LONGEST else f"{text[: LONGEST - 1]}…"
    return "a list" if isinstance(came, list | tuple) else "fields with values" if isinstance(came, dict) else "that"


def _count(ctx: Mapping[str, Any], came: Any) -> str:
    have = ctx.get("actual_length", len(came) if isinstance(came, str | list | tuple | dict) else None)
    return "none" if have == 0 else "more" if have is None else f"{have:,}"


def _plain(expected: Any) -> str:
    return re.sub(r"['\"]", "", str(expected)).replace(" or ", ", ")


ARM = re.compile(r"(constrained-)?(float|int|str|bool)$|literal\[|function-\w+\[")
"""What Pydantic calls an arm of a choice between sorts of values, which no person needs to know."""


def label_of(model: Any, place: Sequence[str | int]) -> str:
    """What people call a field, by its place in a model: the labels of forms, where it has them ("Rule 1, from")."""
    parts: list[str] = []
    at, listed = model, ""
    for part in place:
        if isinstance(part, int):
            parts[-1:] = [f"{_singular(listed)} {part + 1}"]
            at = _inside(at)
            continue
        info = _field(at, part)
        if info is None and (_is_tag(at, part) or (parts and ARM.match(part))):
            continue
        say = None if info is None else next((one for one in info.metadata if isinstance(one, Say) and one.label), None)
        listed = say.label if say is not None else UNIT.sub("", str(part)).replace("_", " ").replace("-", " ")
        parts.append(listed)
        at = None if info is None else info.annotation
    words = ", ".join(word if at == 0 else word[:1].lower() + word[1:] for at, word in enumerate(parts) if word)
    return words[:1].upper() + words[1:]


def _singular(words: str) -> str:
    return words[:-1] if words.endswith("s") else words


def _arms(annotation: Any) -> list[Any]:
    """What an annotation may be, without what is put around it."""
    while get_origin(annotation) is Annotated:
        annotation = get_args(annotation)[0]
    if get_origin(annotation) in (Union, types.UnionType):
        return [one for arm in get_args(annotation) if arm is not type(None) for one in _arms(arm)]
    return [annotation]


def _inside(annotation: Any) -> Any:
    """What a list or tuple holds."""
    return next((get_args(one)[0] for one in _arms(annotation) if get_args(one)), None)


def _field(annotation: Any, name: str) -> FieldInfo | None:
    for one in _arms(annotation):
        if isinstance(one, type) and issubclass(one, BaseModel):
            for own, info in one.model_fields.items():
                if name in (own, info.alias):
                    return info
    return None


def _is_tag(annotation: Any, name: str) -> bool:
    """Whether a part of a place only says which of several models was meant."""
    arms = _arms(annotation)
    return len(arms) > 1 or any(isinstance(one, type) and one.__name__ == name for one in arms)
