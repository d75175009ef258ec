"""Nobody waits for what others do: long strokes let others in, edits wait in lines, and slow pages are let go of."""

from __future__ import annotations

import contextlib
import http.client
import itertools
import json
import os
import resource
import threading
import time
import urllib.request
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor, as_completed
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from anyio import to_thread
from fastapi.testclient import TestClient
from hypothesis import given, settings
from hypothesis import strategies as st
from websockets.sync.client import connect

import fernfield.web.page.live
import fernfield.work.kernel.hands.brushwork
import fernfield.work.kernel.hands.strokes
import fernfield.work.strokes
from fernfield.bench.browser import server
from fernfield.core.brush.pace import Sample
from fernfield.core.errors import InvalidInput
from fernfield.web.kernel.gate.turns import AT_ONCE, MOST_WAITING
from fernfield.work.kernel.jobs import Job, JobKind, Jobs
from fernfield.work.kernel.locks import FairLock
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.strokes import Stroke, StrokeStart
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec
from tests.conftest import draw, ended, ground, live
from tests.waits import until_true

WORLD = {"name": "Lines", "width_m": 300, "depth_m": 300, "spacing_m": 1, "elevation_m": 10}
BEGINS = {"tool": "raise", "radius_m": 20, "softness": 0.5, "strength": 10}
SOON_S = 20.0
"""What does not wait has come long before this; what waits would not have come at all."""


@contextmanager
def beside(work: Callable[[], Any]) -> Iterator[threading.Thread]:
    thread = threading.Thread(target=work)
    thread.start()
    try:
        yield thread
    finally:
        thread.join(60)
        assert not thread.is_alive()


@contextmanager
def holding(world: OpenWorld) -> Iterator[None]:
    """Somebody has the world's lock."""
    had, free = threading.Event(), threading.Event()

    def hold() -> None:
        with world.lock:
            had.set()
            free.wait(60)

    with beside(hold):
        had.wait()
        try:
            yield
        finally:
            free.set()


# The lock


def test_a_fair_lock_is_had_in_the_order_in_which_it_was_asked_for() -> None:
    lock, order, queued = FairLock(), [], threading.Barrier(2)
    lock.acquire()
    threads = []
    for number in range(6):

        def wait(number: int = number) -> None:
            queued.wait()
            with lock, lock:
                order.append(number)

        threads.append(threading.Thread(target=wait))
        threads[-1].start()
        queued.wait()
        until_true(lambda number=number: len(lock._waiting) > number)  # type: ignore[misc]
    # Whoever lets others in goes on after all that were waiting.
    with lock:
        lock.let_in()
        order.append(99)
    assert order == [0, 1, 2, 3, 4, 5, 99]
    assert lock._depth == 1
    lock.release()
    for thread in threads:
        thread.join()
    with pytest.raises(RuntimeError):
        lock.release()
    assert lock.acquire(blocking=False)


def test_a_fair_lock_gives_up_in_time_and_carries_a_condition() -> None:
    lock = FairLock()
    freed, told = threading.Condition(lock), []  # type: ignore[arg-type]

    def wait() -> None:
        with lock, freed:
            freed.wait(60)
            told.append(lock._depth)

    with beside(wait):
        until_true(lambda: freed._waiters)  # type: ignore[attr-defined]
        with lock:
            got = ThreadPoolExecutor(1).submit(lock.acquire, True, 0.01).result()
            assert got is False
            assert not lock._waiting
            freed.notify_all()
    assert told == [2]


@given(st.lists(st.integers(0, 3), min_size=2, max_size=6))
@settings(max_examples=15, deadline=None)
def test_only_one_has_a_fair_lock_at_a_time(depths: list[int]) -> None:
    lock, inside, most = FairLock(), [0], [0]

    def work(depth: int) -> None:
        for turn in range(20):
            for _ in range(depth + 1):
                lock.acquire()
            inside[0] += 1
            most[0] = max(most[0], inside[0])
            if turn % 3 == 0:
                inside[0] -= 1
                lock.let_in()
                inside[0] += 1
            inside[0] -= 1
            for _ in range(depth + 1):
                lock.release()

    with ThreadPoolExecutor(len(depths)) as pool:
        for done in [pool.submit(work, depth) for depth in depths]:
            done.result(60)
    assert most[0] == 1
    assert lock._owner is None


# Long strokes


@pytest.fixture
def breath(monkeypatch: pytest.MonkeyPatch) -> None:
    """Any stroke is long."""
    monkeypatch.setattr(fernfield.work.kernel.hands.brushwork, "BREATH", 1_000)


