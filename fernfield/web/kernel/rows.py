"""The routes of rows, made from their collections: by key, or of the only row there is."""

# Without postponed annotations: the models of the routes are known only when they are made.

from collections.abc import Iterable
from functools import cache
from typing import Annotated, Any, Literal, Optional, get_args, get_type_hints

from fastapi import Response
from pydantic import create_model

from fernfield.web.kernel.many import Metres, OnNamedQuery, add_many
from fernfield.web.kernel.parts import Keyed, TheWorld, keyed_json
from fernfield.web.kernel.routing import Router
from fernfield.work.kernel.commands import Command, Patch, Put, Remove, said_of
from fernfield.work.kernel.posts.places import from_world
from fernfield.work.kernel.rows import Collection, Key, new_key


def partial_of(collection: Collection[Any], suffix: str = "Patch", needed: Iterable[str] = ()) -> type[Command]:
    """A model with all the fields of a collection's rows, of which only the `needed` ones have to be said."""
    fields: dict[str, Any] = {}
    for name, field in collection.fields.items():
        kind: Any = field.annotation
        if name == "sort" and collection.variants:
            kind = Literal[tuple(collection.variants)]
        if field.metadata:
            kind = Annotated[(kind, *field.metadata)]
        fields[name] = (kind, ...) if name in needed else (Optional[kind], None)  # noqa: UP045 (made at run time)
    one = collection.model.__name__
    made: type[Command] = create_model(f"{one}{suffix}", __base__=Command, **fields)
    made.__doc__ = f"Fields of a {one}; what is left out {'stays' if suffix == 'Patch' else 'is chosen by the world'}."
    return made


def told_of(collection: Collection[Any]) -> Any:
    """What the API tells of a row: its fields, and its key; of those that their room tells, what that says it does."""
    if collection.shown is not None:
        return get_args(get_type_hints(collection.shown, include_extras=True)["return"])[1]
    model = collection.model
    return create_model(f"{model.__name__}Told", __base__=model, key=(str, ...))


@cache
def rows_router(collection: Collection[Any]) -> Router:
    """The routes of one collection: they know no studio, so that each application of a process has the same."""
    router = Router(prefix=f"/api/worlds/{{world}}/{collection.name}", tags=[collection.name])
    if collection.only is None:
        _many(router, collection)
    else:
        _only(router, collection)
    return router


def _many(router: Router, collection: Collection[Any]) -> None:
    partial, one = partial_of(collection), collection.one
    # Which fields a row of several sorts needs is known when its sort is.
    model = partial_of(collection, "Put") if collection.variants else collection.model
    completes = collection.completes
    # What a new row does not say may follow from what the world has.
    new = partial_of(collection, "New") if completes is not None and not collection.variants else model

    told = list[told_of(collection)]  # type: ignore[valid-type,misc]

    def list_rows(world: TheWorld) -> told:  # type: ignore[valid-type]
        with world.lock:
            return world.told(collection)

    def here(world: TheWorld, key: str, own: dict[str, Any], within: Metres) -> dict[str, Any]:
        return from_world(world, collection, key, own) if within == "world" and collection.in_tract else own

    def put(world: TheWorld, key: str, own: dict[str, Any], within: Metres) -> Keyed:
        outcome = world.edit(Put(collection=collection.name, key=key, row=here(world, key, own, within)))
        return keyed_json(key, outcome)

    def put_row(key: Key, row: model, world: TheWorld, within: Metres = "tract") -> Keyed:  # type: ignore[valid-type]
        with world.lock:
            return put(world, key, said_of(row), within)

    def add_row(row: new, world: TheWorld, response: Response, within: Metres = "tract") -> Keyed:  # type: ignore[valid-type]
        with world.lock:
            own = said_of(row) if completes is None else completes(world, said_of(row), 0)
            key = new_key(str(getattr(row, "title", None) or own.get("name") or ""))
            response.headers["location"] = f"/api/worlds/{world.id}/{collection.name}/{key}"
            return put(world, key, own, within)

    def patch_row(key: Key, row: partial, world: TheWorld, within: Metres = "tract") -> Keyed:  # type: ignore[valid-type]
        with world.lock:
            said = here(world, key, said_of(row), within)
            outcome = world.edit(Patch(collection=collection.name, key=key, row=said))
        return keyed_json(key, outcome)

    def remove_row(key: Key, world: TheWorld, on_named: OnNamedQuery = None) -> Keyed:
        return keyed_json(key, world.edit(Remove(collection=collection.name, key=key, on_named=on_named)))

    for path, method, call, words in (
        ("", "GET", list_rows, f"All {collection.name} of a world"),
        ("/{key}", "PUT", put_row, f"Put a {one}, or change the fields that are said of the one with this key"),
        ("/{key}", "PATCH", patch_row, f"Change the fields that are said of a {one}"),
        ("/{key}", "DELETE", remove_row, f"Remove a {one}"),
        ("", "POST", add_row, f"Add a {one}; its key comes back"),
    ):
        by_room = {"POST": collection.made_by_room, "GET": collection.listed_by_room}
        if (by_room.get(method) and not path) or (method == "DELETE" and collection.removed_by_room):
            continue
        router.add_api_route(
            path,
            call,
            methods=[method],
            summary=words,
            operation_id=f"{method.lower()}_{collection.name}",
            status_code=201 if method == "POST" else None,
        )
    add_many(router, collection, partial, told_of(collection))


def _only(router: Router, collection: Collection[Any]) -> None:
    model, partial, key = collection.model, partial_of(collection), collection.only or ""

    def get_row(world: TheWorld) -> model:  # type: ignore[valid-type]
        return world.only(collection)  # type: ignore[no-any-return]

    def put_row(row: model, world: TheWorld) -> Keyed:  # type: ignore[valid-type]
        return keyed_json(key, world.edit(Put(collection=collection.name, key=key, row=said_of(row))))

    def patch_row(row: partial, world: TheWorld) -> Keyed:  # type: ignore[valid-type]
        return keyed_json(key, world.edit(Patch(collection=collection.name, key=key, row=said_of(row))))

    for method, call, words in (
        ("GET", get_row, f"The {collection.one} of a world"),
        ("PUT", put_row, f"Change the fields that are said of the {collection.one}"),
        ("PATCH", patch_row, f"Change the fields that are said of the {collection.one}"),
    ):
        router.add_api_route(
            "", call, methods=[method], summary=words, operation_id=f"{method.lower()}_{collection.name}"
        )
