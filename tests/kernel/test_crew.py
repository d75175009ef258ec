"""The same work by threads, processes or a Dask cluster: the same bytes, whoever does it and whoever dies."""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from fernfield.core.errors import Cancelled, Conflict, InvalidInput
from fernfield.core.grid import FloatArray, Window
from fernfield.work.ground.commands import MakeLand
from fernfield.work.ground.making import land_in
from fernfield.work.ground.room import WEATHER
from fernfield.work.ground.rows import Landscape, Recipe, Weathering
from fernfield.work.ground.weathering import frost_in_place
from fernfield.work.kernel.crew import Crew, cluster, crew_of, processes, threads
from fernfield.work.kernel.jobs import Job, JobKind
from fernfield.work.kernel.windows import over, rows_of
from fernfield.work.studio import Studio
from tests.conftest import ended, ground
from tests.kernel.test_overviews import PLAIN, agree

WHOLE = Window(0, 0, 70, 90)
RECIPE = Recipe(
    seed=5, blend_m=60, landscapes=(Landscape(name="fells", patch_m=300), Landscape(name="fen", patch_m=300))
)
KIND: JobKind[Any] = WEATHER


@pytest.fixture(scope="module")
def two_processes() -> Iterator[Crew]:
    crew = processes(2)
    yield crew
    crew.close()


@pytest.fixture(scope="module")
def two_workers() -> Iterator[Crew]:
    """A Dask cluster on this machine: two processes that are told what to do over the wire."""
    import dask
    from distributed import LocalCluster

    # On a busy machine its processes may take long to come up and find each other.
    patience = {"distributed.comm.timeouts.connect": "180s", "distributed.comm.timeouts.tcp": "180s"}
    with (
        dask.config.set(patience),
        LocalCluster(
            n_workers=2, threads_per_worker=1, dashboard_address="127.0.0.1:0", processes=True, host="127.0.0.1"
        ) as local,
    ):
        crew = cluster(local.scheduler_address)
        yield crew
        crew.close()


def land_by(crew: Crew, rows: int) -> FloatArray:
    out = np.empty(WHOLE.shape, np.float32)

    def give(part: Window) -> tuple[Any, ...]:
        xs, ys = np.arange(part.col0, part.col1) * 9.0, np.arange(part.row0, part.row1) * -9.0
        return RECIPE, xs, ys, (400.0, -300.0), 300.0

    for part, made in over(rows_of(WHOLE, rows), give, land_in, crew=crew):
        out[part.inside(WHOLE)] = made
    return out


def frost_by(crew: Crew) -> FloatArray:
    heights = np.random.default_rng(4).normal(0, 8, (300, 80)).astype(np.float32)
    frost_in_place(heights, 1.0, 20.0, 9, np.zeros((0, 0), np.float32), Job("j", KIND, None, crew), (0, 1))
    return heights


def test_whoever_does_it_and_in_whatever_parts_it_is_the_same_to_the_last_bit(
    two_processes: Crew, two_workers: Crew
) -> None:
    expected = land_by(threads(1), WHOLE.rows)
    assert np.ptp(expected) > 20
    for crew in (threads(1), threads(3), two_processes, two_workers):
        for rows in (1, 7, 64):
            assert land_by(crew, rows).tobytes() == expected.tobytes()
    worn = frost_by(threads(1))
    for crew in (threads(2), two_processes, two_workers):
        assert frost_by(crew).tobytes() == worn.tobytes()


def dies_once(path: str, number: int) -> int:
    """A part of work whose worker is killed the first time that it comes to the third part."""
    if number == 3 and not os.path.exists(path):
        Path(path).write_text("dead")
        os.kill(os.getpid(), signal.SIGKILL)
    return number * number


def always_dies(_number: int) -> int:
    os.kill(os.getpid(), signal.SIGKILL)
    return 0


@pytest.mark.parametrize("who", ["two_processes", "two_workers"])
def test_a_worker_that_is_killed_in_the_middle_costs_time_not_the_result(
    who: str, request: pytest.FixtureRequest, tmp_path: Path
) -> None:
    crew: Crew = request.getfixturevalue(who)
    path = str(tmp_path / "died")
    assert list(crew.each(dies_once, ((path, n) for n in range(12)))) == [n * n for n in range(12)]
    assert os.path.exists(path)


