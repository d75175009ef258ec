"""Twenty hands on one world, slow and silent pages among them, long work beside: what others feel, and what is left."""

from __future__ import annotations

import asyncio
import json
import random
import struct
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import typer
from websockets.asyncio.client import ClientConnection, connect

from fernfield.bench import Plan, Row
from fernfield.bench.browser import server
from fernfield.core.grid import FloatArray
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec

HANDS = 20
DRIPPING = 2
"""Of these hands: they read a few bytes now and then."""

SIDE = 2_049
LONG = 4_097
ASK_EVERY_S = 0.1
QUIET_S = 4.0
PATIENCE_S = 120.0


@dataclass
class Page:
    """What one page knows of the land."""

    reads: str
    heights: FloatArray
    strokes: int = 0
    kept: int = 0
    coarse: list[tuple[int, int, int, int]] = field(default_factory=list)
    closed: int | None = None
    heard_at: float = 0.0
    drawn: bool = False


def rows(plan: Plan) -> Iterator[Row]:
    seconds = 12.0 if plan.large < 4_097 else 60.0
    with tempfile.TemporaryDirectory() as folder:
        ids = _worlds(Path(folder))
        with server("serve", Path(folder)) as url:
            quiet, busy, pages, grown = asyncio.run(_all(url, ids, seconds))
        strokes = sum(page.kept for page in pages)
        typer.echo(
            f"(load: {HANDS} hands, {DRIPPING} of them dripping, one page that never reads, {seconds:g} s: {strokes} "
            f"strokes kept, pages let go of: {sum(p.closed == 1013 for p in pages)})"
        )
    asked = (
        ("health", "/healthz", "50 ms"),
        ("stroke", "a stroke on another world", "3"),
        ("spot", "a spot of that", "–"),
    )
    for name, words, aim in asked:
        ours, theirs = (sorted(times[name])[int(0.95 * len(times[name]))] for times in (busy, quiet))
        yield Row(f"{words} under load, p95", "the same in quiet, p95", ours, theirs, ours / theirs, aim)
    words = f"memory when all have gone: {grown >> 20} MiB more than at the start"
    yield Row(words, "–", 0.0, 0.0, grown / (150 << 20), "150 MiB")


def _worlds(data: Path) -> dict[str, tuple[str, str]]:
    """The worlds of the run: world and tract, by what they are for."""
    studio = Studio(data)
    found = {}
    for name, side in (("drawn on", SIDE), ("quiet", 513), ("made", LONG), ("handed over", 1_025)):
        world = studio.create(WorldSpec(name=name, width_m=side - 1, depth_m=side - 1, spacing_m=1, elevation_m=5))
        found[name] = world, studio.world(world).first_tract.row.id
    studio.close()
    return found


def _call(url: str, body: Any = None) -> bytes:
    data = None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(url, data, {"content-type": "application/json"})
    with urllib.request.urlopen(request, timeout=120) as answer:
        return bytes(answer.read())


async def _all(
    url: str, ids: dict[str, tuple[str, str]], seconds: float
) -> tuple[dict[str, list[float]], dict[str, list[float]], list[Page], int]:
    world, tract = ids["drawn on"]
    for _ in range(3):
        await _ask(url, ids, 2.0)
    quiet = await _ask(url, ids, 6.0)
    start = _memory(url)
    recipe = {"seed": 7, "landscapes": [{"name": "fells", "patch_m": 900}], "name": "Land"}
    making = _call(f"{url}/api/tracts/{ids['made'][1]}/generate", recipe)
    handing = _call(f"{url}/api/worlds/{ids['handed over'][0]}/handover", {})
    ways = ["dripping"] * DRIPPING + ["reading"] * (HANDS - DRIPPING) + ["silent"]
    pages = [Page(way, np.full((SIDE, SIDE), 5, np.float32)) for way in ways]
    begin, end = asyncio.Event(), time.monotonic() + 2 + seconds
    hands = [asyncio.create_task(_hand(url, world, tract, pages, n, begin, end)) for n in range(len(pages))]
    # All look on before anybody draws.
    await asyncio.sleep(2)
    begin.set()
    busy = await _ask(url, ids, seconds)
    await asyncio.gather(*hands)
    for job in (making, handing):
        name = json.loads(job)["job"]
        while json.loads(await asyncio.to_thread(_call, f"{url}/api/jobs/{name}"))["state"] in ("queued", "running"):
            await asyncio.sleep(0.2)
    await _compare(url, tract, pages)
    await asyncio.sleep(2)
    return quiet, busy, pages, _memory(url) - start


def _memory(url: str) -> int:
    lines = _call(f"{url}/metrics").decode().splitlines()
    return int(float(next(line for line in lines if line.startswith("fernfield_resident_bytes")).split()[1]))


