"""A round as it is played: cues go off, objectives change hands, somebody wins. Nothing of it is kept in the world.

It begins with the rows as they are, and goes on with those whatever is edited meanwhile. Who plays is told of by where
they are; the same code serves somebody who walks and testers that are simulated.
"""

from __future__ import annotations

import copy
import math
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial
from typing import Any

from fernfield.core.grid import Window
from fernfield.core.travel.walker import Obstacle
from fernfield.core.travel.walkers import CALLED_BEFORE
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rooms import Happened
from fernfield.work.kernel.rows import ONLY
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.outlines import holds_point
from fernfield.work.plots.rows import PLOTS
from fernfield.work.sites.play import cues, rules
from fernfield.work.sites.play.aims import OBJECTIVES, RESOURCES, Guard, Hold, Objective, Resource, Take
from fernfield.work.sites.play.cues import CUES, Cue, called_in, then_words
from fernfield.work.sites.play.rules import RULES, Rules
from fernfield.work.sites.rows import THINGS
from fernfield.work.sites.standing import box_of, obstacles_of, stood_in

AT_HAND_M = 2.0
"""So near one picks up what is to be taken, and gathers what is there (our choice)."""
MOST_AT_ONCE = 64
"""Cues that set each other off in a circle do so this many times in one step at most."""

MOST_SAID = 10_000
"""More than this is not told of a round."""

Place = tuple[float, float]


@dataclass(slots=True)
class Player:
    """Somebody who plays: of a team, as a walker, in the land's metres. bag : what was gathered, by its sort"""

    name: str
    team: int
    walker: str
    x: float
    y: float
    bag: dict[str, float] = field(default_factory=partial(defaultdict, float))


@dataclass(slots=True)
class Aim:
    """An objective in a round: whose it is, which team is at it alone and for how long, and who has done it. [s]"""

    row: Objective
    x: float
    y: float
    owner: int | None
    at_it: int | None = None
    for_s: float = 0.0
    done: set[int] = field(default_factory=set)


@dataclass(slots=True)
class _Watched:
    """Something that a cue waits for: who is within its place, and since when; and whether it holds just now."""

    row: cues.When
    within: dict[str, float] = field(default_factory=dict)
    stayed: set[str] = field(default_factory=set)
    holds: bool = False
    had: bool = False
    """It has happened since the cue went off."""


def _called_by(names: Mapping[tuple[str, str], str], collection: str, key: str) -> str:
    return names.get((collection, key)) or key


