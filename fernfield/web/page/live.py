"""The socket of an open page: strokes in, pictures and facts out.

Each connection has a few small tasks. The reader takes messages in; the painter sends
what changed as one picture of the dirty rectangle, as often as the page can take it, so
that samples that came meanwhile are drawn together; the walker ticks. What a page has
not been sent yet is a joined window, so nothing piles up.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import math
import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any, TypeVar

from anyio import to_thread
from fastapi import WebSocket, WebSocketDisconnect
from pydantic import ValidationError

from fernfield.core.brush.pace import Sample
from fernfield.core.errors import Conflict, FernError, InvalidInput
from fernfield.core.grid import NOWHERE
from fernfield.core.travel.climb import climbs
from fernfield.core.travel.walker import TICK_S, Intent
from fernfield.web.kernel.gate.problems import field_errors, sentences
from fernfield.web.kernel.routing import Router
from fernfield.web.page.dirty import Dirty
from fernfield.web.page.messages import (
    INCOMING,
    LONGEST_WAIT_S,
    AskSpot,
    Begin,
    BeginWalk,
    Drawn,
    End,
    EndWalk,
    KeepWalk,
    Move,
    View,
    Wish,
)
from fernfield.web.page.patches import LIGHTS, Patches
from fernfield.web.page.post import Post
from fernfield.web.page.showing import known
from fernfield.web.page.telling import cause_of, rows_told
from fernfield.work.cover.ruling import drains, rests_on
from fernfield.work.kernel.commands import LONGEST_STROKE_S
from fernfield.work.kernel.events import Event, Gone, Moved, Revised
from fernfield.work.kernel.faults import meaning, noted
from fernfield.work.kernel.hands.strokes import TOO_MUCH, StrokeRun
from fernfield.work.kernel.memory import give_back
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import JOINS, PLACES
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.passing.walkers import gait_of
from fernfield.work.seen.sections import section
from fernfield.work.seen.spot import spot
from fernfield.work.sites.rows import default_start, facing_of
from fernfield.work.trial.kept import keep_walk
from fernfield.work.trial.walks import Walk
from fernfield.work.water.rows import tide_level

T = TypeVar("T")

router = Router()

WALK_FRAME_TICKS = 2
TELL_EVERY_S = 0.2
"""Cut and fill of a stroke under way are told so often."""

PATCHES_UNDER_WAY = 1
PATCH_PATIENCE_S = 1.0
"""A page that does not say that it has drawn gets the next patch after this long, if it has read the last one."""

MOST_UNREAD = 16 << 20
MOST_MESSAGES = 2_000
"""What may be under way to a page, in bytes and in messages: one that reads no more of it is let go of."""

MESSAGES_S = 400
"""A page may say so many things a second, over some seconds; it is read no quicker."""

LONGEST_HELD_S = LONGEST_STROKE_S + 30.0
"""By the server's own clock: a stroke that drips goes on no longer than one that does not."""

TOO_SLOW = 1013

LOW_BYTES = 1 << 30
LOOK_AT_ROOM_S = 20.0
"""With less room than this on the disk a page is told so, before anything fails."""


LEAVING: set[asyncio.Task[None]] = set()
"""Pages that go: their strokes are being kept."""


