"""What rows may say, as JSON Schema (2020-12): one document for each sort of row, for scripts and other programs."""

from __future__ import annotations

import json
from collections.abc import Iterable
from functools import cache
from typing import Annotated, Any

from fastapi import Path, Response
from pydantic import TypeAdapter

from fernfield.core.errors import named
from fernfield.web.kernel.routing import Router
from fernfield.work.kernel.rows import Collection

DIALECT = "https://json-schema.org/draft/2020-12/schema"


def name_of(collection: Collection[Any]) -> str:
    """What one row is called in an address."""
    return (collection.one or collection.name).replace(" ", "-")


@cache
def schema_of(collection: Collection[Any]) -> dict[str, Any]:
    """The JSON Schema of a collection's rows, as the API takes them."""
    made = TypeAdapter(collection.said_as).json_schema()
    return {"$schema": DIALECT, **made, "title": collection.one or collection.name}


def schemas_router(collections: Iterable[Collection[Any]]) -> Router:
    router = Router(prefix="/api/schemas", tags=["schemas"])
    known = {name_of(one): one for one in collections}

    def list_schemas() -> list[str]:
        return sorted(known)

    def schema(name: Annotated[str, Path(max_length=60)]) -> Response:
        return Response(json.dumps(schema_of(named(known, "schema", name))), media_type="application/schema+json")

    router.add_api_route("", list_schemas, methods=["GET"], summary="The sorts of rows that have a JSON Schema")
    words = "The JSON Schema of a sort of row"
    router.add_api_route("/{name}.json", schema, methods=["GET"], summary=words, response_class=Response)
    return router
