"""What a model refuses is told in our own words, by the labels of its form; and shares are told in per cent."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import pytest
from fastapi.routing import APIRoute
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from pydantic import BaseModel, ValidationError

from fernfield.web.kernel.forms import fields_of
from fernfield.web.rooms import ROUTERS
from fernfield.work.house import HOUSE
from fernfield.work.kernel.refused import refused
from fernfield.work.strokes import Stroke


def _models() -> Iterator[type[BaseModel]]:
    """Every model that a call takes as its body, and every row."""
    yield from (Stroke, *(collection.model for collection in HOUSE.collections.values()))
    for router in ROUTERS:
        for route in router.routes:
            for field in route.dependant.body_params if isinstance(route, APIRoute) else ():
                kind = field.field_info.annotation
                if isinstance(kind, type) and issubclass(kind, BaseModel):
                    yield kind


MODELS = sorted({model.__name__: model for model in _models()}.items())
WRONG = st.sampled_from([
    None, "", "x" * 3_000, "red", -1, 5, 2.5, -1e9, 1e300, float("nan"), float("inf"), True, [], [1] * 600, {},
    {"x": {}}, [[1, 2], ["a"]], [{"what": "elevation", "from": 10, "to": 2.5}], [{"what": "height"}],
    {"ground": "moon"}, ["", None],
])  # fmt: skip
ENGLISH = re.compile(
    r"Input |should |valid |Value error|Extra |ensure|pattern|List |Tuple |Dictionary |instance of|\bNone\b"
)
PATH = re.compile(r"[a-z_]+\.\d|\d\.[a-z_]|[a-z]\.[a-z_]")


@pytest.mark.parametrize("model", [model for _, model in MODELS], ids=[name for name, _ in MODELS])
def test_a_refusal_has_no_braces_no_path_and_no_english_of_a_library(model: type[BaseModel]) -> None:
    labels = {shown.name: shown.label for shown in fields_of(model)}

    @given(st.fixed_dictionaries({}, optional=dict.fromkeys([*model.model_fields, "nothing"], WRONG)))
    @settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
    def refuses(said: dict[str, Any]) -> None:
        try:
            model.model_validate(said)
        except ValidationError as error:
            for one in refused(error.errors(), model):
                words = re.sub(r"'[^']*'", "", one.message)
                assert not re.search(r"[{}]", words), one
                assert not ENGLISH.search(words), one
                assert not PATH.search(words), one
                assert len(one.message) < 400, one
                if one.field in labels and one.message.endswith(("is needed", "nothing")):
                    assert one.message.lower().startswith(labels[one.field].lower()), one

    refuses()


def test_shares_are_typed_in_per_cent() -> None:
    """Whatever lies between 0 and 1 on a form says per cent; what is a figure of its own says so here."""
    figures = {"concavity", "persistence"}
    for name, model in MODELS:
        for shown in fields_of(model):
            if (shown.low, shown.high) == (0, 1) and shown.kind == "number":
                assert shown.name in figures, (name, shown.name)
