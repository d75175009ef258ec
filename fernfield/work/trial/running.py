"""Runs of simulated testers: what they are asked for, worked out as a job by all workers, and kept by name.

A run goes on with the world as it was when it began, whatever is edited meanwhile. Its figures are a row; where all of
them were is kept beside it under the same key, as an archive of arrays (NumPy's .npz): it goes wherever the world goes.
"""

from __future__ import annotations

import io
import json
import pickle
import random
import secrets
import zipfile
import zlib
from collections import Counter, deque
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter
from typing_extensions import TypedDict

from fernfield.core.errors import FormatError, InvalidInput, NotFound
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.travel.bots import (
    AIMS,
    CELL_POSTS,
    Bot,
    Played,
    Scene,
    Simulation,
    Target,
    Worst,
    guide_to,
    open_ground,
    worst_of,
)
from fernfield.core.travel.reach import NOT_REACHED, classes
from fernfield.core.travel.walkers import WALKER
from fernfield.store.worlds import WorldStore
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.jobs import Job, JobKind
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rooms import Begins
from fernfield.work.kernel.rows import Collection, Name, Row, TractId, new_key
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.passing.raster import passable_in
from fernfield.work.passing.walkers import WalkerKey, gait_of
from fernfield.work.trial.reaching import posts_of, whole_of

MOST_POSTS = 2_049**2
MOST_BOTS = 400
MOST_PLACES = 20_000_000
"""Of all bots, rounds and seconds together: what is kept of them lies in memory while they go."""
SPOTS = 16
"""So many places, taken by the seed, for those who go anywhere."""
WET_M = 0.1
MOST_UNPACKED = 16 * MOST_PLACES
"""What a run takes unpacked at most: three figures for each place, and what is told beside them. [bytes]"""
LOOK_S = 0.3
"""So often it is looked whether a run is to stop."""
AimName = Literal["explore", "fetch", "reach", "hold", "meet"]
What = Literal["walked", "stood", "met", "stuck", "fallen"]
Team = Annotated[int, Field(ge=1, le=8)]


class BotsOf(BaseModel):
    """Some bots of a team that are alike. aim : what they are after; hurries : they run; fears_water : they go around
    all of it"""

    model_config = ConfigDict(extra="forbid", frozen=True)

    team: Team = 1
    walker: WalkerKey = WALKER
    aim: AimName = "explore"
    count: Annotated[int, Field(ge=1, le=200)] = 10
    hurries: bool = False
    fears_water: bool = False