class Connection:
    """One page that has one world open."""

    def __init__(self, socket: WebSocket, world: OpenWorld, tract_id: str, by_land: bool, land: Land) -> None:
        self._socket = socket
        self._world = world
        self._tract_id, self._by_land = tract_id, by_land
        self._land = land
        self._loop = asyncio.get_running_loop()
        self._outbox: asyncio.Queue[str | bytes] = asyncio.Queue()
        self._unread = 0
        self._sent = asyncio.Event()
        self._slow = asyncio.Event()
        self._view: View | None = None
        self._dirty = Dirty()
        self._was: float | None = None
        self._ground_moved = False
        self._flows = False
        """Since the last revision."""
        self._patches = Patches(world)
        self._paint = asyncio.Event()
        self._under_way = 0
        self._free = asyncio.Event()
        self._run: StrokeRun | None = None
        self._shift = (0.0, 0.0)
        self._stroke_at = self._stroke_began = 0.0
        self._told_at = 0.0
        self._question: AskSpot | None = None
        self._asked = asyncio.Event()
        self._walk: Walk | None = None
        self._walk_task: asyncio.Task[None] | None = None
        self._wish = Intent()
        self._walked_by = ""
        self._jumps = False
        """A jump was wished for and has not been made, however short the key was pressed."""

    @staticmethod
    def what_is_seen(world: OpenWorld, tract_id: str, by_land: bool) -> Land:
        with world.lock:
            return world.country(tract_id) if by_land else world.land_from(tract_id)

    async def serve(self) -> None:
        """Speak with the page until it goes; a stroke that was under way is kept."""

        post: Post = self._socket.app.state.post

        def hear(event: Event) -> None:
            # Under the world's lock: rows are told as they are now.
            rows = rows_told(self._world, event) if isinstance(event, Revised) else {}
            post.put(self._hear, event, rows)

        # Whatever asks for the world's lock does so in a thread: the loop never waits for a world.
        stop = await self._thread(self._world.listen, hear)
        self._say("hello", revision=self._world.revision)
        tasks = [
            asyncio.create_task(work()) for work in (self._send_all, self._paint_all, self._answer_spots, self._watch)
        ]
        reader = asyncio.create_task(self._read_all())
        slow = asyncio.create_task(self._slow.wait())
        try:
            await asyncio.wait({reader, slow}, return_when=asyncio.FIRST_COMPLETED)
            if not reader.done():
                # Whatever was under way to it is dropped: it comes again, and sees the land as it is.
                reader.cancel()
                with contextlib.suppress(RuntimeError, TimeoutError):
                    await asyncio.wait_for(self._socket.close(TOO_SLOW, "this page reads too slowly"), 1.0)
            else:
                with contextlib.suppress(WebSocketDisconnect):
                    reader.result()
        finally:
            for task in (*tasks, reader, slow):
                task.cancel()
            # To its end, even when whoever serves it is cancelled meanwhile: a stroke is never left half way.
            leaving = asyncio.create_task(self._leave(stop))
            LEAVING.add(leaving)
            leaving.add_done_callback(LEAVING.discard)
            await asyncio.shield(leaving)

    async def _leave(self, stop: Callable[[], None]) -> None:
        self._end_walk()
        await self._end_stroke(keep=True)
        await self._thread(stop)
        await self._thread(give_back)

    async def _thread(self, work: Callable[..., T], *args: Any) -> T:
        """Do something that may wait, in one of the sockets' own threads."""
        return await to_thread.run_sync(work, *args, limiter=self._socket.app.state.hands)

    # Out

    def _say(self, what: str, **facts: Any) -> None:
        self._put(json.dumps({"is": what, **facts}))

    def _put(self, message: str | bytes) -> None:
        self._unread += len(message)
        if self._unread > MOST_UNREAD or self._outbox.qsize() >= MOST_MESSAGES:
            self._slow.set()
            return
        self._outbox.put_nowait(message)

    async def _send_all(self) -> None:
        while True:
            message = await self._outbox.get()
            try:
                await self._send(message)
            finally:
                self._unread -= len(message)
                self._sent.set()

    async def _send(self, message: str | bytes) -> None:
        if isinstance(message, bytes):
            await self._socket.send_bytes(message)
        else:
            await self._socket.send_text(message)

    def _hear(self, event: Event, rows: dict[str, Any]) -> None:
        if self._walk is not None and self._concerns_walk(event):
            self._walk.forget()
        match event:
            case Moved(tract_id, layer, window, was):
                here = self._land.of(tract_id, window)
                if here is not None:
                    self._ground_moved = self._ground_moved or layer == HEIGHT
                    if was is not None:
                        self._was = was if self._was is None else max(self._was, was)
                    self._dirty.add(layer, here)
                    self._paint.set()
            case Revised():
                self._say(
                    "revised",
                    number=event.number,
                    words=event.words,
                    can_undo=self._world.can_undo,
                    can_redo=self._world.can_redo,
                    **rows,
                )
                house = self._world.house
                if {PLACES.name, JOINS.name} & set(event.collections):
                    self._loop.run_in_executor(None, self._look_anew)
                self._see(event)
                rests = rests_on(self._world)
                drained = self._ground_moved and drains(self._world)
                if self._ground_moved:
                    self._flows = True
                    self._paint.set()
                self._ground_moved = False
                if cause := "look" if drained else cause_of(house, event.collections, rests):
                    self._dirty.add(cause, self._land.bounds)
                    self._paint.set()
            case Gone():
                self._say("gone", message="This world was deleted.")

    def _concerns_walk(self, event: Event) -> bool:
        """Whether what a walker looked at may have changed: ground near it, or rows that are more than light."""
        if isinstance(event, Moved):
            return self._walk is not None and self._walk.sees(event.tract_id, event.window)
        house = self._world.house
        names = event.collections if isinstance(event, Revised) else frozenset()
        return any(house.collection(name).pictured != "shade" for name in names)

    def _see(self, event: Revised) -> None:
        """Ground whose picture rows change that changed: what stands there."""
        for change in event.rows:
            seen = self._world.house.collection(change.collection).seen
            for row in (change.was, change.row) if seen is not None else ():
                if seen is None or row is None:
                    continue
                own, *box = seen(row)
                tract_id = own or self._world.of_tract(None)
                grid = self._world.tract(tract_id).grid if tract_id in self._world.tracts else None
                posts = None if grid is None else grid.clip(grid.window_of(*box))
                here = None if posts is None or posts.empty else self._land.of(tract_id, posts)
                if here is not None:
                    self._dirty.add("growth", here)
                    self._paint.set()

    def _look_anew(self) -> None:
        """Tracts came, went, or were moved, joined or parted; a page whose own tract is gone keeps what it had."""
        with contextlib.suppress(FernError):
            self._land = self.what_is_seen(self._world, self._tract_id, self._by_land)

    async def _paint_all(self) -> None:
        while True:
            await self._paint.wait()
            # Few patches under way at a time: what moves meanwhile is drawn together in the next.
            while self._under_way >= PATCHES_UNDER_WAY:
                self._free.clear()
                try:
                    await asyncio.wait_for(self._free.wait(), PATCH_PATIENCE_S)
                except TimeoutError:
                    # What was sent has not even been read: nothing more is drawn for it until it is.
                    while self._unread > 0:
                        self._sent.clear()
                        await self._sent.wait()
                    self._under_way = 0
            self._under_way += 1
            self._paint.clear()
            if self._flows:
                # Where water stands may have changed far from where the ground did.
                self._flows = False
                with contextlib.suppress(FernError):
                    if await self._thread(self._patches.flooded, self._land):
                        self._dirty.add("look", self._land.bounds)
                        if self._walk is not None:
                            self._walk.forget()
            stale = self._dirty.take(self._hand_at()) if self._dirty else None
            dirty = {} if stale is None else dict.fromkeys(stale.layers, stale.window)
            was = self._was
            if not self._dirty:
                self._was = None
            drawn_to = self._run.drawn_to if self._run is not None else None
            try:
                # The brush's own ground first; what it shades further off when nothing else is to be drawn.
                if dirty:
                    messages = await self._thread(self._patches.of, self._land, dirty, self._view, drawn_to, was)
                else:
                    messages = await self._thread(self._patches.shaded, self._land, self._view)
                for message in messages:
                    self._put(message)
            except Exception as error:
                noted(error, f"a patch of {self._world.id}")
            if self._dirty or self._patches.more:
                self._paint.set()

    def _hand_at(self) -> tuple[float, float] | None:
        """Where this page's own hand is, in posts: what it does there is shown first."""
        if self._run is None or not self._run.samples:
            return None
        last, (east, north) = self._run.samples[-1], self._shift
        grid = self._land.grid
        return grid.row_of(last.y + north), grid.col_of(last.x + east)

    def _patch_arrived(self) -> None:
        """The page has taken a patch in; a page that says so too often gains nothing."""
        if self._under_way > 0:
            self._under_way -= 1
            self._free.set()

    # In

    async def _read_all(self) -> None:
        tokens, last = float(MESSAGES_S), time.monotonic()
        while True:
            text = await self._heard()
            now = time.monotonic()
            tokens = min(MESSAGES_S * 2.0, tokens + (now - last) * MESSAGES_S) - 1
            last = now
            if tokens < 0:
                await asyncio.sleep(-tokens / MESSAGES_S)
            if text is None:
                self._say("error", message="a message is text (JSON), not bytes")
                continue
            try:
                message = INCOMING.validate_json(text)
            except ValidationError as error:
                # Which sort of message it was meant to be is no field of it.
                found = field_errors([{**one, "loc": one["loc"][1:]} for one in error.errors()])
                self._say("error", message=sentences(found))
                continue
            try:
                await self._take(message)
            except Exception as error:
                self._wrong(error)

    async def _heard(self) -> str | None:
        """What the page says next; None for what is no text."""
        message = await self._socket.receive()
        if message["type"] == "websocket.disconnect":
            raise WebSocketDisconnect(message.get("code", 1000))
        text: str | None = message.get("text")
        return text

    def _wrong(self, error: Exception, **more: Any) -> None:
        """Tell the page what went wrong, in words; a fault of ours with its number."""
        meant = meaning(error)
        words = noted(error, f"the socket of {self._world.id}") if meant is None else str(meant)
        self._say("error", message=words, **more)

    async def _take(self, message: Any) -> None:
        match message:
            case View():
                known(message.overlays)
                before = self._view
                turned = before is not None and any(getattr(message, one) != getattr(before, one) for one in LIGHTS)
                self._view = message
                if turned:
                    # A light that is looked at before it is set: what is in view is drawn in it.
                    self._dirty.add("shade", self._land.bounds)
                    self._paint.set()
            case Begin() | KeepWalk() if self._socket.state.guest.may == "look":
                raise Conflict("you came in to look only: nothing can be changed")
            case Begin():
                await self._end_stroke(keep=True)
                self._run = await self._thread(self._world.begin_stroke, message.tract, message.stroke)
                # The page speaks of the land's metres, a stroke of those of the tract where it began.
                own = next((p for p in self._land.parts if p.tract.row.id == message.tract), None)
                self._shift = (0.0, 0.0) if own is None else (own.x, own.y)
                self._stroke_at = self._stroke_began = time.monotonic()
            case Move():
                await self._move(message)
            case End():
                if self._run is None and message.is_ == "end":
                    # The stroke ended before (too long, or it could not begin): the page still waits to hear so.
                    self._say("ended", revision=self._world.revision, window=NOWHERE.as_list(), cut_m3=0.0, fill_m3=0.0)
                await self._end_stroke(keep=message.is_ == "end")
            case Drawn():
                self._patch_arrived()
            case AskSpot():
                self._question = message
                self._asked.set()
            case BeginWalk():
                await self._begin_walk(message)
            case Wish():
                self._jumps = self._jumps or message.jump
                self._wish = Intent(
                    message.ahead, message.aside, message.facing, message.run, message.jump, message.crouch
                )  # fmt: skip
            case EndWalk():
                self._end_walk()
            case KeepWalk():
                if self._walk is None:
                    raise InvalidInput("there is no walk to be kept", "name")
                key = await self._thread(keep_walk, self._world, self._walk, self._walked_by, message.name)
                self._say("walk-kept", key=key)

    async def _move(self, message: Move) -> None:
        run = self._run
        if run is None:
            return
        self._stroke_at = time.monotonic()
        east, north = self._shift
        samples = [Sample(x - east, y - north, *rest) for x, y, *rest in message.samples]
        try:
            await self._thread(self._world.extend_stroke, run, samples)
        except FernError:
            # What was drawn before the bad sample stays; the stroke ends there.
            await self._end_stroke(keep=True)
            raise
        if run.full:
            await self._end_stroke(keep=True)
            raise Conflict(f"{TOO_MUCH}; it is kept as far as it went")
        if run.on_ground and not run.ended and self._stroke_at - self._told_at > TELL_EVERY_S:
            self._told_at = self._stroke_at
            facts: dict[str, Any] = dict(await self._thread(self._world.stroke_progress, run))
            if "percent" in facts:
                facts["climbs"] = climbs(facts["percent"])
            self._say("progress", **facts)

    async def _end_stroke(self, *, keep: bool) -> None:
        run, self._run = self._run, None
        if run is None:
            return
        try:
            if not keep:
                await self._thread(self._world.abandon_stroke, run)
                return
            outcome = await self._thread(self._world.finish_stroke, run)
        except Exception as error:
            # It was taken back: the page looks at the land anew.
            self._wrong(error, lost=True)
            return
        self._say(
            "ended",
            revision=outcome.revision,
            window=(self._land.of(run.tract_id, outcome.window) or outcome.window).as_list(),
            cut_m3=outcome.cut_m3,
            fill_m3=outcome.fill_m3,
        )

    async def _watch(self) -> None:
        """Strokes that have waited for too long, and room on the disk that runs low."""
        low, looked, compiled = False, -math.inf, None
        while True:
            now = time.monotonic()
            if (compiling := self._socket.app.state.compiling) != compiled:
                compiled = compiling
                self._say("compiling", done=compiling[0], of=compiling[1])
            if now - looked > LOOK_AT_ROOM_S:
                looked, free = now, await self._thread(self._socket.app.state.room)
                if (free < LOW_BYTES) != low:
                    low = not low
                    self._say("room", free_mib=free >> 20 if low else None)
            await asyncio.sleep(1.0)
            now = time.monotonic()
            if self._run is None:
                continue
            if now - self._stroke_at > LONGEST_WAIT_S or now - self._stroke_began > LONGEST_HELD_S:
                await self._end_stroke(keep=True)

    # Facts

    async def _answer_spots(self) -> None:
        while True:
            await self._asked.wait()
            self._asked.clear()
            question, self._question = self._question, None
            if question is None:
                continue
            try:
                facts = await self._thread(self._facts, question)
            except FernError:
                self._say("spot", spot=None, section=None)
                continue
            self._say("spot", **facts)

    def _facts(self, question: AskSpot) -> dict[str, Any]:
        world, land, x, y, tide = self._world, self._land, question.x, question.y, question.tide
        return {
            "spot": spot(world, land, x, y, tide) if land.holds(x, y) else None,
            "section": section(world, land, y, question.x0, question.x1, tide=tide) if question.section else None,
        }

    # Walking

    async def _begin_walk(self, message: BeginWalk) -> None:
        self._end_walk()

        def begin() -> Walk:
            world, name = self._world, self._socket.state.guest.name
            sea, gait = tide_level(world, message.tide), gait_of(world, message.walker)
            if message.x is not None and message.y is not None:
                part = self._land.part_at(message.x, message.y)
                land = self._walked(self._tract_id if part is None else part.tract.row.id)
                x, y, facing, over, speed, team = message.x, message.y, message.facing, message.over_m, 0.0, None
            else:
                land = self._walked(self._tract_id)
                part, start = default_start(world, land)
                x, y, facing, over = part.x + start.x, part.y + start.y, facing_of(world, start), start.over_m
                speed, team = start.speed_ms, start.team
            with world.lock:
                plays = world.house.given.plays(world, land) if message.plays else None
            return Walk(world, land, x, y, facing, over, sea, gait, speed, name, plays, team, message.walker)

        try:
            walk = await self._thread(begin)
        except FernError as error:
            self._say("no-walk", message=str(error))
            return
        walk.join()
        self._walk, self._walked_by = walk, message.walker
        self._wish = Intent(facing=walk.walker.facing)
        self._walk_task = asyncio.create_task(self._tick(walk))

    def _walked(self, tract_id: str) -> Land:
        """The land that is walked on: nobody walks where tracts are not joined."""
        with self._world.lock:
            return self._world.land(tract_id) if self._by_land else self._world.land_from(tract_id)

    def _end_walk(self) -> None:
        if self._walk_task is not None:
            self._walk_task.cancel()
        if self._walk is not None:
            # It may still be kept, until the next one begins.
            self._walk.leave()
        self._walk_task = None

    async def _tick(self, walk: Walk) -> None:
        """Advance the walker in even steps of TICK_S; lost time is made up, but never more than a quarter second."""
        frame = WALK_FRAME_TICKS * TICK_S
        due = time.monotonic()
        while True:
            now = time.monotonic()
            frames = min(int((now - due) / frame) + 1, round(0.25 / frame))
            due = max(due + frames * frame, now - 0.25)
            wish, self._jumps = replace(self._wish, jump=self._jumps or self._wish.jump), False
            await self._thread(walk.advance, wish, frames * WALK_FRAME_TICKS)
            self._say("walker", **await self._thread(walk.state))
            await asyncio.sleep(max(0.0, due - time.monotonic()))


@router.websocket("/live/{world_id}")
async def live(socket: WebSocket, world_id: str) -> None:
    """The socket of one page: on a tract, the first unless `?tract=` says, in its own metres; or with `?land=` on all
    that is seen with a tract, in the world's. Closes with 4404 when there is none.
    """
    await socket.accept()
    try:
        world = await to_thread.run_sync(socket.app.state.studio.world, world_id)
        land = socket.query_params.get("land")
        wanted = land or socket.query_params.get("tract")
        tract = world.first_tract if wanted is None else world.tract(wanted)
        by_land = land is not None
        seen = await to_thread.run_sync(Connection.what_is_seen, world, tract.row.id, by_land)
        connection = Connection(socket, world, tract.row.id, by_land, seen)
    except FernError as error:
        await socket.close(4404, str(error)[:120])
        return
    with socket.app.state.watch.pages.track_inprogress():
        await connection.serve()
