"""What a room declares, and the house that holds them all. The kernel imports no room: the house is handed to it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, fields
from functools import cached_property
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from numpy.typing import NDArray

from fernfield.core.brush.tool import Tool
from fernfield.core.drawing.overlays import Overlay
from fernfield.core.errors import named
from fernfield.core.grid import FloatArray, Window
from fernfield.core.travel.walker import Obstacle
from fernfield.work.kernel.checking import Check
from fernfield.work.kernel.commands import StrokeBase
from fernfield.work.kernel.crew import Crew
from fernfield.work.kernel.declared import named_collections
from fernfield.work.kernel.events import Touched
from fernfield.work.kernel.hands.brushwork import Manner
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import Layer, Layers
from fernfield.work.kernel.posts.tracts import JOINS, PLACES, Tract
from fernfield.work.kernel.rows import Collection, Moves, Row

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld


class Package(Protocol):
    """A package that is being written, by a crew."""

    crew: Crew

    def put(self, path: str, parts: Iterator[bytes]) -> None: ...


Step = Callable[[float, str], None]
"""Is told how far the work is (0 to 1), and may raise to stop it."""


@dataclass(frozen=True)
class PackagePart:
    """What a room puts into a package.

    words : what it is called while it is written, and in the list of what is inside
    tract : writes the files of one tract, and returns what the manifest says of them
    weight : how long it takes beside the others
    """

    words: str
    tract: Callable[[Package, OpenWorld, Tract, Step], dict[str, Any]]
    weight: float = 1.0


Obstacles = Callable[["OpenWorld", Land, Window], Iterable[Obstacle]]
"""What stands in a walker's way in a window of posts."""


Stands = Callable[["OpenWorld", Land], Iterable[tuple[str, str, float, float]]]
"""Key, kind and place of all that stands, in a land's metres; the kind of a piece is its entry of the kit."""

StandNear = Callable[["OpenWorld", Land, Window], Iterable[tuple[str, Row, float, float]]]
"""Key, row and place of all that may reach into a window, in a land's metres; by the lock."""

StandsClear = Callable[["OpenWorld", Land, FloatArray, FloatArray], NDArray[np.bool_]]
"""Of places of a land, those that are clear. [m]"""

TakenUp = Callable[["OpenWorld", Land, Window, int], FloatArray | None]
"""How much of every so-many-th post of a window is taken up, 0 to 1; None where nothing is."""


@dataclass(frozen=True, slots=True)
class Shines:
    """A light of something that stands: its place and height over the ground [m], how bright [lm], its colour."""

    x: float
    y: float
    over_m: float
    lumens: float
    colour: str


Follows = Callable[["OpenWorld", Touched], None]
"""Changes what follows from an edit, under the lock: what it writes goes with that edit."""


@dataclass(frozen=True, slots=True)
class Begins:
    """Where somebody may begin: the key and name of the start, its team, whether it is the default, its place in a
    land. [m]"""

    key: str
    name: str
    team: int | None
    default: bool
    x: float
    y: float


@dataclass(frozen=True, slots=True)
class Leads:
    """Something in a land that brings whoever comes within its reach elsewhere: at once, or thrown along a parabola
    that begins so steeply and lasts so long. Its place, where it leads, how one faces there. [m, °, s]"""

    key: str
    name: str
    x: float
    y: float
    reach: float
    to_x: float
    to_y: float
    facing: float
    steep_deg: float = 0.0
    speed: float = 0.0
    seconds: float = 0.0


@dataclass(frozen=True, slots=True)
class Worth:
    """What is worth going to, by its collection and key. of : "objective", "start", or what is gathered there; team :
    who alone goes; its place. [m]"""

    collection: str
    key: str
    of: str
    name: str
    team: int | None
    x: float
    y: float


@dataclass(frozen=True, slots=True)
class Canopy:
    """Plants of one kind, which hide: where they stand, how wide each is and from where to where it reaches [m]; how
    much of light is lost in a metre of them [1/m], infinite for what lets none through."""

    x: FloatArray
    y: FloatArray
    radius: FloatArray
    low: FloatArray
    high: FloatArray
    lost: float


Canopies = Callable[["OpenWorld", Land, Window], Iterable[Canopy]]
Worthy = Callable[["OpenWorld", Land], Iterable[Worth]]


@dataclass(frozen=True, slots=True)
class Happened:
    """Something that happened in a round: when [s], in words, and to which team that is told; None: to everybody."""

    seconds: float
    words: str
    team: int | None


