"""What the API answers, as its document describes it: from what each call says that it returns.

Answers are not validated while the application runs; a test holds them against this description.
"""

from __future__ import annotations

from functools import reduce
from operator import or_
from types import UnionType
from typing import Annotated, Any, Union, get_args, get_origin, get_type_hints

from fastapi import FastAPI
from fastapi.responses import Response
from pydantic import TypeAdapter

from fernfield.web.kernel.routing import LateRoute

REF = "#/components/schemas/{model}"


def answer_of(route: LateRoute) -> Any:
    """The type of what a call returns, or what its annotation says besides; None of one that answers by itself."""
    said = get_type_hints(route.endpoint, include_extras=True).get("return", Any)
    if get_origin(said) is Annotated:
        return get_args(said)[1]
    if get_origin(said) in (Union, UnionType):
        return reduce(or_, (one for one in get_args(said) if not issubclass(one, Response)))
    return None if isinstance(said, type) and issubclass(said, Response) else said


def described(app: FastAPI) -> dict[str, Any]:
    """The OpenAPI document, with a schema for every answer whose call says its type."""
    if app.openapi_schema is not None:
        return app.openapi_schema
    document = FastAPI.openapi(app)
    found = {
        (route.path_format, method.lower()): TypeAdapter(said)
        for route in app.routes
        if isinstance(route, LateRoute) and route.include_in_schema and (said := answer_of(route)) is not None
        for method in route.methods
    }
    schemas, shared = TypeAdapter.json_schemas(
        [(key, "serialization", adapter) for key, adapter in found.items()], ref_template=REF
    )
    components = document.setdefault("components", {}).setdefault("schemas", {})
    for name, schema in shared.get("$defs", {}).items():
        components.setdefault(name, schema)
    for path, method in found:
        answers = document["paths"][path][method]["responses"]
        good = next(code for code in answers if code.startswith("2"))
        answers[good]["content"] = {"application/json": {"schema": schemas[(path, method), "serialization"]}}
    return document