async def _ask(url: str, ids: dict[str, tuple[str, str]], seconds: float) -> dict[str, list[float]]:
    """How long others wait for their answers. [s]"""
    found: dict[str, list[float]] = {"health": [], "stroke": [], "spot": []}
    stroke = {"tool": "raise", "radius_m": 20, "softness": 0.5, "strength": 2, "path": [[100, 100, 0], [140, 120, 0.3]]}
    calls: dict[str, tuple[str, Any]] = {
        "health": ("/healthz", None),
        "stroke": (f"/api/tracts/{ids['quiet'][1]}/strokes", stroke),
        "spot": (f"/api/tracts/{ids['drawn on'][1]}/spot?x=50&y=50", None),
    }
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        for name, (path, body) in calls.items():
            began = time.perf_counter()
            await asyncio.to_thread(_call, url + path, body)
            found[name].append(time.perf_counter() - began)
        await asyncio.sleep(ASK_EVERY_S)
    return found


async def _hand(
    url: str, world: str, tract: str, pages: list[Page], number: int, begin: asyncio.Event, end: float
) -> None:
    rng, page = random.Random(number), pages[number]
    address = f"{url.replace('http', 'ws')}/live/{world}"
    # A page that does not read keeps little in its own buffers.
    some = {"max_size": None, "ping_interval": None, "max_queue": 1 if page.reads != "reading" else 64}
    async with connect(address, compression=None, **some) as socket:  # type: ignore[arg-type]
        reading = asyncio.create_task(_read(socket, page))
        x0, y0 = rng.uniform(200, 1_500), rng.uniform(200, 1_500)
        view = {
            "is": "view",
            "level": 0,
            "row0": int(y0),
            "col0": int(x0),
            "row1": int(y0) + 600,
            "col1": int(x0) + 900,
        }
        try:
            await socket.send(json.dumps({**view, "heights": True, "shadows": False}))
            await begin.wait()
            while time.monotonic() < end:
                if page.reads == "silent":
                    await asyncio.sleep(0.5)
                    continue
                await _stroke(socket, tract, rng)
                page.strokes += 1
            # Until all strokes are kept, its own and those of others, and nothing more comes.
            while page.reads == "reading" and page.kept < page.strokes and time.monotonic() < end + PATIENCE_S:
                await asyncio.sleep(0.2)
            page.drawn = True
            while page.reads == "reading" and not (
                all(other.drawn for other in pages) and time.monotonic() > page.heard_at + QUIET_S
            ):
                await asyncio.sleep(0.2)
        except OSError:
            pass
        except Exception as error:
            page.closed = getattr(getattr(error, "rcvd", None), "code", None)
        page.drawn = True
        reading.cancel()
    page.closed = page.closed or socket.close_code


async def _stroke(socket: ClientConnection, tract: str, rng: random.Random) -> None:
    x, y = rng.uniform(100, SIDE - 150), rng.uniform(100, SIDE - 150)
    tool = rng.choice(("raise", "lower", "smooth"))
    begins = {"tool": tool, "radius_m": rng.choice((10, 25, 40)), "softness": 0.5, "strength": 20}
    await socket.send(json.dumps({"is": "begin", "tract": tract, "stroke": begins}))
    for step in range(60):
        samples = [[x + step, y + step / 2, step / 60]]
        await socket.send(json.dumps({"is": "move", "samples": samples}))
        await asyncio.sleep(1 / 60)
    await socket.send(json.dumps({"is": "end"}))
    await asyncio.sleep(rng.uniform(0.3, 1.2))


async def _read(socket: ClientConnection, page: Page) -> None:
    while page.reads == "silent":
        await asyncio.sleep(1)
    while True:
        if page.reads == "dripping":
            await asyncio.sleep(0.5)
        message = await socket.recv()
        page.heard_at = time.monotonic()
        if isinstance(message, str):
            page.kept += json.loads(message)["is"] == "ended"
            said, body = json.loads(message), b""
        else:
            (length,) = struct.unpack_from("<I", message)
            said, body = json.loads(message[4 : 4 + length]), message[4 + length :]
        if said["is"] in ("patch", "stale"):
            await socket.send('{"is": "drawn"}')
        if said["is"] == "heights":
            row0, col0, row1, col1 = said["window"]
            if said["step"] == 1:
                page.heights[row0:row1, col0:col1] = np.frombuffer(body, "<f4").reshape(row1 - row0, col1 - col0)
            else:
                page.coarse.append((row0, col0, row1, col1))


async def _compare(url: str, tract: str, pages: list[Page]) -> None:
    """Every page that reads knows the land as it is; what came coarse it asks for, as a page does when the hand rests.
    Raises RuntimeError when one does not."""
    body = await asyncio.to_thread(_call, f"{url}/api/tracts/{tract}/heights")
    land = np.frombuffer(body, "<f4").reshape(SIDE, SIDE)
    for page in pages:
        if page.reads != "reading":
            continue
        for row0, col0, row1, col1 in page.coarse:
            page.heights[row0:row1, col0:col1] = land[row0:row1, col0:col1]
        wrong = int((page.heights != land).sum())
        if wrong:
            raise RuntimeError(f"a page has {wrong} posts that are not those of the land")