@pytest.mark.parametrize("tool", ["raise", "roughen", "grade"])
def test_the_land_is_looked_at_while_a_long_stroke_is_drawn(world: OpenWorld, breath: None, tool: str) -> None:
    """Every time that others are let in, somebody reads: the land and other rows of the same world."""
    draw(world, radius_m=90, path=[(150, 130, 0), (150, 130, 1)])
    seen: list[bytes] = []
    calls = []

    def told(done: float) -> None:
        calls.append(done)

    done = threading.Event()

    def look() -> None:
        while not done.is_set():
            with world.lock:
                seen.append(ground(world).tobytes())

    fields = {"width_m": 20} if tool == "grade" else {}
    stroke = Stroke(tool=tool, radius_m=40, softness=0.5, strength=60, path=[(60, 60, 0), (240, 200, 4)], **fields)
    with beside(look):
        try:
            outcome = world.stroke(world.first_tract.row.id, stroke, told)
        finally:
            done.set()
    assert outcome.revision == 2
    assert len(set(seen)) > (1 if tool == "grade" else 2), "somebody saw it on its way"
    assert calls == sorted(calls)
    # The same stroke in one go is the same land.
    alone = ground(world).copy()
    world.undo()
    fernfield.work.kernel.hands.brushwork.BREATH = 1 << 40
    world.stroke(world.first_tract.row.id, stroke)
    assert ground(world).tobytes() == alone.tobytes()


def test_a_stroke_that_is_taken_back_while_others_are_let_in_is_drawn_anew(world: OpenWorld, breath: None) -> None:
    """An earlier stroke comes in its way in the middle of its drawing: both come out as one after the other."""
    tract = world.first_tract.row.id
    begins = StrokeStart(**BEGINS)  # type: ignore[arg-type]
    early, late = world.begin_stroke(tract, begins), world.begin_stroke(tract, begins)
    path = [Sample(40 + 10 * t, 150, t / 5) for t in range(12)]
    crossing = [Sample(100, 100 + 10 * t, t / 5) for t in range(10)]
    met = []

    def told(_done: float) -> None:
        if not met:
            met.append(1)
            world.extend_stroke(early, crossing)

    late.canvas.told = told
    world.extend_stroke(late, path)
    assert met
    assert late.waits_for is early
    world.finish_stroke(early)
    world.finish_stroke(late)
    after = ground(world).copy()
    world.undo()
    world.undo()
    for samples in (crossing, path):
        run = world.begin_stroke(tract, begins)
        world.extend_stroke(run, samples)
        world.finish_stroke(run)
    assert ground(world).tobytes() == after.tobytes()


