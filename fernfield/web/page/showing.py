"""What is shown, as a query says it: one parameter for each field of `Show`, lists with commas, models as JSON."""

from __future__ import annotations

import inspect
from typing import Annotated, Any, get_args

from fastapi import Depends, Query
from pydantic import BaseModel, BeforeValidator, ValidationError
from pydantic.fields import FieldInfo

from fernfield.core.errors import InvalidInput
from fernfield.work.house import HOUSE
from fernfield.work.kernel.refused import refused
from fernfield.work.seen.show import Show

LONGEST = 4000


def _model_in(field: FieldInfo) -> type[BaseModel] | None:
    """The model that a field holds, if it holds one."""
    return next(
        (one for one in get_args(field.annotation) if isinstance(one, type) and issubclass(one, BaseModel)), None
    )


def _as_text(name: str, field: FieldInfo) -> bool:
    """Whether a query says it in a text of its own making."""
    return name == "overlays" or _model_in(field) is not None


def _parameter(name: str, field: FieldInfo) -> inspect.Parameter:
    kind: Any
    if _as_text(name, field):
        how = "names with commas between" if name == "overlays" else f"{field.description}, as JSON"
        kind, first = Annotated[str, Query(max_length=LONGEST, description=how)], ""
    else:
        said = (BeforeValidator(lambda value: None if value == "" else value),) if field.default is None else ()
        kind = Annotated[(field.annotation, *field.metadata, *said, Query(description=field.description))]
        first = field.default
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=first, annotation=kind)


def _taken(name: str, field: FieldInfo, text: str) -> Any:
    """A field's value from the text of a query. Raises InvalidInput."""
    model = _model_in(field)
    if model is None:
        return known(tuple(one for one in text.split(",") if one))
    try:
        return model.model_validate_json(text) if text else None
    except ValidationError as error:
        words = refused(error.errors(), model)[0].message
        raise InvalidInput(f"{name} must be {field.description}, as JSON: {words}", name) from error


def known(names: tuple[str, ...]) -> tuple[str, ...]:
    """The same names, if there are overlays that are called so. Raises InvalidInput."""
    for name in names:
        if name not in HOUSE.overlays:
            raise InvalidInput(f"overlays must be among {', '.join(HOUSE.overlays)}, not {name!r}", "overlays")
    return names


def _shown(**said: Any) -> Show:
    """What a query says, by the fields of `Show`."""
    read = {name: _taken(name, field, said[name]) for name, field in Show.model_fields.items() if _as_text(name, field)}
    return Show.model_validate({**said, **read})


_shown.__signature__ = inspect.Signature([_parameter(*one) for one in Show.model_fields.items()])  # type: ignore[attr-defined]
Shown = Annotated[Show, Depends(_shown)]
