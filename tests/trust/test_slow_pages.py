"""Pages that read slowly or not at all, drip, or say too much; and what of the land each is still to be shown."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Callable, Coroutine
from concurrent.futures import ThreadPoolExecutor
from types import SimpleNamespace
from typing import Any, TypeVar

import numpy as np
import pytest
from anyio import CapacityLimiter
from fastapi.testclient import TestClient
from hypothesis import given, settings
from hypothesis import strategies as st

import fernfield.web.page.live
import fernfield.work.kernel.hands.brushwork
import fernfield.work.kernel.hands.strokes
import fernfield.work.strokes
from fernfield.core.grid import Window
from fernfield.web.kernel.gate.access import Guest
from fernfield.web.page.dirty import Dirty
from fernfield.web.page.live import Connection
from fernfield.web.page.patches import Patches
from fernfield.web.page.post import Post
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.studio import Studio
from tests.conftest import draw
from tests.trust.test_lines import BEGINS, SOON_S, holding

Kept = TypeVar("Kept")

# Pages


class FakePage:
    """The server's end of a page's socket: says what it is told to, and takes in what it wants to."""

    def __init__(self, *says: dict[str, Any], reads: bool) -> None:
        self.state = SimpleNamespace(guest=Guest())
        self.app = SimpleNamespace()
        post = Post(asyncio.get_running_loop())
        self.app.state = SimpleNamespace(hands=CapacityLimiter(8), room=lambda: self.room, post=post, compiling=None)
        self.says: asyncio.Queue[dict[str, Any] | None] = asyncio.Queue()
        for message in says:
            self.says.put_nowait(message)
        self.reads, self.closed, self.room = reads, 0, 50 << 30
        self.heard: list[Any] = []

    def go(self) -> None:
        self.says.put_nowait(None)

    async def receive(self) -> dict[str, Any]:
        message = await self.says.get()
        if message is None:
            return {"type": "websocket.disconnect", "code": 1001}
        return {"type": "websocket.receive", "text": json.dumps(message)}

    async def send_text(self, text: str) -> None:
        if not self.reads:
            await asyncio.Event().wait()
        self.heard.append(json.loads(text))

    async def send_bytes(self, data: bytes) -> None:
        if not self.reads:
            await asyncio.Event().wait()

    async def close(self, code: int, _reason: str) -> None:
        self.closed = code


def by_itself(what: Coroutine[Any, Any, Kept]) -> Kept:
    """Run it in a thread of its own: where browser tests ran before, the test's own thread has a loop running."""
    with ThreadPoolExecutor(1) as thread:
        return thread.submit(asyncio.run, what).result()


async def until(true: Callable[[], bool]) -> None:
    """Wait for what is looked at."""
    end = time.monotonic() + SOON_S
    while not true():
        assert time.monotonic() < end, "it never came"
        await asyncio.sleep(0.005)


def connected(page: FakePage, world: OpenWorld) -> Connection:
    tract = world.first_tract.row.id
    return Connection(page, world, tract, False, world.land_from(tract))  # type: ignore[arg-type]