def test_a_stroke_of_much_work_is_a_job_that_can_be_cancelled(
    client: TestClient, breath: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = client.post("/api/worlds", json=WORLD).json()
    tract = f"/api/tracts/{made['tracts'][0]['id']}"
    stroke = {**BEGINS, "path": [[50, 50, 0], [250, 250, 5]]}
    whole = client.post(f"{tract}/strokes", json=stroke)
    assert (whole.status_code, whole.json()["revision"]) == (200, 1)
    monkeypatch.setattr(fernfield.work.strokes, "MOST_AT_ONCE", 1_000)
    monkeypatch.setattr("fernfield.web.page.tracts.MOST_AT_ONCE", 1_000)
    studio: Studio = client.app.state.studio  # type: ignore[attr-defined]
    began = client.post(f"{tract}/strokes", json=stroke)
    assert began.status_code == 202
    job = ended(studio.jobs.get(began.json()["job"]))
    assert (job.state, job.result and job.result["revision"]) == ("done", 2)
    world = studio.world(made["id"])
    kept = ground(world).copy()
    # Cancelled in the middle of its drawing: nothing of it is left.
    step = Job.step

    def cancelled(job: Job, progress: float, message: str) -> None:
        if progress > 0.2:
            job._stop.set()
        step(job, progress, message)

    monkeypatch.setattr(Job, "step", cancelled)
    job = ended(studio.jobs.get(client.post(f"{tract}/strokes", json=stroke).json()["job"]))
    assert job.state == "cancelled"
    assert ground(world).tobytes() == kept.tobytes()
    assert not world.holds
    assert world.revision == 2


def test_a_stroke_holds_so_much_and_no_more(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    made = client.post("/api/worlds", json=WORLD).json()
    world = client.app.state.studio.world(made["id"])  # type: ignore[attr-defined]
    monkeypatch.setattr(fernfield.work.kernel.hands.strokes, "MOST_HELD", 270 * 270)
    before = ground(world).copy()
    with pytest.raises(InvalidInput, match="in parts"):
        draw(world, radius_m=60, path=[(40, 40, 0), (280, 280, 3)])
    assert np.array_equal(ground(world), before)
    assert not world.holds
    # By hand it is kept as far as it went.
    with client.websocket_connect(live(made["id"])) as socket:
        say(socket, "begin", tract=made["tracts"][0]["id"], stroke={**BEGINS, "radius_m": 60})
        say(socket, "move", samples=[[40, 100, 0], [100, 110, 0.5], [140, 120, 1.0], [280, 290, 3], [290, 290, 4]])
        assert hear(socket, "ended")["revision"] == 1
        assert "as far as it went" in hear(socket, "error")["message"]


# Lines


def say(socket: Any, what: str, **facts: Any) -> None:
    socket.send_text(json.dumps({"is": what, **facts}))


def hear(socket: Any, *wanted: str) -> dict[str, Any]:
    while (message := socket.receive_json())["is"] not in wanted:
        pass
    return dict(message)


def test_a_page_that_opens_or_goes_while_a_world_is_busy_stops_nobody(client: TestClient) -> None:
    made, other = (client.post("/api/worlds", json={**WORLD, "name": n}).json() for n in ("Busy", "Idle"))
    busy = client.app.state.studio.world(made["id"])  # type: ignore[attr-defined]

    def open_page() -> None:
        with client.websocket_connect(live(made["id"])) as socket:
            hear(socket, "hello")

    with client.websocket_connect(live(made["id"])) as leaving:
        hear(leaving, "hello")
        with ThreadPoolExecutor(8) as pool:
            with holding(busy):
                pages = [pool.submit(open_page) for _ in range(4)]
                gone = pool.submit(leaving.close)
                began = time.monotonic()
                for path in ("/healthz", "/static/css/fern.css", f"/api/worlds/{other['id']}"):
                    assert client.get(path).status_code == 200
                assert (
                    client.post(
                        f"/api/tracts/{other['tracts'][0]['id']}/strokes",
                        json={**BEGINS, "path": [[50, 50, 0], [60, 60, 1]]},
                    ).status_code
                    == 200
                )
                assert time.monotonic() - began < SOON_S
            for page in (*pages, gone):
                page.result(SOON_S)


def test_edits_that_wait_stop_neither_answers_nor_the_stroke_that_they_wait_for(client: TestClient) -> None:
    """Forty-five undos of what a stroke holds: once they filled the pool of threads that the stroke's end needed."""
    made = client.post("/api/worlds", json=WORLD).json()
    tract, undo = made["tracts"][0]["id"], f"/api/worlds/{made['id']}/undo"
    for _ in range(60):
        client.post(f"/api/tracts/{tract}/strokes", json={**BEGINS, "path": [[50, 50, 0], [60, 60, 0.1]]})
    with client.websocket_connect(live(made["id"])) as socket, ThreadPoolExecutor(60) as pool:
        say(socket, "begin", tract=tract, stroke=BEGINS)
        say(socket, "move", samples=[[50, 50, 0], [55, 50, 0.3], [60, 50, 0.6]])
        until_true(lambda: client.app.state.studio.world(made["id"]).holds)  # type: ignore[attr-defined]
        waiting = [pool.submit(client.post, undo) for _ in range(45)]
        # The line is bounded: who finds it full is told when to come again, while all the others wait.
        turned_away = 45 - AT_ONCE - MOST_WAITING - 1
        assert len(list(itertools.islice(as_completed(waiting, SOON_S), turned_away))) == turned_away
        began = time.monotonic()
        assert client.get("/healthz").status_code == 200
        say(socket, "end")
        assert hear(socket, "ended")["revision"] == 61
        assert time.monotonic() - began < SOON_S
        answers = [f.result(60) for f in waiting]
        refused = [answer for answer in answers if answer.status_code == 429]
        assert len(refused) >= turned_away > 0
        for answer in refused:
            assert int(answer.headers["retry-after"]) >= 1
            assert "wait already" in answer.json()["detail"]
        assert {answer.status_code for answer in answers} == {200, 429}


def _threads_taken() -> int:
    """Threads that serve answers at the moment."""
    return int(to_thread.current_default_thread_limiter().borrowed_tokens)


def test_open_streams_of_jobs_cost_no_thread(client: TestClient) -> None:
    studio: Studio = client.app.state.studio  # type: ignore[attr-defined]
    free = threading.Event()

    def work(job: Job) -> dict[str, Any]:
        free.wait(60)
        return {}

    job = studio.jobs.start(JobKind("slow", "Slow", work), None)

    def stream() -> list[str]:
        with client.stream("GET", f"/api/jobs/{job.id}/events") as answer:
            return [line for line in answer.iter_lines() if line.startswith("data")]

    with ThreadPoolExecutor(80) as pool:
        streams = [pool.submit(stream) for _ in range(80)]
        until_true(lambda: len(job._hearers) >= 80)
        assert client.portal is not None
        portal = client.portal
        until_true(lambda: portal.call(_threads_taken) == 0, SOON_S)
        assert client.get("/api/worlds").status_code == 200
        free.set()
        for one in streams:
            assert json.loads(one.result(SOON_S)[-1][5:])["state"] == "done"
    assert job._hearers == []


def test_a_queued_job_is_cancelled_at_once() -> None:
    jobs, free = Jobs(), threading.Event()
    kind: JobKind[[]] = JobKind("slow", "Slow", lambda job: {"ended": free.wait(60)})
    ran = []
    never: JobKind[[]] = JobKind("never", "Never", lambda job: ran.append(1) or {})
    try:
        busy = [jobs.start(kind, None) for _ in range(2)]
        queued = jobs.start(never, None)
        jobs.cancel(queued.id)
        assert queued.state == "cancelled"
        assert queued.ended
        free.set()
        assert [ended(job).state for job in busy] == ["done", "done"]
    finally:
        free.set()
        jobs.close()
    assert ran == []
    assert queued.state == "cancelled"


def test_a_job_that_is_asked_for_while_all_end_is_cancelled() -> None:
    """As one does that was stopped itself, and gives back what it had taken."""
    jobs = Jobs()
    jobs.close()
    ran = []
    late: JobKind[[]] = JobKind("late", "Late", lambda job: ran.append(1) or {})
    assert jobs.start(late, None).state == "cancelled"
    assert ran == []


# The end


def test_a_server_in_the_midst_of_everything_ends_within_ten_seconds(tmp_path: Path) -> None:
    """Two long jobs, a long stroke, an edit of many tiles, and a page with its hand on the land.

    The seconds are those of a processor: what else keeps the machine busy does not count.
    """
    studio = Studio(tmp_path)
    ids = [studio.create(WorldSpec(name=name, width_m=2_048, depth_m=2_048, spacing_m=1)) for name in "ABC"]
    tracts = [studio.world(world).first_tract.row.id for world in ids]
    studio.close()
    ended = resource.getrusage(resource.RUSAGE_CHILDREN)
    with server("serve", tmp_path) as url:
        for path, body in (
            (f"/api/tracts/{tracts[0]}/weather", {"kind": "frost", "passes": 400, "repose_deg": 10}),
            (f"/api/tracts/{tracts[1]}/generate", {"seed": 1, "landscapes": [{"name": "fells", "patch_m": 500}]}),
            (f"/api/tracts/{tracts[2]}/reset", {"to": "elevation", "elevation_m": 4}),
            (f"/api/tracts/{tracts[2]}/strokes",
             {**BEGINS, "tool": "roughen", "radius_m": 150, "path": [[300, 300, 0], [1_500, 1_500, 4]]}),
        ):  # fmt: skip
            threading.Thread(target=_ask, args=(url + path, body), daemon=True).start()
        with connect(f"{url.replace('http', 'ws')}/live/{ids[2]}") as page:
            page.send(json.dumps({"is": "begin", "tract": tracts[2], "stroke": BEGINS}))
            page.send(json.dumps({"is": "move", "samples": [[1_900, 100, 0], [1_950, 100, 0.3], [1_960, 100, 0.6]]}))
            until_true(lambda: _busy(url) == 2, SOON_S)
        before = _spent_s(str(tmp_path))
    now = resource.getrusage(resource.RUSAGE_CHILDREN)
    spent = now.ru_utime + now.ru_stime - ended.ru_utime - ended.ru_stime - before
    assert 0 < spent < 10, spent
    again = Studio(tmp_path)
    for world in ids:
        opened = again.world(world)
        assert not opened.without_overviews
        ground(opened)
    again.close()


def _spent_s(said: str) -> float:
    """Processor time of the process whose command line says this, up to now. [s]"""
    [process] = [one.parent for one in Path("/proc").glob("[0-9]*/cmdline") if _runs(one, said)]
    user, system = (process / "stat").read_text().rsplit(")", 1)[1].split()[11:13]
    return (int(user) + int(system)) / os.sysconf("SC_CLK_TCK")


def _runs(command: Path, said: str) -> bool:
    try:
        return said in command.read_text()
    except OSError:
        return False


def _ask(url: str, body: Any) -> None:
    data = json.dumps(body).encode()
    request = urllib.request.Request(url, data, {"content-type": "application/json"})
    # Whoever still waits when the server ends gets no answer.
    with contextlib.suppress(OSError, http.client.HTTPException), urllib.request.urlopen(request, timeout=60):
        pass


def _busy(url: str) -> int:
    """Jobs that are being worked on, as /metrics has it."""
    with urllib.request.urlopen(f"{url}/metrics", timeout=60) as answer:
        text = answer.read().decode()
    line = next(line for line in text.splitlines() if line.startswith("fernfield_jobs_running "))
    return int(float(line.split()[1]))
