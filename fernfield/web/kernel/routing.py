"""Routes that are looked at when they are first asked for: a start does not pay for the whole API."""

from __future__ import annotations

from collections.abc import Callable
from threading import RLock
from typing import Any

from fastapi import APIRouter
from fastapi.routing import APIRoute
from starlette.routing import compile_path, get_name

_LOCK = RLock()


class LateRoute(APIRoute):
    """A route that knows its path and its methods; what its call takes and answers is read at the first question.

    To read the parameters of 185 calls takes a third of all imports, and most starts are asked for ten of them. A
    call that is declared wrongly is found when the OpenAPI document is made.
    """

    methods: set[str]

    def __init__(self, path: str, endpoint: Callable[..., Any], *, methods: Any = None, **said: Any) -> None:
        self.path, self.endpoint, self.said, self.read = path, endpoint, said, False
        self.name = get_name(endpoint)
        self.methods = {method.upper() for method in methods or ["GET"]}
        self.path_regex, self.path_format, self.param_convertors = compile_path(path)
        self.include_in_schema = said.get("include_in_schema", True)

    def __getattr__(self, name: str) -> Any:
        """Asked for what is not there yet: all of the route is read."""
        with _LOCK:
            if not self.read:
                self.read = True
                # What is answered is said by its type, and tested, not validated at every answer.
                said = {**self.said, "response_model": None}
                super().__init__(self.path, self.endpoint, methods=self.methods, **said)
        try:
            return self.__dict__[name]
        except KeyError:
            raise AttributeError(name) from None


class Router(APIRouter):
    """A router of late routes."""

    def __init__(self, **said: Any) -> None:
        super().__init__(route_class=LateRoute, **said)

    def take(self, works: Router, prefix: str, tags: list[str] | None = None) -> None:
        """Have the routes of another router too, below `prefix`."""
        for route in works.routes:
            assert isinstance(route, LateRoute)
            said = {**route.said, "tags": [*self.tags, *(tags or []), *(route.said["tags"] or [])]}
            self.routes.append(
                self.route_class(self.prefix + prefix + route.path, route.endpoint, methods=route.methods, **said)
            )
