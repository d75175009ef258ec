"""A client for scripts: worlds, tracts, heights as arrays, strokes, rows and jobs of a server, over its API.

What is said is checked by the same models as in the application, before it is sent. Needs httpx2: `pip install
"fernfield[client]"`. Three examples lie in `docs/examples/`.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from types import TracebackType
from typing import Any, TypeVar

import httpx2
import numpy as np

from fernfield.core.grid import FloatArray, Window
from fernfield.work.kernel.rows import Collection, Row
from fernfield.work.strokes import Stroke
from fernfield.work.worlds.beginnings import WorldSpec

R = TypeVar("R", bound=Row)
Heard = Callable[[float, str], object]
"""Is told how far a job is, from 0 to 1, and what it does now."""
AT_ONCE = 2_048
"""Posts along a side of what is fetched at once."""
PATIENCE_S = 600.0
"""Between two words of the server; it says that it is there every 15 s."""


class Refused(Exception):
    """What the server did not do. status : of the answer; errors : of which field, and why"""

    def __init__(self, status: int, words: str, errors: list[dict[str, Any]]) -> None:
        super().__init__(words)
        self.status, self.errors = status, errors


class Failed(Exception):
    """A job that did not come to its end."""


class Client:
    """A server. token : where it asks who is there (`fernfield token`); http : in place of its own connection"""

    def __init__(self, url: str, token: str | None = None, http: httpx2.Client | None = None) -> None:
        self.http = http or httpx2.Client(base_url=url, timeout=PATIENCE_S)
        if token is not None:
            self.http.headers["authorization"] = f"Bearer {token}"

    def __enter__(self) -> Client:
        return self

    def __exit__(self, sort: type[BaseException] | None, what: BaseException | None, at: TracebackType | None) -> None:
        self.http.close()

    def ask(self, method: str, path: str, body: Any = None, **query: Any) -> httpx2.Response:
        """The answer to a call. Raises Refused."""
        text = None if body is None else json.dumps(body)
        answer = self.http.request(
            method, path, content=text, headers={"content-type": "application/json"},
            params={name: value for name, value in query.items() if value is not None},
        )  # fmt: skip
        return _done(answer)

    def worlds(self) -> list[World]:
        """What is on the table; the world changed last first."""
        return [World(self, told["id"]) for told in self.ask("GET", "/api/worlds").json()]

    def world(self, name: str) -> World:
        """A world by its name or id. Raises KeyError."""
        for told in self.ask("GET", "/api/worlds").json():
            if name in (told["id"], told["name"]):
                return World(self, told["id"])
        raise KeyError(f"there is no world called {name!r}, by name or id")

    def make(self, spec: WorldSpec) -> World:
        """A new world."""
        return World(self, self.ask("POST", "/api/worlds", _said(spec)).json()["id"])

    def wait(self, job: str, hear: Heard = lambda share, words: None) -> dict[str, Any]:
        """The result of a job, when it has ended. Raises Failed, Refused for one that the server knows nothing of."""
        with self.http.stream("GET", f"/api/jobs/{job}/events") as answer:
            for line in _done(answer).iter_lines():
                if not line.startswith("data:"):
                    continue
                told = json.loads(line.removeprefix("data:"))
                hear(told["progress"], told["message"])
                if told["state"] == "done":
                    return dict(told["result"] or {})
                if told["state"] in ("failed", "cancelled"):
                    raise Failed(told["message"] or told["state"])
        raise Failed("the server went away before the job had ended")


def _done(answer: httpx2.Response) -> httpx2.Response:
    """The answer, unless it is a refusal. Raises Refused, in the words of the server."""
    if answer.is_success:
        return answer
    answer.read()
    try:
        problem = answer.json()
    except ValueError:
        problem = {}
    raise Refused(answer.status_code, problem.get("detail") or answer.text[:400], problem.get("errors", []))


def _whole(row: Row) -> dict[str, Any]:
    whole: dict[str, Any] = row.model_dump(mode="json")
    return whole


def _said(model: Any) -> dict[str, Any]:
    """What was said of a model; what was not is what the server takes it for."""
    said: dict[str, Any] = model.model_dump(mode="json", exclude_unset=True)
    return said


class World:
    """A world on a server. Whatever is asked is as it is at that moment."""

    def __init__(self, client: Client, world_id: str) -> None:
        self.client, self.id, self.path = client, world_id, f"/api/worlds/{world_id}"

    def _ask(self, method: str, path: str = "", body: Any = None, **query: Any) -> Any:
        return self.client.ask(method, self.path + path, body, **query).json()

    def told(self) -> dict[str, Any]:
        """All that the API tells of it."""
        return dict(self._ask("GET"))

    @property
    def name(self) -> str:
        return str(self.told()["name"])

    @property
    def revision(self) -> int:
        return int(self.told()["revision"])

    def tracts(self) -> list[Tract]:
        """In their order."""
        return [Tract(self, told) for told in self.told()["tracts"]]

    def rows(self, collection: Collection[R]) -> dict[str, R]:
        """The rows of a collection by their keys."""
        return {told["key"]: _row(collection, told) for told in self._ask("GET", f"/{collection.name}")}

    def put(self, collection: Collection[R], row: R, key: str | None = None) -> str:
        """A row put under a key, in the place of what was there, or under a new one; its key."""
        if key is None:
            return str(self._ask("POST", f"/{collection.name}", _whole(row))["key"])
        return str(self._ask("PUT", f"/{collection.name}/{key}", _whole(row))["key"])

    def change(self, collection: Collection[R], key: str, **fields: Any) -> int:
        """Some fields of a row; the revision."""
        return int(self._ask("PATCH", f"/{collection.name}/{key}", fields)["revision"])

    def delete(self, collection: Collection[R], key: str) -> int:
        """A row away; the revision."""
        return int(self._ask("DELETE", f"/{collection.name}/{key}")["revision"])

    def undo(self) -> int:
        return int(self._ask("POST", "/undo")["revision"])

    def redo(self) -> int:
        return int(self._ask("POST", "/redo")["revision"])

    def findings(self, **only: str) -> list[dict[str, Any]]:
        """What the checks find; of a stage="…", of a weight="note" or "grave"."""
        return list(self._ask("GET", "/findings", **only))

    def deliver(self, to: Path, delivery: str | None = None, hear: Heard = lambda share, words: None) -> Path:
        """The world handed over as a package at `to`, or by one of its deliveries. Raises Failed, Refused."""
        made = "/handover" if delivery is None else f"/deliveries/{delivery}/make"
        begun = self._ask("POST", made)
        result = self.client.wait(begun["job"], hear)
        path = f"{self.path}/handover.zip" if delivery is None else result["file"]
        part = to.with_name(f"{to.name}.part")
        try:
            with self.client.http.stream("GET", path) as answer, part.open("wb") as file:
                for some in _done(answer).iter_bytes():
                    file.write(some)
            return part.replace(to)
        finally:
            part.unlink(missing_ok=True)


def _row(collection: Collection[R], told: Mapping[str, Any]) -> R:
    model = collection.model_of(told)
    return model.model_validate({name: told[name] for name in model.model_fields if name in told})


class Tract:
    """A tract of a world: where it lies in it [m], and its posts."""

    def __init__(self, world: World, told: Mapping[str, Any]) -> None:
        self.world, self.id, self.name = world, str(told["id"]), str(told["name"])
        self.x, self.y, self.spacing_m = float(told["x"]), float(told["y"]), float(told["spacing_m"])
        self.rows, self.cols = int(told["rows"]), int(told["cols"])

    def _parts(self, window: Window) -> Iterator[Window]:
        for row in range(window.row0, window.row1, AT_ONCE):
            for col in range(window.col0, window.col1, AT_ONCE):
                yield Window(row, col, min(row + AT_ONCE, window.row1), min(col + AT_ONCE, window.col1))

    def heights(self, window: Window | None = None) -> FloatArray:
        """Elevation of every post [m]: rows from north to south, of the whole tract or of a window."""
        whole = window or Window(0, 0, self.rows, self.cols)
        found = np.empty(whole.shape, np.float32)
        for part in self._parts(whole):
            answer = self.world.client.ask("GET", f"/api/tracts/{self.id}/heights", **_corners(part))
            found[part.inside(whole)] = np.frombuffer(answer.content, "<f4").reshape(part.shape)
        return found

    def stroke(self, stroke: Stroke, hear: Heard = lambda share, words: None) -> dict[str, Any]:
        """A whole stroke, in the tract's metres; what came of it, also where it takes long."""
        answer = self.world.client.ask("POST", f"/api/tracts/{self.id}/strokes", _said(stroke)).json()
        return self.world.client.wait(answer["job"], hear) if "job" in answer else dict(answer)

    def spot(self, x: float, y: float) -> dict[str, Any]:
        """What is at a place of the tract. [m]"""
        return dict(self.world.client.ask("GET", f"/api/tracts/{self.id}/spot", x=x, y=y).json())


def _corners(window: Window) -> dict[str, int]:
    return dict(zip(("row0", "col0", "row1", "col1"), window.as_list(), strict=True))