def test_a_page_that_never_reads_is_let_go_of_before_it_has_grown(
    world: OpenWorld, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(fernfield.web.page.live, "MOST_UNREAD", 20_000)
    view = {"is": "view", "level": 0, "row0": 0, "col0": 0, "row1": 301, "col1": 301, "heights": True}

    async def serve() -> tuple[FakePage, int]:
        page = FakePage(view, reads=False)
        connection = connected(page, world)
        serving = asyncio.create_task(connection.serve())
        most = 0
        for number in range(400):
            await asyncio.to_thread(draw, world, path=[(100 + number % 90, 60, 0), (150, 100, 0.2)])
            most = max(most, connection._unread)
            if serving.done():
                break
        await asyncio.wait_for(serving, SOON_S)
        return page, most

    page, most = by_itself(serve())
    assert page.closed == 1013
    assert most <= 20_000 + 700_000, "no more than one picture above the bound"
    assert world._listeners == [] or all("serve" not in repr(one) for one in world._listeners)


def test_pictures_are_drawn_only_for_those_who_read(world: OpenWorld, monkeypatch: pytest.MonkeyPatch) -> None:
    """Patches are asked for by reading: one that does not read gets one, however long it lasts."""
    monkeypatch.setattr(fernfield.web.page.live, "PATCH_PATIENCE_S", 0.01)
    view = {"is": "view", "level": 0, "row0": 0, "col0": 0, "row1": 301, "col1": 301}
    drawn = []
    patches = Patches.of
    monkeypatch.setattr(Patches, "of", lambda *a: drawn.append(1) or patches(*a))

    async def serve() -> None:
        page = FakePage(view, reads=False)
        connection, before = connected(page, world), len(world._listeners)
        serving = asyncio.create_task(connection.serve())
        await until(lambda: len(world._listeners) > before)
        for number in range(12):
            await asyncio.to_thread(draw, world)
            # The first is on its way, and whatever comes after it waits.
            await until(lambda number=number: bool(drawn) if number == 0 else bool(connection._dirty))
        page.go()
        await asyncio.wait_for(serving, SOON_S)

    by_itself(serve())
    assert len(drawn) == 1


def test_a_stroke_that_drips_ends_by_the_servers_own_clock(world: OpenWorld, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(fernfield.web.page.live, "LONGEST_HELD_S", 0.5)
    tract = world.first_tract.row.id

    async def serve() -> FakePage:
        page = FakePage({"is": "begin", "tract": tract, "stroke": BEGINS}, reads=True)
        serving = asyncio.create_task(connected(page, world).serve())
        end = time.monotonic() + SOON_S
        for number in range(100_000):
            # A hundredth of a second of the stroke each time, by its own clock.
            page.says.put_nowait({"is": "move", "samples": [[100 + number % 50, 100, number / 100]]})
            await asyncio.sleep(0.02)
            if any(m["is"] == "ended" for m in page.heard) or time.monotonic() > end:
                break
        page.go()
        await asyncio.wait_for(serving, SOON_S)
        return page

    page = by_itself(serve())
    assert [m["revision"] for m in page.heard if m["is"] == "ended"] == [1]
    assert not world.holds


def test_a_stroke_that_is_ended_while_its_samples_wait_is_no_fault(
    world: OpenWorld, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    """The watch ends a stroke while a move of it waits for the world."""
    tract = world.first_tract.row.id

    async def serve() -> FakePage:
        page = FakePage({"is": "begin", "tract": tract, "stroke": BEGINS}, reads=True)
        connection = connected(page, world)
        serving = asyncio.create_task(connection.serve())
        await until(lambda: connection._run is not None)
        with holding(world):
            page.says.put_nowait({"is": "move", "samples": [[100, 100, 0], [110, 100, 0.4], [120, 100, 0.8]]})
            await until(lambda: bool(world.lock._waiting))
            # From here on the watch thinks that the page has been silent for too long.
            monkeypatch.setattr(fernfield.web.page.live, "LONGEST_WAIT_S", 0.0)
            await until(lambda: connection._run is None)
        page.says.put_nowait({"is": "spot", "x": 5, "y": 5, "section": False})
        await until(lambda: any(m["is"] == "spot" for m in page.heard))
        page.go()
        await asyncio.wait_for(serving, SOON_S)
        return page

    page = by_itself(serve())
    assert any(m["is"] == "spot" for m in page.heard), "the line goes on"
    assert not [r for r in caplog.records if r.exc_info]
    assert not world.holds


def test_a_page_is_read_no_quicker_than_it_may_speak(world: OpenWorld, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(fernfield.web.page.live, "MESSAGES_S", 50)

    async def serve() -> float:
        page = FakePage(*({"is": "drawn"} for _ in range(100)), {"is": "nonsense"}, reads=True)
        serving = asyncio.create_task(connected(page, world).serve())
        began = time.monotonic()
        while not any(m["is"] == "error" for m in page.heard):
            await asyncio.sleep(0.005)
        took = time.monotonic() - began
        page.go()
        await asyncio.wait_for(serving, SOON_S)
        return took

    # A second's worth at once, the rest at fifty a second.
    assert by_itself(serve()) > 0.9


def test_a_page_hears_that_room_runs_low_before_anything_fails(
    world: OpenWorld, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(fernfield.web.page.live, "LOOK_AT_ROOM_S", 0.5)

    async def serve() -> FakePage:
        page = FakePage(reads=True)
        page.room = 300 << 20
        serving = asyncio.create_task(connected(page, world).serve())
        for free in (50 << 30, 400 << 20):
            said = len([m for m in page.heard if m["is"] == "room"])
            while len([m for m in page.heard if m["is"] == "room"]) == said:
                await asyncio.sleep(0.01)
            page.room = free
        while len([m for m in page.heard if m["is"] == "room"]) < 3:
            await asyncio.sleep(0.01)
        page.go()
        await asyncio.wait_for(serving, SOON_S)
        return page

    page = by_itself(serve())
    assert [m["free_mib"] for m in page.heard if m["is"] == "room"] == [300, None, 400]


def test_the_list_of_worlds_says_so_too(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    assert "are left on the" not in client.get("/").text
    monkeypatch.setattr(Studio, "room", lambda _self: 123 << 20)
    assert "Only 123 MiB are left" in client.get("/").text


@given(
    st.lists(
        st.tuples(st.sampled_from(["height", "cover"]), st.integers(0, 900), st.integers(0, 900), st.integers(1, 90)),
        min_size=1, max_size=60,
    ),
    st.integers(0, 3),
)  # fmt: skip
@settings(max_examples=60, deadline=None)
def test_all_that_changed_is_shown_once_and_little_besides(
    changes: list[tuple[str, int, int, int]], between: int
) -> None:
    """Whatever changes, in whatever order it is taken: every post of every layer is in a window that comes later."""
    dirty, left = Dirty(), {layer: np.zeros((1_000, 1_000), bool) for layer in ("height", "cover")}

    def take() -> None:
        stale = dirty.take((500.0, 500.0))
        for layer in stale.layers:
            left[layer][stale.window.row0 : stale.window.row1, stale.window.col0 : stale.window.col1] = False

    for number, (layer, row, col, side) in enumerate(changes):
        window = Window(row, col, row + side, col + side)
        left[layer][row : row + side, col : col + side] = True
        dirty.add(layer, window)
        if between and number % 4 < between and dirty:
            take()
    most = 0
    while dirty:
        take()
        most += 1
    assert most <= 9
    assert not any(values.any() for values in left.values())


def test_hands_far_apart_are_shown_apart_and_nobody_waits_for_ever() -> None:
    dirty = Dirty()
    for _ in range(40):
        dirty.add("height", Window(10, 10, 60, 60))
        dirty.add("height", Window(900, 900, 950, 950))
        assert dirty.take((30.0, 30.0)).window.rows == 50
    # One's own hand goes on and on: the other is shown all the same.
    taken = []
    for _ in range(6):
        dirty.add("height", Window(10, 10, 60, 60))
        taken.append(dirty.take((30.0, 30.0)).window.row0)
    assert 900 in taken
