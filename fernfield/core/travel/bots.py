"""Simulated testers: many at once, each by the same tick as somebody who walks a trial, each after an aim of its own.

A bot knows for every place that it may go to which post leads there (`guide_to`), makes for a post a little ahead, and
looks again when something holds it. What comes of a round depends on its seed and number alone.
"""

from __future__ import annotations

import math
import random
from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from math import floor
from typing import Any, Literal, Protocol

import numpy as np
from numpy.typing import NDArray
from typing_extensions import TypedDict

from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.travel.passable import DIRECTIONS, WHOLE_PACE
from fernfield.core.travel.reach import reach_from
from fernfield.core.travel.walker import Intent, Obstacle, Walker, tick
from fernfield.core.travel.walkers import Gait

BOT_TICK_S = 1 / 20
STEP_S = 0.2
"""A round's own rules go on at this rate, and a bot looks where it goes."""
AHEAD, FAR_AHEAD, LOOK_S = 4, (64, 16), 1.0
"""So many posts ahead a bot makes for, and further where it can go straight, which it looks for so often. [s]"""
STUCK_S, STUCK_M = 4.0, 0.5
"""Who has come no further than this in so long, and wants to, is stuck (our choice)."""
ASIDE_S = 1.0
THERE_M = 1.5
"""So near a bot has come to a place."""
MEET_M = 10.0
"""Nearer than this two of different teams have met (our choice)."""
HARD_MS = 7.0
"""Who lands faster than this has fallen hard: 2.5 m (our choice)."""
CELL_POSTS = 4
"""What is counted by place is counted in squares of so many posts."""
WORST_M = 8.0
MOST_EVENTS = 2_000
HEATS = ("walked", "stood", "met", "stuck", "fallen")


@dataclass(frozen=True, slots=True)
class Aim:
    """What a bot is after: sorts of places (`Target.sort`), in which order it takes them, how long it stays, and what
    it does when it has been at all of them. [s]"""

    words: str
    after: tuple[str, ...]
    order: Literal["chance", "nearest"]
    stays_s: float
    then: Literal["again", "stay"]


AIMS: dict[str, Aim] = {
    "explore": Aim("go anywhere", ("spot",), "chance", 0.0, "again"),
    "fetch": Aim("gather what there is", ("resource",), "nearest", 3.0, "again"),
    "reach": Aim("be at each objective once", ("objective",), "nearest", 3.0, "stay"),
    "hold": Aim("go to an objective and stay", ("objective",), "chance", math.inf, "stay"),
    "meet": Aim("go to the others' starts", ("other start",), "chance", 3.0, "again"),
}
"""The next aim is an entry here."""


@dataclass(frozen=True, slots=True)
class Scene:
    """A land as bots have it.

    x0, y0 : of the post in the north-west [m]; spacing : from post to post [m]
    heights : NaN where there is no land [m]; water, firm : the surface of what lies over it, and of what bears [m]
    paces : share of the speed that is left at each post, 0 to 1; None: all of it
    """

    x0: float
    y0: float
    spacing: float
    heights: FloatArray
    water: FloatArray
    firm: FloatArray
    paces: FloatArray | None
    obstacles: tuple[Obstacle, ...]


@dataclass(frozen=True, slots=True)
class Target:
    """A place that bots go to: "spot", "resource", "objective", "start"; team : who alone goes there. [m]"""

    sort: str
    x: float
    y: float
    team: int | None = None


@dataclass(frozen=True, slots=True)
class Bot:
    """A tester: of a team, as a walker, from a place [m].

    guides : by the number of each target that it may go to, the number of the guide that leads there
    open : the number of what tells where its walker goes as it likes
    """

    name: str
    team: int
    walker: str
    gait: Gait
    x: float
    y: float
    aim: str
    hurries: bool
    guides: Mapping[int, int]
    open: int = 0


