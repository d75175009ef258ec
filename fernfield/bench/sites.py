"""Things by the ten thousand: spread by rule, chosen, moved, found in the list, and seen in the overlook."""

from __future__ import annotations

import itertools
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from fernfield.bench import Plan, Row, row
from fernfield.bench.core import land as rough
from fernfield.core.sites.shipped import SHIPPED
from fernfield.core.travel.bots import BOT_TICK_S
from fernfield.core.travel.passable import HALO, passable
from fernfield.core.travel.reach import reach_from
from fernfield.core.travel.road_ways import road_way
from fernfield.core.travel.walker import Intent, Obstacle, Walker, tick
from fernfield.core.travel.walkers import WALKER, WALKERS
from fernfield.work.kernel.commands import patch, put
from fernfield.work.kernel.crew import processes
from fernfield.work.kernel.many import look_at_rows, take_rows
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.passing.raster import passable_in
from fernfield.work.sites.arranging import Arrange, arrange
from fernfield.work.sites.play.aims import RESOURCES, Resource
from fernfield.work.sites.play.cues import CUES
from fernfield.work.sites.play.findings import play_of
from fernfield.work.sites.roads import ROADS, Road
from fernfield.work.sites.rows import THINGS, Start
from fernfield.work.sites.scatters import Scatter, scattered
from fernfield.work.studio import Studio
from fernfield.work.trial.fairness import AskFair, fair
from fernfield.work.trial.running import BotsOf, ToRun, play_round, set_up
from fernfield.work.worlds.beginnings import WorldSpec

SIDE = 2_048
CROWD = 20_000
MOVED = 500
SPREAD = 10_000
SORTS = 8
CUED = 1_000
STARTS, WORTH = 8, 100


def rows(plan: Plan) -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder))
        try:
            yield _scattered(studio, plan)
            yield _arranged(studio, plan)
            yield _way(plan)
            yield _reach(plan)
            yield from _fair(studio, plan)
            yield _bots(studio)
            yield _led(studio, plan)
            yield _cued(studio, plan)
        finally:
            studio.close()


def _cued(studio: Studio, plan: Plan) -> Row:
    """1,000 cues that wait for each other and count, checked as after an edit, beside the same written as JSON."""
    spec = WorldSpec(name="Cues", width_m=64, depth_m=64, spacing_m=1)
    world = studio.world(studio.create(spec))
    cues: dict[str, dict[str, Any]] = {
        f"c{k}": {
            "name": f"Cue {k}", "repeats": "each",
            "when": [{"sort": "cued", "cue": f"c{(k * 7 + 1) % CUED}"},
                     {"sort": "counted", "counter": f"n{k % 50}", "number": 3}],
            "then": [{"sort": "count", "counter": f"n{(k + 1) % 60}"}, {"sort": "tell", "text": "So it is"}],
        }
        for k in range(CUED)
    }  # fmt: skip
    # They can wait for each other once they are there.
    for only in (1, 2):
        some = ((key, {**said, "when": said["when"][-only:]}) for key, said in cues.items())
        take_rows(world, CUES, look_at_rows(world, CUES, some))

    changes = itertools.count()

    def ours() -> None:
        world.edit(patch(CUES, "c0", name=f"Cue {next(changes)}"))
        play_of(world)

    rows = [cue for _, cue in world.each(CUES)]

    def theirs() -> None:
        for cue in rows:
            cue.model_dump_json()

    return row(f"{CUED:,} cues checked after an edit", "the same written as JSON", "50 ms", ours, theirs, plan.runs)


def _uneven(studio: Studio, side: int, name: str) -> OpenWorld:
    heights = rough(side + 1)
    spec = WorldSpec(name=name, width_m=side, depth_m=side, spacing_m=1)
    return studio.world(studio.create(spec, heights=lambda window: heights[window.inside(spec.grid.window)]))