class ToRun(BaseModel):
    """Which bots go, for how many rounds of how many minutes each at most, by which seed."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    name: Name = "Run"
    bots: Annotated[tuple[BotsOf, ...], Field(min_length=1, max_length=16)]
    rounds: Annotated[int, Field(ge=1, le=100)] = 5
    minutes: Annotated[float, Field(ge=0.1, le=60)] = 5.0
    seed: Annotated[int, Field(ge=0, lt=1 << 31)] = 1


class Run(Row):
    """Collection "runs": what came of some rounds of simulated testers.

    revision : of the world as they had it; won : rounds that each team won, "none" for those that nobody did
    shortest_s, mean_s, longest_s : of a round; met_s : by two teams ("1-2"), the mean of when they first met
    fired : how often each cue went off; not_visited : places that somebody was to go to, and nobody came
    """

    name: Annotated[Name, Say("Name")]
    bots: Annotated[tuple[BotsOf, ...], UNASKED]
    rounds: Annotated[int, UNASKED]
    minutes: Annotated[float, UNASKED]
    seed: Annotated[int, UNASKED]
    revision: Annotated[int, UNASKED]
    won: Annotated[dict[str, int], UNASKED]
    shortest_s: Annotated[float, UNASKED]
    mean_s: Annotated[float, UNASKED]
    longest_s: Annotated[float, UNASKED]
    stuck: Annotated[int, UNASKED]
    fallen: Annotated[int, UNASKED]
    met_s: Annotated[dict[str, float], UNASKED]
    fired: Annotated[dict[str, int], UNASKED]
    not_visited: Annotated[tuple[str, ...], UNASKED] = ()
    tract: Annotated[TractId | None, UNASKED] = None


RUNS: Collection[Run] = Collection("runs", Run, "run", names_tracts=True, made_by_room=True, stays=True, most=200)


@dataclass(frozen=True, slots=True)
class Setup:
    """All that a round needs, as it was when the run began; rules : a round without its world, packed."""

    scene: Scene
    bots: tuple[Bot, ...]
    targets: tuple[Target, ...]
    names: tuple[str, ...]
    guides: tuple[NDArray[np.int8], ...]
    opens: tuple[NDArray[np.bool_], ...]
    rules: bytes


def _beginnings(begins: Sequence[Begins], team: int) -> list[Begins]:
    own = [one for one in begins if one.team == team] or [one for one in begins if one.team is None]
    if not own:
        raise NotFound(f"team {team} has no start on this land, and none is free to all: place one on the Sites stage")
    return own


def check_run(world: OpenWorld, land: Land, asked: ToRun) -> None:
    """Hold the lock. Raises InvalidInput for more than can be done, NotFound for a walker or start that is not."""
    begins = list(world.house.given.begins(world, land))
    for one in asked.bots:
        gait_of(world, one.walker)
        _beginnings(begins, one.team)
    count = sum(one.count for one in asked.bots)
    if count > MOST_BOTS:
        raise InvalidInput(f"at most {MOST_BOTS} bots go at once, not {count}", "bots")
    if (places := round(count * asked.rounds * asked.minutes * 60)) > MOST_PLACES:
        raise InvalidInput(
            f"bots times rounds times seconds may be {MOST_PLACES:,} at most, not {places:,}", "rounds"
        )  # fmt: skip


def set_up(world: OpenWorld, land: Land, asked: ToRun) -> Setup:
    """All that the rounds of a run need. Raises NotFound, and Conflict for a land that is too large."""
    window = whole_of(land, MOST_POSTS, "bots go")
    given = world.house.given
    with world.lock:
        begins = list(given.begins(world, land))
        homes = {one.team: _beginnings(begins, one.team) for one in asked.bots}
        worth = list(given.worth(world, land))
        grid = land.grid
        heights = np.array(land.read(HEIGHT, window), np.float32)
        void = land.void(np.arange(window.row0, window.row1), np.arange(window.col0, window.col1))
        if void is not None:
            heights[void] = np.nan
        water = np.asarray(world.surface(land, window), np.float32)
        paces = given.paces(world, land, window)
        standing = tuple(one for stands in world.house.obstacles for one in stands(world, land, window))
        scene = Scene(
            grid.x_of(window.col0), grid.y_of(window.row0), grid.spacing, heights, water,
            np.asarray(world.surface(land, window, firm=True), np.float32),
            None if paces is None else np.asarray(paces, np.float32), standing,
        )  # fmt: skip
        rules = pickle.dumps(given.plays(world, land).apart())
    leaves = {
        (one.walker, one.fears_water): _leave(world, land, window, one, water - heights > WET_M) for one in asked.bots
    }
    targets = [Target("resource" if one.collection == "resources" else "objective", one.x, one.y, one.team)
               for one in worth]  # fmt: skip
    names = [one.name for one in worth]
    for home in begins:
        targets.append(Target("start", home.x, home.y, home.team))
        names.append(home.name)
    first = asked.bots[0]
    for x, y in _spots(land, window, leaves[first.walker, first.fears_water], homes[first.team], asked.seed):
        targets.append(Target("spot", x, y))
        names.append(f"{x:.0f}, {y:.0f}")
    wanted: dict[tuple[str, bool, int], int] = {}
    bots = []
    for number, one in enumerate(asked.bots):
        own = {
            at: wanted.setdefault((one.walker, one.fears_water, at), len(wanted))
            for at, target in enumerate(targets) if _is_after(one, target)
        }  # fmt: skip
        for k in range(one.count):
            home = homes[one.team][k % len(homes[one.team])]
            bots.append(
                Bot(f"{number + 1}.{k + 1} of team {one.team}", one.team, one.walker, gait_of(world, one.walker),
                    home.x, home.y, one.aim, one.hurries, own, [*leaves].index((one.walker, one.fears_water)))
            )  # fmt: skip
    posts = posts_of(land, window, [(one.x, one.y) for one in targets])

    def guide(key: tuple[str, bool, int]) -> NDArray[np.int8]:
        return guide_to(leaves[key[:2]], *posts[key[2]], land.grid.spacing, gait_of(world, key[0]).walk)

    opens = tuple(open_ground(leave) for leave in leaves.values())
    with ThreadPoolExecutor(max_workers=2) as pool:
        guides = tuple(pool.map(guide, wanted))
    return Setup(scene, tuple(bots), tuple(targets), tuple(names), guides, opens, rules)


def _is_after(bots: BotsOf, target: Target) -> bool:
    sorts = AIMS[bots.aim].after
    if target.sort == "start":
        return "other start" in sorts and target.team != bots.team
    return target.sort in sorts and target.team in (None, bots.team)


def _leave(world: OpenWorld, land: Land, window: Window, bots: BotsOf, wet: NDArray[np.bool_]) -> ByteArray:
    leave = passable_in(world, land, window, bots.walker)
    return np.where(wet[None], np.uint8(0), leave) if bots.fears_water else leave


def _spots(
    land: Land, window: Window, leave: ByteArray, homes: Sequence[Begins], seed: int
) -> Iterator[tuple[float, float]]:  # fmt: skip
    """Places that are reached from where they begin."""
    got = np.flatnonzero(classes(leave, posts_of(land, window, [(one.x, one.y) for one in homes])) > NOT_REACHED)
    chance = random.Random(seed)
    for at in sorted(chance.sample(range(len(got)), min(SPOTS, len(got)))):
        row, col = divmod(int(got[at]), window.cols)
        yield land.grid.x_of(window.col0 + col), land.grid.y_of(window.row0 + row)


def play_round(setup: Setup, seconds: float, seed: int, number: int, halt: Path | None = None) -> Played:
    """One round of a run, wherever it is worked out; cut short when there is a file `halt`."""
    game = pickle.loads(setup.rules)
    round_ = Simulation(setup.scene, setup.bots, setup.targets, setup.guides, setup.opens, game, seed, number)
    return round_.play(seconds, (lambda: False) if halt is None else halt.exists)


def run_bots(job: Job, world: OpenWorld, land: Land, asked: ToRun, data: Path, tract: str | None) -> dict[str, Any]:
    """Play all rounds, and keep what came of them as a row and a file."""
    job.step(0.0, "Looking at the land")
    revision = world.revision
    setup = set_up(world, land, asked)
    rounds = _played(job, setup, asked, data / "incoming" / f"{secrets.token_hex(4)}.halt")
    key = new_key(asked.name)
    row = _figures(asked, revision, setup, rounds, tract)
    world.store.put_tracks(world.id, key, _archive(setup, rounds))
    with world.lock:
        world.edit(put(RUNS, key, row))
    return {"key": key}


def _played(job: Job, setup: Setup, asked: ToRun, halt: Path) -> list[Played]:
    """All rounds, by whoever works. A round knows nothing of the job: where that is cancelled, a file says so."""
    rounds: list[Played] = []
    calls = ((setup, asked.minutes * 60, asked.seed, number, halt) for number in range(asked.rounds))
    with ThreadPoolExecutor(max_workers=1) as pool:
        going = pool.submit(lambda: deque(map(rounds.append, job.crew.each(play_round, calls)), 0))
        try:
            while True:
                done = len(rounds) / asked.rounds
                job.step(0.05 + 0.9 * done, f"Round {min(len(rounds) + 1, asked.rounds)} of {asked.rounds}")
                if wait([going], timeout=LOOK_S).done:
                    going.result()
                    return rounds
        except BaseException:
            halt.touch()
            going.exception()
            raise
        finally:
            halt.unlink(missing_ok=True)


def _figures(asked: ToRun, revision: int, setup: Setup, rounds: Sequence[Played], tract: str | None) -> Run:
    lasted = [one.seconds for one in rounds]
    met: dict[str, list[float]] = {}
    for one in rounds:
        for (a, b), at in one.met_s.items():
            met.setdefault(f"{a}-{b}", []).append(at)
    fired: Counter[str] = Counter()
    for one in rounds:
        fired.update(one.fired)
    came = {target for one in rounds for target in one.visited}
    sought = {at for bot in setup.bots for at in bot.guides if setup.targets[at].sort != "spot"}
    return Run(
        **asked.model_dump(), revision=revision,
        won=dict(Counter("none" if one.won is None else str(one.won) for one in rounds)),
        shortest_s=min(lasted), mean_s=round(float(np.mean(lasted)), 1), longest_s=max(lasted),
        stuck=sum(event.sort == "stuck" for one in rounds for event in one.events),
        fallen=sum(event.sort == "fallen" for one in rounds for event in one.events),
        met_s={two: round(float(np.mean(times)), 1) for two, times in sorted(met.items())},
        fired=dict(sorted(fired.items())), not_visited=tuple(setup.names[at] for at in sorted(sought - came)),
        tract=tract,
    )  # fmt: skip


def _archive(setup: Setup, rounds: Sequence[Played]) -> bytes:
    """Where all of them were, as it is kept."""
    longest = max(one.tracks.shape[1] for one in rounds)
    tracks = np.full((len(rounds), len(setup.bots), longest, 3), np.nan, np.float32)
    heat = {f"heat_{what}": np.sum([one.heat[what] for one in rounds], axis=0) for what in rounds[0].heat}
    for at, one in enumerate(rounds):
        tracks[at, :, : one.tracks.shape[1]] = one.tracks
    told = {
        "worst": worst_of(rounds), "bots": [bot.name for bot in setup.bots],
        "rounds": [{"seconds": one.seconds, "won": one.won} for one in rounds],
    }  # fmt: skip
    file = io.BytesIO()
    np.savez_compressed(file, tracks=tracks, told=np.frombuffer(json.dumps(told).encode(), np.uint8), **heat)
    return file.getvalue()


RUN = JobKind("run", "Bots at play", run_bots, card="trial/job_run.html")


# What is told of a run


def _kept(world: OpenWorld, key: str) -> Any:
    with world.lock:
        world.row(RUNS, key)
    blob = world.store.tracks(world.id, key)
    if blob is None:
        raise NotFound("where the bots of this run were is not kept: let them go again")
    return np.load(io.BytesIO(blob))


class RoundOf(TypedDict):
    """A round: how long it was, and which team won. [s]"""

    seconds: float
    won: int | None


class RunTold(TypedDict):
    """What is kept of a run beside arrays."""

    worst: list[Worst]
    bots: list[str]
    rounds: list[RoundOf]


TOLD = TypeAdapter(RunTold)
UNREADABLE = (
    OSError, ValueError, TypeError, KeyError, EOFError, RuntimeError, MemoryError, OverflowError, zipfile.BadZipFile,
    zlib.error,
)  # fmt: skip
"""What reading an archive of arrays raises that is damaged, packed in another way, or says that it is larger than all
there is."""


def sound_tracks(blob: bytes) -> None:
    """Raises FormatError for what is no archive of a run."""
    try:
        with zipfile.ZipFile(io.BytesIO(blob)) as packed:
            if sum(one.file_size for one in packed.infolist()) > MOST_UNPACKED:
                raise FormatError("where the bots of a run were takes more room than any run does", "file")
        with np.load(io.BytesIO(blob)) as kept:
            tracks, told = kept["tracks"], TOLD.validate_json(bytes(kept["told"]))
            heat = [kept[f"heat_{what}"] for what in get_args(What)]
        json.dumps(told, allow_nan=False)
    except UNREADABLE as error:
        raise FormatError(f"where the bots of a run were cannot be read: {error}", "file") from None
    numbers = all(one.ndim == 2 and one.dtype.kind in "fiu" for one in heat)
    if not numbers or tracks.dtype.kind != "f" or tracks.shape[:2] != (len(told["rounds"]), len(told["bots"])):
        raise FormatError("where the bots of a run were is of another shape than its rounds", "file")
    if tracks.ndim != 4 or tracks.shape[3] != 3:
        raise FormatError("a place of a bot must be three figures", "file")


def heat_of(world: OpenWorld, key: str, what: What) -> tuple[FloatArray, int]:
    """How much of a run was where, in squares of so many posts from the north-west corner of its land."""
    with _kept(world, key) as kept:
        return np.asarray(kept[f"heat_{what}"], np.float32), CELL_POSTS


def worst_told(world: OpenWorld, key: str) -> list[Worst]:
    """The places where bots stuck or fell most often."""
    with _kept(world, key) as kept:
        found: list[Worst] = json.loads(bytes(kept["told"]))["worst"]
    return found


class RoundTold(TypedDict):
    """A round of a run: how long it was, who won; by its tracks the place of each bot that is asked for. [s]"""

    round: int
    bot: str
    seconds: float
    won: int | None
    track: list[tuple[float, float, float, float]]


def track_of(world: OpenWorld, key: str, number: int, bot: int) -> RoundTold:
    """Where a bot was in a round, every second: seconds, east, north, elevation. Raises NotFound."""
    with _kept(world, key) as kept:
        told, tracks = json.loads(bytes(kept["told"])), kept["tracks"]
    if number >= tracks.shape[0] or bot >= tracks.shape[1]:
        raise NotFound(f"this run has {tracks.shape[0]} rounds of {tracks.shape[1]} bots, counted from 0")
    places = tracks[number, bot]
    places = places[~np.isnan(places[:, 0])]
    own = told["rounds"][number]
    return {
        "round": number, "bot": told["bots"][bot], "seconds": own["seconds"], "won": own["won"],
        "track": [(float(t), *_place(one)) for t, one in enumerate(places)],
    }  # fmt: skip


def _place(one: NDArray[np.float32]) -> tuple[float, float, float]:
    x, y, z = (round(float(value), 3) for value in one)
    return x, y, z


def take_in_runs(data: Path, store: WorldStore) -> None:
    """What an earlier version kept in files beside the database. One that cannot be read stays where it is."""
    there = {row.id for binned in (False, True) for row in store.list_worlds(binned=binned)}
    for path in (data / "runs").glob("*/*.npz"):
        world_id, key = path.parent.name, path.stem
        if world_id in there and store.tracks(world_id, key) is None:
            try:
                sound_tracks(blob := path.read_bytes())
            except FormatError:
                continue
            store.put_tracks(world_id, key, blob)
        path.unlink()
    for folder in (*(data / "runs").glob("*"), data / "runs"):
        with suppress(OSError):
            folder.rmdir()