class Round:
    """One round on a land. `step` is called at a steady rate."""

    def __init__(self, world: OpenWorld, land: Land) -> None:
        """Hold the lock."""
        self._world, self._land = world, land
        self._bodies: dict[str, set[Obstacle]] | None = None
        """What stands for a thing, where there is no world to ask."""
        self._corners = {part.tract.row.id: (part.x, part.y) for part in land.parts}
        self._called = called_in(world)
        self._rules = world.get(RULES, ONLY) or Rules()
        self._cues = {key: cue for key, cue in world.each(CUES) if not cue.off}
        self._watched = {key: [_Watched(when) for when in cue.when] for key, cue in self._cues.items()}
        self._aims = {key: Aim(row, x, y, row.team) for key, row, x, y in self._placed(world.each(OBJECTIVES))}
        self._stocks: dict[str, tuple[Resource, float, float]] = {
            key: (row, x, y) for key, row, x, y in self._placed(world.each(RESOURCES))
        }
        self._things = {key: (x, y) for key, _, x, y in self._placed(world.each(THINGS))}
        self._plots = {
            key: tuple((x + self._east(row)[0], y + self._east(row)[1]) for x, y in row.points)
            for key, row in world.each(PLOTS) if world.of_tract(row.tract) in self._corners
        }  # fmt: skip
        self._players: dict[str, Player] = {}
        self._gathered: dict[int, dict[str, float]] = defaultdict(partial(defaultdict, float))
        self._counters: Counter[str] = Counter()
        self._emptied: dict[str, float] = {}
        self._carried: dict[str, str] = {}
        self._gone: set[str] = set()
        self._lost: set[int] = set()
        self._went_off: dict[str, float] = {}
        self._moved: dict[str, Place] = {}
        self.seconds = 0.0
        self.said: list[Happened] = []
        self.over = False
        self.won: int | None = None
        self.mood: str | None = None
        self.fired: Counter[str] = Counter()

    def _east(self, row: Any) -> Place:
        return self._corners[self._world.of_tract(row.tract)]

    def _placed(self, rows: Iterable[tuple[str, Any]]) -> Iterator[tuple[str, Any, float, float]]:
        for key, row in rows:
            if self._world.of_tract(row.tract) in self._corners:
                x, y = self._east(row)
                yield key, row, row.x + x, row.y + y

    # Who plays

    def join(self, name: str, team: int | None, walker: str, x: float, y: float) -> None:
        """Somebody plays from now on; of the first team where none is said. What they stand in is not entered."""
        player = self._players[name] = Player(name, team or 1, walker, x, y)
        for watched in self._all_watched():
            if isinstance(watched.row, cues.Comes) and self._in(watched.row.where, player):
                watched.within[name] = self.seconds

    def leave(self, name: str) -> None:
        """Somebody plays no longer."""
        self._players.pop(name, None)
        for watched in self._all_watched():
            watched.within.pop(name, None)

    def _all_watched(self) -> Iterator[_Watched]:
        return (one for every in self._watched.values() for one in every)

    def step(self, seconds: float, places: Mapping[str, Place]) -> Mapping[str, Place]:
        """Go on for so long, with everybody where they are now. Who is brought elsewhere is told with the place."""
        if self.over:
            return {}
        self.seconds += seconds
        for name, (x, y) in places.items():
            if name in self._players:
                self._players[name].x, self._players[name].y = x, y
        self._gather()
        changed = self._pursue(seconds)
        self._go_off(changed)
        self._judge()
        moved, self._moved = self._moved, {}
        return moved

    def _say(self, text: str, team: int | None = None) -> None:
        if len(self.said) >= MOST_SAID:
            return
        self.said.append(Happened(round(self.seconds, 2), text, team))

    # Objectives and what is gathered

    def _gather(self) -> None:
        for key, (row, x, y) in self._stocks.items():
            back = self._emptied.get(key)
            if back is not None and self.seconds < back:
                continue
            for player in self._players.values():
                own = row.team is None or row.team == player.team
                if own and math.hypot(player.x - x, player.y - y) <= AT_HAND_M:
                    self._emptied[key] = math.inf if row.back_s is None else self.seconds + row.back_s
                    self._has(player, row.of, row.amount)
                    self._say(f"{row.amount:g} of {row.of} gathered at {row.name}", player.team)
                    break

    def _has(self, player: Player, of: str, amount: float) -> None:
        amount = max(amount, -player.bag[of])
        player.bag[of] += amount
        self._gathered[player.team][of] += amount

    def _pursue(self, seconds: float) -> set[str]:
        """The objectives that come to another team."""
        changed = set()
        for key, aim in self._aims.items():
            before = aim.owner, len(aim.done)
            row = aim.row
            if isinstance(row, Hold):
                self._hold(aim, row, seconds)
            elif isinstance(row, Take):
                self._take(aim, row)
            elif isinstance(row, Guard):
                self._guard(aim, row)
            else:
                for team in self._teams_at(aim):
                    self._does(aim, team)
            if (aim.owner, len(aim.done)) != before:
                changed.add(key)
        return changed

    def _teams_at(self, aim: Aim) -> set[int]:
        at = {one.team for one in self._players.values() if math.hypot(one.x - aim.x, one.y - aim.y) <= aim.row.reach_m}
        return at if aim.row.for_team is None else at & {aim.row.for_team}

    def _does(self, aim: Aim, team: int) -> None:
        if team not in aim.done:
            aim.done.add(team)
            self._say(f"{aim.row.name} is done by team {team}", team)

    def _hold(self, aim: Aim, row: Hold, seconds: float) -> None:
        at = self._teams_at(aim)
        alone = next(iter(at)) if len(at) == 1 else None
        aim.for_s = aim.for_s + seconds if alone is not None and alone == aim.at_it else 0.0
        aim.at_it = alone
        if alone is not None and alone != aim.owner and aim.for_s >= row.seconds:
            aim.owner = alone
            aim.done = {alone}
            self._say(f"{row.name} is held by team {alone}")

    def _take(self, aim: Aim, row: Take) -> None:
        carrier = self._players.get(self._carried.get(row.thing, ""))
        if carrier is None:
            x, y = self._things.get(row.thing, (math.inf, math.inf))
            near = (one for one in self._players.values() if math.hypot(one.x - x, one.y - y) <= AT_HAND_M)
            carrier = next((one for one in near if row.for_team in (None, one.team)), None)
            if carrier is None or aim.done:
                return
            self._carried[row.thing] = carrier.name
            self._gone.add(row.thing)
            self._say(f"{self._called('things', row.thing)} is carried by team {carrier.team}")
        self._things[row.thing] = carrier.x, carrier.y
        if math.hypot(carrier.x - aim.x, carrier.y - aim.y) <= row.reach_m:
            del self._carried[row.thing]
            aim.owner = carrier.team
            self._does(aim, carrier.team)

    def _guard(self, aim: Aim, row: Guard) -> None:
        team = row.for_team or row.team
        over = row.seconds if row.seconds is not None else self._rules.time_s
        if team is not None and row.thing not in self._gone and over is not None and self.seconds >= over:
            self._does(aim, team)

    # Cues

    def _go_off(self, changed: set[str]) -> None:
        went: list[str] = []
        for key, every in self._watched.items():
            actors = [self._happens(one, changed) for one in every]
            self._consider(key, actors, went)
        for _ in range(MOST_AT_ONCE):
            if not went or self.over:
                return
            before, went = set(went), []
            for key, every in self._watched.items():
                actors = [
                    (isinstance(one.row, cues.Cued) and one.row.cue in before)
                    or (isinstance(one.row, cues.Counted) and self._counts(one))
                    for one in every
                ]
                self._consider(key, actors, went)

    def _consider(self, key: str, actors: list[bool | Player], went: list[str]) -> None:
        """A cue goes off where what it waits for has happened, by somebody or by itself."""
        cue, every = self._cues[key], self._watched[key]
        if not any(actors) or self.over:
            return
        for one, actor in zip(every, actors, strict=True):
            one.had = one.had or bool(actor)
        if cue.joined == "all" and not all(one.had for one in every):
            return
        last = self._went_off.get(key)
        if last is not None and (
            cue.repeats == "once" or (cue.repeats == "every" and self.seconds - last < cue.every_s)
        ):
            return
        self._went_off[key] = self.seconds
        self.fired[key] += 1
        went.append(key)
        for one in every:
            one.had = False
        who = next((actor for actor in actors if isinstance(actor, Player)), None)
        for then in cue.then:
            self._do(then, who, cue)

    def _happens(self, watched: _Watched, changed: set[str]) -> bool | Player:
        row = watched.row
        if isinstance(row, cues.Comes):
            return self._comes(watched, row) or False
        if isinstance(row, cues.Counted):
            return self._counts(watched)
        if isinstance(row, cues.After):
            holds = self.seconds >= row.seconds
            begins, watched.holds = holds and not watched.holds, holds
            return begins
        return isinstance(row, cues.Changes) and row.objective in changed

    def _counts(self, watched: _Watched) -> bool:
        assert isinstance(watched.row, cues.Counted)
        holds = self._counters[watched.row.counter] >= watched.row.number
        begins, watched.holds = holds and not watched.holds, holds
        return begins

    def _comes(self, watched: _Watched, row: cues.Comes) -> Player | None:
        """Who has just entered a place, left it, or stayed there for long enough."""
        found = None
        for player in self._players.values():
            walker = row.who.walker and CALLED_BEFORE.get(row.who.walker, row.who.walker)
            if row.who.team not in (None, player.team) or walker not in (None, player.walker):
                continue
            since, within = watched.within.get(player.name), self._in(row.where, player)
            if within and since is None:
                watched.within[player.name] = self.seconds
                found = player if row.sort == "enters" else found
            elif not within and since is not None:
                del watched.within[player.name]
                watched.stayed.discard(player.name)
                found = player if row.sort == "leaves" else found
            stays = within and row.sort == "stays" and player.name not in watched.stayed
            if stays and self.seconds - watched.within[player.name] >= row.seconds:
                watched.stayed.add(player.name)
                found = player
        return found

    def _in(self, where: cues.Where, player: Player) -> bool:
        if where.plot is not None:
            points = self._plots.get(where.plot)
            return points is not None and holds_point(points, player.x, player.y)
        x, y = self._things.get(where.thing or "", (math.inf, math.inf))
        return math.hypot(player.x - x, player.y - y) <= where.reach_m

    def _do(self, then: cues.Then, who: Player | None, cue: Cue) -> None:
        """What follows a cue: said in words, and done as far as a trial can."""
        team = then.who.team if isinstance(then, cues.Tell) else None
        self._say(then.text if isinstance(then, cues.Tell) else f"{cue.name}: {then_words(then, self._called)}", team)
        # What nobody in particular set off is for all who play.
        those = [who] if who is not None else list(self._players.values())
        if isinstance(then, cues.Give):
            for one in those:
                self._has(one, then.of, then.amount if then.sort == "give" else -then.amount)
        elif isinstance(then, cues.Turn):
            if then.sort in ("open", "vanish"):
                self._gone.add(then.thing)
            elif then.sort in ("close", "appear"):
                self._gone.discard(then.thing)
        elif isinstance(then, cues.MoveTo) and then.thing in self._things:
            self._moved |= {one.name: self._things[then.thing] for one in those}
        elif isinstance(then, cues.ToMood):
            self.mood = then.mood
        elif isinstance(then, cues.Count):
            self._counters[then.counter] += then.by
        elif isinstance(then, cues.End):
            self._end(then.team)

    # Who wins

    def _end(self, team: int | None) -> None:
        self.over, self.won = True, team
        self._say("The round is over: " + (f"team {team} has won" if team is not None else "nobody has won"))

    def _judge(self) -> None:
        teams = sorted({player.team for player in self._players.values()})
        for team in teams:
            if self.over:
                return
            if self._any(self._rules.wins, team):
                self._end(team)
            elif team not in self._lost and self._any(self._rules.loses, team):
                self._lost.add(team)
                self._say(f"team {team} has lost")
        if not self.over and self._rules.time_s is not None and self.seconds >= self._rules.time_s:
            self._end(None)

    def _any(self, ways: rules.Ways, team: int) -> bool:
        return any(all(self._fits(one, team) for one in way) for way in ways)

    def _fits(self, one: rules.Condition, team: int) -> bool:
        if isinstance(one, rules.Done):
            aim = self._aims.get(one.objective)
            return aim is not None and self._has_done(aim, team)
        if isinstance(one, rules.Every):
            own = [aim for aim in self._aims.values() if aim.row.called == one.of and aim.row.for_team in (None, team)]
            return bool(own) and all(self._has_done(aim, team) for aim in own)
        if isinstance(one, rules.Gathered):
            return self._gathered[team][one.of] >= one.amount
        if isinstance(one, rules.Last):
            others = {player.team for player in self._players.values()} - {team}
            return bool(others) and others <= self._lost
        return self._rules.time_s is not None and self.seconds >= self._rules.time_s

    def _has_done(self, aim: Aim, team: int) -> bool:
        return aim.owner == team if isinstance(aim.row, Hold) else team in aim.done

    # What others are told

    def hidden(self, window: Window) -> set[Obstacle]:
        """What stands in nobody's way in a window any more: it is open, carried, or has gone. Hold the lock."""
        if not self._gone:
            return set()
        if self._bodies is not None:
            return set().union(*(self._bodies.get(key, set()) for key in self._gone))
        stood = stood_in(self._world, self._land, box_of(self._land, window))
        return {body for one in stood if one.key in self._gone for body in obstacles_of(one)}

    def apart(self) -> Round:
        """The same without its world: it can be sent to where there is none. Nothing else is done with this one. Hold
        the lock."""
        own = copy.copy(self)
        own._bodies = {}
        for one in stood_in(self._world, self._land, box_of(self._land, self._land.bounds)):
            own._bodies.setdefault(one.key, set()).update(obstacles_of(one))
        names = {(of, key): row.title for of, rows in self._world.rows.items() for key, row in rows.items()}
        own._called = partial(_called_by, names)
        own._world = own._land = None  # type: ignore[assignment]
        return own

    @property
    def gone(self) -> frozenset[str]:
        """The things that are not there, or open."""
        return frozenset(self._gone)

    def told(self, name: str) -> dict[str, Any]:
        """How the round stands for somebody who plays."""
        player = self._players.get(name)
        return {
            "seconds": round(self.seconds, 1), "over": self.over, "won": self.won, "mood": self.mood,
            "gone": sorted(self._gone), "team": None if player is None else player.team,
            "bag": {} if player is None else {of: amount for of, amount in player.bag.items() if amount},
            "aims": [
                {"name": aim.row.name, "owner": aim.owner, "done": sorted(aim.done),
                 "share": round(min(1.0, aim.for_s / max(aim.row.seconds, 1e-9)), 3)
                 if isinstance(aim.row, Hold) and aim.at_it != aim.owner and aim.at_it is not None else 0.0}
                for aim in self._aims.values()
            ],
        }  # fmt: skip