class Game(Protocol):
    """The rules of a round (`work.sites.play.rounds`)."""

    over: bool
    won: int | None
    said: Any
    fired: Any

    def join(self, name: str, team: int | None, walker: str, x: float, y: float) -> None: ...

    def step(self, seconds: float, places: Mapping[str, tuple[float, float]]) -> Mapping[str, tuple[float, float]]: ...

    @property
    def gone(self) -> frozenset[str]: ...

    def hidden(self, window: Any) -> set[Obstacle]: ...


@dataclass(frozen=True, slots=True)
class Event:
    """Something that befell a bot: when, where, in words. sort : one of `HEATS` [s, m]"""

    sort: str
    second: float
    bot: int
    x: float
    y: float
    words: str


@dataclass(slots=True)
class Played:
    """What came of one round.

    tracks : where each bot was at each second, shape (bots, seconds + 1, 3): east, north, elevation [m]
    heat : by `HEATS`, in squares of `CELL_POSTS` posts: seconds for "walked" and "stood", else how often
    met_s : by two teams, when they first met [s]; visited : how many bots came to each target
    """

    number: int
    seconds: float
    won: int | None
    over: bool
    tracks: FloatArray
    heat: dict[str, FloatArray]
    events: list[Event]
    met_s: dict[tuple[int, int], float]
    visited: dict[int, int]
    fired: dict[str, int]


def guide_to(leave: ByteArray, row: int, col: int, spacing: float, speed: float) -> NDArray[np.int8]:
    """The direction (`DIRECTIONS`) in which each post is left on the quickest way to a post; -1 there, and where no way
    leads. leave : shape (8, rows, cols), see `passable`"""
    back = np.zeros_like(leave)
    _, rows, cols = leave.shape
    for d, (down, right) in enumerate(DIRECTIONS):
        into = slice(max(0, down), rows + min(0, down)), slice(max(0, right), cols + min(0, right))
        out = slice(max(0, -down), rows + min(0, -down)), slice(max(0, -right), cols + min(0, -right))
        back[(d + 4) % 8][into] = leave[d][out]
    came = reach_from(back, [(row, col)], spacing, speed).came
    return np.where(came >= 0, (came + 4) % 8, -1).astype(np.int8)


def _memory(values: NDArray[Any]) -> Sequence[float]:
    """What is quicker to look up one by one than an array."""
    memory: Any = memoryview(np.ascontiguousarray(values).reshape(-1))  # type: ignore[arg-type]
    found: Sequence[float] = memory
    return found


def open_ground(leave: ByteArray) -> NDArray[np.bool_]:
    """The posts that are left every way at full speed: over such ground one goes straight, not from post to post."""
    return np.asarray(leave.min(axis=0) == WHOLE_PACE)