def _scattered(studio: Studio, plan: Plan) -> Row:
    """Places for 10,000 pieces on land that five conditions are asked of, beside those places in a k-d tree."""
    world = _uneven(studio, 1_024, "Spread")
    asked = [
        {"what": "slope", "to": 80.0, "soft": 5.0},
        {"what": "elevation", "from": -500.0, "soft": 2.0},
        {"what": "noise", "from": 0.05, "size_m": 60, "seed": 3},
        {"what": "aspect", "from": 20.0, "to": 340.0},
        {"what": "water_distance", "from": 0.0},
    ]
    kits = [{"kit": kit, "weight": 1} for kit in ("cairn", "tool_cache", "hurdle")]
    rule = Scatter.model_validate(
        {"name": "Spread", "of": kits, "count": SPREAD, "apart_m": 4, "conditions": asked, "facing": "downhill"}
    )
    spots: list[tuple[float, float]] = []

    def ours() -> None:
        with world.lock:
            spots[:] = [(one["x"], one["y"]) for one in scattered(world, "spread", rule)[1].things]

    ours()
    return row(
        f"{len(spots):,} pieces spread on 1,025² by five conditions, downhill", "their places paired in a k-d tree",
        "2 s", ours, lambda: cKDTree(spots).query_pairs(8.0, output_type="ndarray"), max(3, plan.runs // 5),
    )  # fmt: skip


def crowded(studio: Studio, count: int) -> OpenWorld:
    """A world with so many pieces, of eight sorts in turn that want no pads."""
    kits = [key for key, entry in SHIPPED.items() if entry.meets != "pad"][:SORTS]
    world = _uneven(studio, SIDE, f"Crowd {count}")
    rng = np.random.default_rng(7)
    spots = rng.uniform(10, SIDE - 10, (count, 2)).tolist()
    found = (
        (f"p{k}", {"sort": "piece", "kit": kit, "name": f"P {k}", "x": x, "y": y, "turn_deg": k % 360})
        for k, ((x, y), kit) in enumerate(zip(spots, itertools.cycle(kits), strict=False))
    )
    take_rows(world, THINGS, look_at_rows(world, THINGS, found))
    return world


def _arranged(studio: Studio, plan: Plan) -> Row:
    """500 pieces moved and turned as one: it costs by those, not by all there are."""
    full, bare = (crowded(studio, count) for count in (CROWD, MOVED))
    keys = [f"p{k}" for k in range(MOVED)]
    steps = {world.id: itertools.cycle((0.1, -0.1)) for world in (full, bare)}

    def moved(world: OpenWorld) -> None:
        step = next(steps[world.id])
        arrange(world, keys, Arrange(dx_m=step, turn_by_deg=step, about="middle"))

    return row(f"{MOVED} pieces moved and turned about their middle, of {CROWD:,}", f"the same of {MOVED}", "1.5",
               lambda: moved(full), lambda: moved(bare), max(5, plan.runs // 3))  # fmt: skip


def _way(plan: Plan) -> Row:
    """The cheapest way of a road across uneven land, beside scikit-image's on the same costs, which knows no slopes."""
    side = plan.large
    heights = rough(side)
    costs = (1 + 10 * np.hypot(*np.gradient(heights))).astype(np.float32)
    start, end = (8, 8), (side - 9, side - 9)
    against, other = "sorting the costs", lambda: np.sort(costs, axis=None)
    with suppress(ImportError):
        from skimage.graph import MCP_Geometric

        against = "MCP_Geometric of scikit-image on the same costs"
        other = lambda: MCP_Geometric(costs).find_costs([start], [end])  # noqa: E731
    return row(f"a way for a road across {side:,}²", against, "0.2",
               lambda: road_way(heights, costs, start, end, 1.0, 1.0, 4.0), other, 3)  # fmt: skip


def _reach(plan: Plan) -> Row:
    """How soon a walker is anywhere on uneven land, beside scikit-image's cheapest costs on as many posts."""
    side = plan.large
    heights = np.asarray(rough(side + 2 * HALO), np.float32)
    leave = passable(heights, 1.0, WALKERS[WALKER], water=np.full_like(heights, -1e6))
    costs = (1 + 10 * np.hypot(*np.gradient(heights[HALO:-HALO, HALO:-HALO]))).astype(np.float32)
    against, other = "sorting the costs", lambda: np.sort(costs, axis=None)
    with suppress(ImportError):
        from skimage.graph import MCP_Geometric

        against = "MCP_Geometric of scikit-image"
        other = lambda: MCP_Geometric(costs).find_costs([(8, 8)])  # noqa: E731
    return row(f"reached when, over {side:,}²", against, "0.2",
               lambda: reach_from(leave, [(8, 8)], 1.0, 3.0), other, 3)  # fmt: skip


def _fair(studio: Studio, plan: Plan) -> Iterator[Row]:
    """How fair eight starts are, all of them elsewhere each time, and a resource tried out elsewhere."""
    side = min(plan.large, 2_049)
    world, rng = _uneven(studio, side - 1, "Fair"), np.random.default_rng(2)
    places = rng.uniform(50, side - 50, (STARTS + WORTH, 2)).round(1).tolist()
    for k, (x, y) in enumerate(places):
        if k < STARTS:
            world.edit(put(THINGS, f"s{k}", Start(name=f"Start {k}", x=x, y=y, team=k + 1)))
        else:
            world.edit(put(RESOURCES, f"r{k}", Resource(name=f"Peat {k}", of="peat", x=x, y=y)))
    shifts = itertools.cycle(range(1, 9))

    def all_anew() -> None:
        shift = next(shifts)
        moved = {f"things/s{k}": (x + shift, y) for k, (x, y) in enumerate(places[:STARTS])}
        fair(world, world.first_land, AskFair(moved=moved))

    def one_elsewhere() -> None:
        fair(world, world.first_land, AskFair(moved={f"resources/r{STARTS}": (100.0 + next(shifts), 100.0)}))

    def one_reach() -> None:
        leave = passable_in(world, world.first_land, world.first_land.bounds, WALKER)
        reach_from(leave, [(8, 8)], 1.0, 3.0)

    one_elsewhere()
    name = f"fair, {STARTS} starts, {WORTH} places, {side:,}²"
    yield row(name, "one reach over it", "3 s at 2,049²", all_anew, one_reach, 3)
    yield row(
        "what if a resource stood elsewhere", "one reach over it", "150 ms at 2,049²", one_elsewhere, one_reach, 3
    )


def _bots(studio: Studio) -> Row:
    """Two rounds of 200 bots over bare land, by two processes, beside as many ticks of one walker on a plane."""
    world, seconds = _uneven(studio, 1_024, "Bots"), 10
    for team, x in ((1, 300.0), (2, 700.0)):
        world.edit(put(THINGS, f"s{team}", Start(name=f"Start {team}", x=x, y=500, team=team)))
    sorts = tuple(BotsOf(team=team, aim=aim, count=50) for team in (1, 2) for aim in ("explore", "meet"))
    setup = set_up(world, world.first_land, ToRun(bots=sorts))
    crew = processes(2)

    def ours() -> None:
        list(crew.each(play_round, ((setup, float(seconds), 1, number) for number in (0, 1))))

    def theirs() -> None:
        walker = Walker(0, 0, 0)
        for _ in range(round(2 * 200 * seconds / BOT_TICK_S)):
            walker = tick(walker, AHEAD_ON, PLANE, None, BOT_TICK_S)

    ours()
    try:
        made = row("200 bots, two rounds, two processes", "as many ticks on a plane", "20 times as fast as time", ours,
                   theirs, 3)  # fmt: skip
    finally:
        crew.close()
    return replace(made, work=f"{made.work}: {2 * seconds / made.ours:.1f} times as fast as time")


class _Plane:
    """Level, dry ground without end."""

    def height(self, x: float, y: float) -> float:
        return 0.0

    def water(self, x: float, y: float) -> float:
        return 0.0

    def obstacles(self, x: float, y: float, reach: float) -> Sequence[Obstacle]:
        return ()

    def holds(self, x: float, y: float) -> bool:
        return True


PLANE, AHEAD_ON = _Plane(), Intent(ahead=1.0)


def _led(studio: Studio, plan: Plan) -> Row:
    """A point of a road of 2 km is moved: cut and filled anew, and written."""
    world = _uneven(studio, SIDE, "Road")
    x = np.linspace(20, SIDE - 20, 21)
    points = [(float(one), 1_000 + 60 * float(np.sin(one / 150))) for one in x]
    shifts = itertools.cycle((2.0, -2.0))

    def led() -> None:
        at = len(points) // 2
        points[at] = points[at][0], points[at][1] + next(shifts)
        world.edit(put(ROADS, "road", Road(name="Road", points=tuple(points), steepest_percent=60)))

    def named() -> None:
        kept = world.row(ROADS, "road")
        world.edit(put(ROADS, "road", kept.model_copy(update={"name": f"Road {next(shifts):g}"})))

    led()
    return row("a point of a road of 2 km moved: p95 100 ms", "its name changed", "100 ms", led, named,
               max(5, plan.runs // 3))  # fmt: skip


TIMED = """
(names) => {
  // From an event until all who hear of it have done their work, and until what it changed is on the screen: the frame
  // after it, and what that frame drew.
  const begun = new WeakMap();
  window.fern.timed = [];
  window.fern.known = [];
  const since = (event) => (performance.now() - begun.get(event)) / 1000;
  const on = (event) => {
    begun.set(event, performance.now());
    requestAnimationFrame(() => setTimeout(() => window.fern.timed.push(since(event))));
  };
  // The last to hear of it: what the others left for the end of their turn is done by then.
  const over = (event) => window.fern.known.push(since(event));
  for (const name of names) {
    addEventListener(name, on, { capture: true });
    addEventListener(name, over);
  }
  window.fern.untimed = () =>
    names.forEach((name) => {
      removeEventListener(name, on, { capture: true });
      removeEventListener(name, over);
    });
}
"""
PASSED = """
() => {
  // Once through all the pieces, and a frame: the least that a search has to do.
  const begin = performance.now();
  const words = [];
  for (const one of fern.each("things")) if (`${one.name} ${one.kit}`.includes("no such")) words.push(one);
  return new Promise((done) => requestAnimationFrame(() => setTimeout(() => done((performance.now() - begin) / 1000))));
}
"""
TIMES = 30


def in_browser(browser: Any, data: Path) -> Iterator[Row]:
    """20,000 pieces on the page: chosen by a box, 500 of them dragged, found as one types, and the overlook."""
    from fernfield.bench.browser import AT_HOME, ROUND, server, settled

    studio = Studio(data)
    full, bare = (crowded(studio, count).id for count in (CROWD, 0))
    studio.close()
    with server("serve", data) as url:

        def opened(world: str) -> Any:
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.add_init_script(AT_HOME)
            page.goto(f"{url}/worlds/{world}")
            page.wait_for_selector("#bench[data-shows]")
            page.keyboard.press("6")
            page.wait_for_selector("#bench[data-shows=sites]")
            settled(page)
            return page

        page = opened(full)
        passed = sorted(page.evaluate(PASSED) for _ in range(TIMES))
        known, seen = _boxed(page)
        yield _row(f"a box chooses among {CROWD:,} pieces, until they are chosen", known, passed, 0.5, "20 ms")
        yield _row(f"a box chooses among {CROWD:,} pieces, to the frame, software rendering", seen, passed, 0.5, "–")
        still, held = _dragged(page)
        words = "the pointer moved over them with nothing in the hand"
        yield _row(f"{MOVED} of {CROWD:,} dragged on the plan, to drawn pixels", held, still, 0.95, "60 ms", words)
        yield _row(f"a letter typed into the list of {CROWD:,}, to the frame", _typed(page), passed, 0.95, "100 ms")
        page.close()
        frames = []
        for world in (full, bare):
            page = opened(world)
            page.evaluate("fern.state.show.detail = 'low'; fern.state.view = 'overlook'")
            settled(page)
            page.evaluate(ROUND)
            frames.append(page.evaluate(ROUND))
            page.close()
        words = f"a frame of the overlook over {CROWD:,} pieces, software rendering"
        yield Row(words, "the same land without any", frames[0], frames[1], frames[0] / frames[1], "1.5")


def _row(
    words: str, ours: list[float], theirs: list[float], part: float, aim: str, against: str = "once through all of them"
) -> Row:
    one, other = (times[int(part * len(times))] for times in (ours, theirs))
    return Row(f"{words}, p{part * 100:.0f}", against, one, other, one / other, aim)


def _timed(page: Any, *names: str) -> None:
    page.evaluate(TIMED, list(names))


def _taken(page: Any) -> list[float]:
    page.wait_for_timeout(200)
    page.evaluate("fern.untimed()")
    return sorted(page.evaluate("fern.timed"))


def _boxed(page: Any) -> tuple[list[float], list[float]]:
    """The second corner of a box over part of the land, until they are chosen and until that is seen; what is slow of a
    press is its down or its up."""
    known, seen = [], []
    for number in range(TIMES // 3):
        page.keyboard.press("b")
        page.mouse.click(560 + number, 300)
        # The pointer has come to rest there: what a movement costs is another row.
        page.mouse.move(760 + number, 420)
        page.wait_for_timeout(300)
        _timed(page, "pointerdown", "pointerup")
        page.mouse.down()
        page.mouse.up()
        seen.append(_taken(page)[-1])
        known.append(max(page.evaluate("fern.known")))
    return sorted(known), sorted(seen)


def _dragged(page: Any) -> tuple[list[float], list[float]]:
    page.evaluate(
        f"""() => {{ const keys = [];
        for (const one of fern.each('things')) if (keys.length < {MOVED}) keys.push(one.key);
        fern.choice.keys = keys; fern.state.chosen = `things/${{keys.at(-1)}}`; }}"""
    )
    page.wait_for_timeout(500)
    moves: list[list[float]] = []
    x, y = page.evaluate(
        """() => { const box = document.querySelector('#flat').getBoundingClientRect();
        const inside = fern.choice.keys.map((key) => fern.row('things', key)).map((one) => fern.screenAt(one.x, one.y))
          .find(([px, py]) => px > 150 && py > 150 && px < box.width - 250 && py < box.height - 150);
        return [inside[0] + box.left, inside[1] + box.top]; }"""
    )
    for held in (False, True):
        page.mouse.move(x, y)
        if held:
            page.mouse.down()
        _timed(page, "pointermove")
        for step in range(TIMES * 2):
            page.mouse.move(x + 8 + step * 2, y + step)
            page.wait_for_timeout(30)
        moves.append(_taken(page))
    page.keyboard.press("Escape")
    page.mouse.up()
    return moves[0], moves[1]


def _typed(page: Any) -> list[float]:
    page.get_by_role("tab", name="List").click()
    field = page.locator("#list-find")
    out: list[float] = []
    for word in ("p 12", "hurdle", "barn"):
        field.fill("")
        field.focus()
        _timed(page, "input")
        for letter in word:
            page.keyboard.press("Space" if letter == " " else letter)
            page.wait_for_timeout(150)
        out += _taken(page)
    return sorted(out)