class Plays(Protocol):
    """A round that is played on a land, of which nothing is kept (`work.sites.play.rounds`)."""

    seconds: float
    said: list[Happened]
    over: bool
    won: int | None
    fired: Counter[str]
    """How often each cue went off."""

    def apart(self) -> Plays:
        """The same without its world, to be sent elsewhere. Hold the lock."""
        ...

    def join(self, name: str, team: int | None, walker: str, x: float, y: float) -> None: ...

    def leave(self, name: str) -> None: ...

    def step(self, seconds: float, places: Mapping[str, tuple[float, float]]) -> Mapping[str, tuple[float, float]]:
        """Go on; who is brought elsewhere, and where to."""
        ...

    @property
    def gone(self) -> frozenset[str]: ...

    def hidden(self, window: Window) -> set[Obstacle]:
        """What stands in nobody's way in a window any more; of one that is apart, on the whole land."""
        ...

    def told(self, name: str) -> dict[str, Any]: ...


Playing = Callable[["OpenWorld", Land], Plays]

Leading = Callable[["OpenWorld", Land], Iterable[Leads]]

Beginnings = Callable[["OpenWorld", Land], Iterable[Begins]]

Guards = Callable[["OpenWorld", Moves], None]

Shining = Callable[["OpenWorld", Land, tuple[float, float, float, float]], Iterable[Shines]]
"""The lights that stand in a box of a land (x0, y0, x1, y1). [m]"""

Paces = Callable[["OpenWorld", Land, Window], FloatArray | None]
"""How much of a walker's speed is left at every post of a window, 0 to 1; None where it is all of it."""


class Surface(Protocol):
    """The elevation of what lies liquid over the ground at every `step`-th post of a window, far under all ground where
    nothing does [m]; with `firm`, only of what bears a walker; `sea_m`: as if open water stood at that level."""

    def __call__(
        self, world: OpenWorld, land: Land, window: Window, step: int = 1, *, firm: bool = False,
        sea_m: float | None = None,
    ) -> FloatArray: ...  # fmt: skip


class Tides(Protocol):
    """How high every `step`-th post of a window lies between low and high water, 0 at low and 100 at high [%]; far more
    where no tide comes."""

    def __call__(self, world: OpenWorld, land: Land, window: Window, step: int = 1) -> FloatArray: ...


class TakesUp(Protocol):
    """How much of every `step`-th post of a window a row takes up, 0 to 1. Raises NotFound."""

    def __call__(self, world: OpenWorld, land: Land, key: str, window: Window, step: int = 1) -> FloatArray: ...


@dataclass(frozen=True)
class Gives:
    """What a room gives to all others, who know it by this register alone. Each is given by one room.

    sea_of : the level of standing water in a tract [m]
    surface, tides : where liquid stands over the ground, and where it comes and goes
    takes_up : how much of each post of a window a row of its takes up, 0 to 1
    stands, stand_near : where pieces stand; what may reach into a window
    stands_clear : which places lie clear of what stands there
    taken : how much of each post is taken up by what stands there
    shining : the lights of what stands there
    paces : how the ground slows a walker
    lit_from : bearing and height of where the world's own light comes from [°]
    bodies : what stands in a window and throws a shadow as a body
    follows : changes what follows from an edit by itself; that is taken back and made again with it
    guards : raises for rows that may not be changed so
    begins : where somebody may begin on a land
    leads : what brings somebody elsewhere on a land
    plays : a round on a land, with the rules and cues of the world
    worth : what is worth going to on a land
    canopies : what grows in a window and hides
    """

    sea_of: Callable[[OpenWorld, str], float] | None = None
    surface: Surface | None = None
    tides: Tides | None = None
    takes_up: TakesUp | None = None
    covers_rest_on: Callable[[OpenWorld, Land], tuple[int, bool]] | None = None
    stands: Stands | None = None
    stand_near: StandNear | None = None
    stands_clear: StandsClear | None = None
    taken: TakenUp | None = None
    shining: Shining | None = None
    paces: Paces | None = None
    lit_from: Callable[[OpenWorld], tuple[float, float]] | None = None
    bodies: Obstacles | None = None
    follows: Follows | None = None
    guards: Guards | None = None
    begins: Beginnings | None = None
    leads: Leading | None = None
    plays: Playing | None = None
    worth: Worthy | None = None
    canopies: Canopies | None = None