class _Ground:
    """A scene as `tick` asks it, from memory that is quick to look at."""

    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        self._rows: int = scene.heights.shape[0]
        self._cols: int = scene.heights.shape[1]
        self._x0, self._y0, self.per = scene.x0, scene.y0, 1 / scene.spacing
        self._high = _memory(scene.heights)
        bears = scene.firm > scene.heights
        self._firm = _memory(scene.firm) if bears.any() else None
        wet = scene.water > scene.heights
        self._wet = _memory(scene.water) if wet.any() else None
        self._paces = None if scene.paces is None else _memory(scene.paces)
        self._per_cell = 1 / 8
        self._known: dict[tuple[float, float], float] = {}
        self._near: dict[tuple[int, int], list[Obstacle]] = defaultdict(list)
        self.hide(set())

    def hide(self, hidden: set[Obstacle]) -> None:
        """All that stands, but for some."""
        self._near.clear()
        for one in self.scene.obstacles:
            if one not in hidden:
                for col in range(self._at(one.x - one.radius), self._at(one.x + one.radius) + 1):
                    for row in range(self._at(one.y - one.radius), self._at(one.y + one.radius) + 1):
                        self._near[col, row].append(one)

    def _at(self, value: float) -> int:
        return floor(value * self._per_cell)

    def post(self, x: float, y: float) -> int:
        """The number of the nearest post."""
        row: int = min(max(round((self._y0 - y) * self.per), 0), self._rows - 1)
        return row * self._cols + min(max(round((x - self._x0) * self.per), 0), self._cols - 1)

    def place(self, post: int) -> tuple[float, float]:
        row, col = divmod(post, self._cols)
        return self._x0 + col / self.per, self._y0 - row / self.per

    def pace(self, x: float, y: float) -> float:
        return 1.0 if self._paces is None else float(self._paces[self.post(x, y)])

    def height(self, x: float, y: float) -> float:
        # A tick asks for the same few places again and again.
        known = self._known.get((x, y))
        if known is None:
            if len(self._known) > 64:
                self._known.clear()
            known = self._known[x, y] = self._height(x, y)
        return known

    def _height(self, x: float, y: float) -> float:
        row = min(max((self._y0 - y) * self.per, 0.0), self._rows - 1.0)
        col = min(max((x - self._x0) * self.per, 0.0), self._cols - 1.0)
        r, c = min(int(row), self._rows - 2), min(int(col), self._cols - 2)
        fr, fc = row - r, col - c
        at, high = r * self._cols + c, self._high
        top = high[at] * (1 - fc) + high[at + 1] * fc
        low = high[at + self._cols] * (1 - fc) + high[at + self._cols + 1] * fc
        ground = top * (1 - fr) + low * fr
        return ground if self._firm is None else max(ground, self._firm[self.post(x, y)])

    def water(self, x: float, y: float) -> float:
        if self._wet is None:
            return 0.0
        return max(0.0, self._wet[self.post(x, y)] - self.height(x, y))

    def obstacles(self, x: float, y: float, reach: float) -> Sequence[Obstacle]:
        per = self._per_cell
        col0, col1 = floor((x - reach) * per), floor((x + reach) * per)
        row0, row1 = floor((y - reach) * per), floor((y + reach) * per)
        if col0 == col1 and row0 == row1:
            found: Iterable[Obstacle] = self._near.get((col0, row0), ())
            if not found:
                return ()
        else:
            cells = (self._near.get((c, r), ()) for c in range(col0, col1 + 1) for r in range(row0, row1 + 1))
            found = dict.fromkeys(one for cell in cells for one in cell)
        return [o for o in found if math.hypot(o.x - x, o.y - y) <= o.radius + reach]

    def holds(self, x: float, y: float) -> bool:
        row, col = (self._y0 - y) * self.per, (x - self._x0) * self.per
        if not (0 <= row <= self._rows - 1 and 0 <= col <= self._cols - 1):
            return False
        # Not a number where there is no land.
        at = self._high[self.post(x, y)]
        return at == at


@dataclass(slots=True)
class _Going:
    """A bot on its way."""

    bot: Bot
    number: int
    walker: Walker
    chance: random.Random
    target: int | None = None
    been: set[int] = field(default_factory=set)
    waits_s: float = 0.0
    stays: bool = False
    aside_s: float = 0.0
    aside: float = 0.0
    since: float = 0.0
    at: tuple[float, float] = (0.0, 0.0)
    heading: float = 0.0
    goal: tuple[float, float] | None = None
    goal_until: float = 0.0