def test_a_pool_that_broke_before_it_is_handed_the_next_part_is_called_anew() -> None:
    """Whoever dies while nobody waits for a result breaks the pool at the next `submit`."""

    class Broken(ThreadPoolExecutor):
        handed = 0

        def submit(self, *call: Any, **more: Any) -> Any:
            Broken.handed += 1
            if Broken.handed in (1, 4):
                raise BrokenProcessPool("a worker died")
            return super().submit(*call, **more)

    with closing(Crew(lambda: (Broken(1), 1))) as crew:
        assert list(crew.each(abs, ((-n,) for n in range(9)))) == list(range(9))
    assert Broken.handed == 9 + 2 + 1


def test_workers_that_die_again_and_again_end_the_work_with_words() -> None:
    with closing(processes(1)) as crew, pytest.raises(Conflict, match="died again and again"):
        list(crew.each(always_dies, ((n,) for n in range(4))))


def test_only_a_few_parts_stand_in_memory() -> None:
    given: list[int] = []
    taken: list[int] = []

    def calls() -> Iterator[tuple[int]]:
        for number in range(40):
            given.append(number)
            yield (number,)

    with closing(threads(2)) as crew:
        for found in crew.each(abs, calls()):
            taken.append(found)
            assert len(given) - len(taken) <= 4
    assert taken == list(range(40))


def test_a_failure_is_told_and_the_rest_is_not_done() -> None:
    done: list[int] = []

    def work(number: int) -> int:
        if number == 2:
            raise ValueError("no such ground")
        done.append(number)
        return number

    with closing(threads(1)) as crew, pytest.raises(ValueError, match="no such ground"):
        list(crew.each(work, ((n,) for n in range(100))))
    assert len(done) < 8


def test_a_cancelled_job_stops_between_two_parts() -> None:
    job = Job("j", KIND)
    seen: list[float] = []

    def parts() -> None:
        going = over(rows_of(WHOLE, 10), lambda w: (w.row0,), abs, say=job.step, words="Going")
        for number, _ in enumerate(going):
            seen.append(job.progress)
            if number == 3:
                job._stop.set()

    with pytest.raises(Cancelled):
        parts()
    assert seen == pytest.approx([n / 7 for n in range(4)])


def test_who_does_the_work_is_a_setting(tmp_path: Path) -> None:
    """Land from a recipe with frost, by threads and by two processes: one revision, the same ground."""
    found = []
    for workers in (0, 2):
        with closing(Studio(tmp_path / str(workers), workers=workers)) as studio:
            world = studio.world(studio.create(PLAIN))
            recipe = RECIPE.model_copy(update={"weathering": Weathering(drops_per_m2=0.0, passes=6, repose_deg=20)})
            job = ended(studio.start_making(world.first_tract.row.id, MakeLand(key="l", name="L", recipe=recipe)))
            assert job.state == "done", job.message
            found.append(ground(world).tobytes())
            agree(world)
    assert found[0] == found[1]


@pytest.mark.parametrize(("address", "words"), [("tcp://127.0.0.1:9", "no Dask scheduler answers")])
def test_a_cluster_that_does_not_answer_is_said(address: str, words: str, monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(InvalidInput, match=words):
        list(crew_of(0, address).each(abs, [(1,)]))
    absent: Callable[[str], Any] = lambda name: (_ for _ in ()).throw(ImportError(name))  # noqa: E731
    monkeypatch.setattr("fernfield.work.kernel.crew.importlib.import_module", absent)
    with pytest.raises(InvalidInput, match=r"fernfield\[cluster\]"):
        list(crew_of(0, address).each(abs, [(1,)]))


def test_two_pieces_of_work_share_a_crew() -> None:
    with closing(threads(2)) as crew:
        found: list[list[int]] = [[], []]
        both = [
            threading.Thread(target=lambda k=k: found[k].extend(crew.each(abs, ((n,) for n in range(50)))))
            for k in range(2)
        ]
        for one in both:
            one.start()
        for one in both:
            one.join(30)
        assert found == [list(range(50))] * 2