@dataclass(frozen=True)
class Given:
    """What all rooms of a house give together. Raises TypeError where none gives it, ValueError where two do."""

    sea_of: Callable[[OpenWorld, str], float]
    surface: Surface
    tides: Tides
    takes_up: TakesUp
    covers_rest_on: Callable[[OpenWorld, Land], tuple[int, bool]]
    stands: Stands
    stand_near: StandNear
    stands_clear: StandsClear
    taken: TakenUp
    shining: Shining
    paces: Paces
    lit_from: Callable[[OpenWorld], tuple[float, float]]
    bodies: Obstacles
    follows: Follows
    guards: Guards
    begins: Beginnings
    leads: Leading
    plays: Playing
    worth: Worthy
    canopies: Canopies

    @classmethod
    def of(cls, rooms: Iterable[Room]) -> Given:
        found: dict[str, Any] = {}
        for room in rooms:
            for one in fields(Gives):
                if (given := getattr(room.gives, one.name)) is not None:
                    if one.name in found:
                        raise ValueError(f"{one.name} is given by two rooms; the second is {room.name}")
                    found[one.name] = given
        return cls(**found)


MarkOf = Callable[["OpenWorld", Land, Window, int, Any], FloatArray | None]


@dataclass(frozen=True)
class Laid:
    """An overlay, and for one of a share that its room knows, what that is.

    of : gives 0 to 1 for every so-many-th post of a window; None where there is nothing to be told. It is told what is
        shown last (`work.seen.show.Show`), whose fields are the rooms' own
    ahead : works out beside the world, without its lock, what `of` then has at hand
    """

    overlay: Overlay
    of: MarkOf | None = None
    ahead: Callable[[OpenWorld, Land, Any], None] | None = None


@dataclass(frozen=True)
class Room:
    """What one stage (or the house itself) brings.

    gives : what it alone knows and all others may ask
    obstacles : what of it stands in a walker's way
    manifest, whole : what it adds to a package's manifest, and files that belong to no tract
    """

    name: str
    collections: tuple[Collection[Any], ...] = ()
    layers: tuple[Layer, ...] = ()
    tools: tuple[Tool, ...] = ()
    checks: tuple[Check, ...] = ()
    overlays: tuple[Laid, ...] = ()
    parts: tuple[PackagePart, ...] = ()
    gives: Gives = Gives()
    obstacles: Obstacles | None = None
    manifest: Callable[[OpenWorld], dict[str, Any]] | None = None
    whole: Callable[[Package, OpenWorld], None] | None = None


@dataclass(frozen=True)
class House:
    """All the rooms, in the order of the work; and how a stroke is made out of what they declare."""

    rooms: tuple[Room, ...]
    manner: Callable[[OpenWorld, str, StrokeBase], Manner]
    own: tuple[Collection[Any], ...] = field(default=(PLACES, JOINS))

    @cached_property
    def collections(self) -> dict[str, Collection[Any]]:
        return {c.name: c for c in (*self.own, *(c for room in self.rooms for c in room.collections))}

    @cached_property
    def namers(self) -> dict[str, tuple[Collection[Any], ...]]:
        """By collection, those whose rows may name one of it."""
        every = list(self.collections.values())
        return {
            name: tuple(c for c in every if any(name in named_collections(model) for model in c.models))
            for name in self.collections
        }

    @cached_property
    def layers(self) -> Layers:
        return Layers(layer for room in self.rooms for layer in room.layers)

    @cached_property
    def tools(self) -> dict[str, Tool]:
        return {tool.name: tool for room in self.rooms for tool in room.tools}

    @cached_property
    def overlays(self) -> dict[str, Overlay]:
        return {name: laid.overlay for name, (_, laid) in self.laid.items()}

    @cached_property
    def laid(self) -> dict[str, tuple[str, Laid]]:
        """Every overlay by its name: the room that it is of, and what it shows."""
        return {laid.overlay.name: (room.name, laid) for room in self.rooms for laid in room.overlays}

    @cached_property
    def given(self) -> Given:
        return Given.of(self.rooms)

    @cached_property
    def obstacles(self) -> tuple[Obstacles, ...]:
        return tuple(room.obstacles for room in self.rooms if room.obstacles is not None)

    def collection(self, name: str) -> Collection[Any]:
        """Raises NotFound for a sort of row that no room has."""
        return named(self.collections, "collection", name)