class Simulation:
    """One round. `play` goes through it."""

    def __init__(
        self, scene: Scene, bots: Sequence[Bot], targets: Sequence[Target], guides: Sequence[NDArray[np.int8]],
        opens: Sequence[NDArray[np.bool_]], game: Game, seed: int, number: int,
    ) -> None:  # fmt: skip
        """guides, opens : see `guide_to` and `open_ground`, by the numbers of `Bot.guides` and `Bot.open`; game : its
        rules, which nobody else plays by"""
        self._ground, self._targets, self._game, self._number = _Ground(scene), targets, game, number
        self._guides = [_memory(one) for one in guides]
        self._opens = [_memory(one.view(np.uint8)) for one in opens]
        rows, cols = scene.heights.shape
        self._steps = [down * cols + right for down, right in DIRECTIONS]
        self._cols = cols
        shape = -(-rows // CELL_POSTS), -(-cols // CELL_POSTS)
        self._heat = {what: np.zeros(shape, np.float32) for what in HEATS}
        self._events: list[Event] = []
        self._met_s: dict[tuple[int, int], float] = {}
        self._together: set[tuple[int, int]] = set()
        self._visited: dict[int, int] = defaultdict(int)
        self._seconds = 0.0
        self._going = []
        for at, bot in enumerate(bots):
            chance = random.Random(f"{seed}/{number}/{at}")
            # Many at one start stand around it, each where it can stand.
            x, y = self._beside(bot, chance)
            walker = Walker(x, y, self._ground.height(x, y), chance.random() * 360)
            self._going.append(_Going(bot, at, walker, chance, at=(x, y), heading=walker.facing))
            game.join(bot.name, bot.team, bot.walker, x, y)

    def _beside(self, bot: Bot, chance: random.Random) -> tuple[float, float]:
        for _ in range(20):
            angle, far = chance.random() * 2 * math.pi, 4 * math.sqrt(chance.random())
            x, y = bot.x + far * math.cos(angle), bot.y + far * math.sin(angle)
            dry = bot.gait.draught or self._ground.water(x, y) < bot.gait.wade
            if self._ground.holds(x, y) and dry and not self._ground.obstacles(x, y, bot.gait.radius):
                return x, y
        return bot.x, bot.y

    def play(self, seconds: float, stops: Callable[[], bool] = lambda: False) -> Played:
        """Until somebody has won, or for so long [s], or until it is told to stop, which is asked each second."""
        tracks = [[self._place(one) for one in self._going]]
        steps = round(1 / STEP_S)
        while self._seconds < seconds - 1e-9 and not self._game.over and not stops():
            for _ in range(steps):
                self._step()
            tracks.append([self._place(one) for one in self._going])
            self._count()
        every = np.asarray(tracks, np.float32).reshape(len(tracks), len(self._going), 3).transpose(1, 0, 2)
        return Played(
            self._number, round(self._seconds, 1), self._game.won, self._game.over, np.ascontiguousarray(every),
            self._heat, self._events, self._met_s, dict(self._visited), dict(self._game.fired),
        )  # fmt: skip

    @staticmethod
    def _place(one: _Going) -> tuple[float, float, float]:
        return one.walker.x, one.walker.y, one.walker.z

    def _step(self) -> None:
        self._seconds += STEP_S
        for one in self._going:
            self._go(one)
        if self._game.over:
            return
        gone = self._game.gone
        moved = self._game.step(STEP_S, {one.bot.name: (one.walker.x, one.walker.y) for one in self._going})
        if self._game.gone != gone:
            self._ground.hide(self._game.hidden(None))
        for one in self._going if moved else ():
            if one.bot.name in moved:
                x, y = moved[one.bot.name]
                one.walker = Walker(x, y, self._ground.height(x, y), one.walker.facing)

    def _go(self, one: _Going) -> None:
        intent = self._wish(one)
        if intent is None and one.walker.fall == 0:
            return
        gait, wish = one.bot.gait, intent or Intent(facing=one.walker.facing)
        before, left = one.walker, self._ground.pace(one.walker.x, one.walker.y)
        if left < 1:
            gait = _slower(gait, round(left, 2))
        walker = before
        for _ in range(round(STEP_S / BOT_TICK_S)):
            fall = walker.fall
            walker = tick(walker, wish, self._ground, gait, BOT_TICK_S)
            if fall > HARD_MS and walker.fall == 0:
                self._tell("fallen", one, walker, f"falls and lands at {fall:.0f} m/s")
        one.walker = walker
        self._look_whether_stuck(one)

    def _wish(self, one: _Going) -> Intent | None:
        """Where a bot wants to; None: to stay."""
        walker = one.walker
        if one.waits_s > 0:
            one.waits_s -= STEP_S
            return None
        if one.stays:
            return None
        if one.target is None and not self._choose(one):
            return None
        target = self._targets[one.target]  # type: ignore[index]
        gap = math.hypot(target.x - walker.x, target.y - walker.y)
        if gap <= max(THERE_M, one.bot.gait.radius * 2):
            self._arrive(one)
            return None
        if one.aside_s > 0:
            one.aside_s -= STEP_S
            return Intent(ahead=1.0, facing=one.aside)
        x, y = self._goal(one, target)
        wanted = math.degrees(math.atan2(x - walker.x, y - walker.y)) % 360
        most = one.bot.gait.turns_deg_s * STEP_S
        turn = (wanted - one.heading + 180) % 360 - 180
        one.heading = (one.heading + min(max(turn, -most), most)) % 360
        # Who has to turn far first goes slowly.
        return Intent(ahead=1.0 if abs(turn) <= most + 20 else 0.3, facing=one.heading, run=one.bot.hurries)

    def _goal(self, one: _Going, target: Target) -> tuple[float, float]:
        """What it makes for: as far along its way as it can go straight, looked for once a second; and the next post
        where something holds it."""
        walker = one.walker
        if walker.blocked_by:
            one.goal = None
            return self._ahead(one, target, 1)
        if (
            one.goal is None
            or self._seconds >= one.goal_until
            or math.dist(one.goal, (walker.x, walker.y)) < 2 * THERE_M
        ):
            one.goal_until = self._seconds + LOOK_S
            one.goal = None
            for posts in FAR_AHEAD:
                goal = self._ahead(one, target, posts)
                if self._straight(one, goal):
                    one.goal = goal
                    break
        return one.goal or self._ahead(one, target, AHEAD)

    def _straight(self, one: _Going, goal: tuple[float, float]) -> bool:
        """Whether all ground on the way there is open."""
        open_, x, y = self._opens[one.bot.open], one.walker.x, one.walker.y
        count = math.ceil(math.dist((x, y), goal) * self._ground.per)
        shares = (k / max(count, 1) for k in range(count + 1))
        return all(open_[self._ground.post(x + (goal[0] - x) * part, y + (goal[1] - y) * part)] for part in shares)

    def _ahead(self, one: _Going, target: Target, posts: int) -> tuple[float, float]:
        guide = self._guides[one.bot.guides[one.target]]  # type: ignore[index]
        post = first = self._ground.post(one.walker.x, one.walker.y)
        for _ in range(posts):
            if (d := guide[post]) < 0:
                break
            post += self._steps[int(d)]
        if post == first:
            # It stands where no way leads from: to whichever post beside it knows one, or straight on.
            near = [first + step for step in self._steps if 0 <= first + step < len(guide) and guide[first + step] >= 0]
            if not near or math.hypot(target.x - one.walker.x, target.y - one.walker.y) < 2 / self._ground.per:
                return target.x, target.y
            post = min(near)
        return self._ground.place(post)

    def _choose(self, one: _Going) -> bool:
        aim, walker = AIMS[one.bot.aim], one.walker
        open_ = sorted(set(one.bot.guides) - one.been)
        if not open_:
            if aim.then == "stay" or not one.bot.guides:
                one.stays = True
                return False
            one.been.clear()
            open_ = sorted(one.bot.guides)
        here = self._ground.post(walker.x, walker.y)
        ways = [t for t in open_ if self._guides[one.bot.guides[t]][here] >= 0] or open_
        if aim.order == "chance":
            one.target = one.chance.choice(ways)
        else:
            one.target = min(
                ways, key=lambda t: math.hypot(self._targets[t].x - walker.x, self._targets[t].y - walker.y)
            )
        one.since, one.at, one.goal = self._seconds, (walker.x, walker.y), None
        return True

    def _arrive(self, one: _Going) -> None:
        assert one.target is not None
        aim = AIMS[one.bot.aim]
        self._visited[one.target] += 1
        one.been.add(one.target)
        one.target = None
        one.stays = math.isinf(aim.stays_s)
        one.waits_s = 0.0 if one.stays else aim.stays_s

    def _look_whether_stuck(self, one: _Going) -> None:
        walker = one.walker
        if one.target is None or one.waits_s > 0 or math.dist(one.at, (walker.x, walker.y)) > STUCK_M:
            one.since, one.at = self._seconds, (walker.x, walker.y)
            return
        if self._seconds - one.since < STUCK_S:
            return
        self._tell("stuck", one, walker, walker.blocked_by or "no way leads on")
        # Another way, then another place.
        one.aside, one.aside_s = one.chance.random() * 360, ASIDE_S
        one.been.add(one.target)
        one.target, one.since = None, self._seconds

    def _cell(self, x: float, y: float) -> tuple[int, int]:
        row, col = divmod(self._ground.post(x, y), self._cols)
        return row // CELL_POSTS, col // CELL_POSTS

    def _tell(self, sort: str, one: _Going, walker: Walker, words: str) -> None:
        self._heat[sort][self._cell(walker.x, walker.y)] += 1
        if len(self._events) < MOST_EVENTS:
            self._events.append(
                Event(sort, round(self._seconds, 1), one.number, round(walker.x, 2), round(walker.y, 2), words)
            )

    def _count(self) -> None:
        """Once a second: where all are, and who has come to whom."""
        for one in self._going:
            what = "walked" if one.walker.speed > 0.1 and one.waits_s <= 0 and not one.stays else "stood"
            self._heat[what][self._cell(one.walker.x, one.walker.y)] += 1
        at = np.array([self._place(one)[:2] for one in self._going]).reshape(-1, 2)
        teams = np.array([one.bot.team for one in self._going])
        near = np.hypot(*(at[:, None] - at[None]).transpose(2, 0, 1)) <= MEET_M
        pairs = np.argwhere(np.triu(near & (teams[:, None] != teams[None])))
        together = {(int(a), int(b)) for a, b in pairs}
        for a, b in sorted(together - self._together):
            two = (min(teams[a], teams[b]), max(teams[a], teams[b]))
            first, walker = self._going[a], self._going[a].walker
            self._tell("met", first, walker, f"meets {self._going[b].bot.name}")
            self._met_s.setdefault((int(two[0]), int(two[1])), round(self._seconds, 1))
        self._together = together


@lru_cache(1024)
def _slower(gait: Gait, left: float) -> Gait:
    return replace(gait, walk=gait.walk * left, run=gait.run * left)


class Worst(TypedDict):
    """A place where bots stuck or fell: how often, in words; in which round, which bot, when it first did. [s, m]"""

    x: float
    y: float
    count: int
    words: str
    round: int
    bot: int
    second: float


def worst_of(rounds: Sequence[Played], most: int = 10) -> list[Worst]:
    """The places where bots stuck or fell most often, those within `WORST_M` of each other taken as one."""
    cells: dict[tuple[int, int], list[tuple[int, Event]]] = defaultdict(list)
    for one in rounds:
        for event in one.events:
            if event.sort in ("stuck", "fallen"):
                cells[math.floor(event.x / WORST_M), math.floor(event.y / WORST_M)].append((one.number, event))
    found: list[Worst] = []
    for every in cells.values():
        words: dict[str, int] = defaultdict(int)
        for _, event in every:
            words[event.words] += 1
        number, first = every[0]
        said = max(words, key=lambda one: words[one])
        found.append(
            {"x": first.x, "y": first.y, "count": len(every), "words": said, "round": number, "bot": first.bot,
             "second": first.second}
        )  # fmt: skip
    return sorted(found, key=lambda one: (-one["count"], one["x"], one["y"]))[:most]
