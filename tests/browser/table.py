"""The demo world open in a page, as a hand and an eye use it."""

from __future__ import annotations

import io
import re
import time
from collections.abc import Callable
from typing import Any

import numpy as np
from PIL import Image
from playwright.sync_api import Page, expect

from tests.browser.driving import PATIENCE, Server, frames, until

WAIT = PATIENCE * 1000
"""The same in milliseconds, as Playwright has it."""

Picture = np.ndarray


class Table:
    """The demo world open in a page: where spots are on the screen, and what the server says of them."""

    def __init__(self, page: Page, server: Server) -> None:
        self.page, self.server = page, server
        found = [w for w in server.get("/api/worlds") if w["name"] == "Sallow Reach"]
        self.world, self.tract = found[0]["id"], found[0]["tracts"][0]["id"]

    def open(self, stage: str = "ground", **kept: Any) -> None:
        """Open the page on a stage, as if it had been left so: with low detail, and growth where it is the subject."""
        kept = {"stage": stage, **kept, "show": {"detail": "low", "growth": stage == "growth", **kept.get("show", {})}}
        self.page.goto(self.server.url + "/healthz")
        self.page.evaluate(
            "([key, kept]) => localStorage.setItem(key, JSON.stringify(kept))", [f"fern.world.{self.world}", kept]
        )
        self.page.goto(f"{self.server.url}/worlds/{self.world}")
        self.ready()

    def ready(self) -> None:
        until(self.page, "window.fern && fern.counts.tiles > 3 && fern.rows('things').length > 0")
        until(self.page, "document.getElementById('bench').dataset.shows === fern.state.stage")

    def fold(self, name: str = "") -> None:
        """Open a fold of the bench; with nothing, back to the tools."""
        open_now = self.page.locator("#bench .fold.open .fold-button")
        if open_now.count():
            open_now.click()
        if name:
            self.page.locator(f"[data-fold={name}] .fold-button").click()

    def tab(self, words: str) -> None:
        self.page.get_by_role("tab", name=words, exact=True).click()

    def at(self, x: float, y: float) -> tuple[float, float]:
        """Where a spot is on the screen."""
        px, py = self.page.evaluate(
            """([x, y]) => { const box = document.getElementById("flat").getBoundingClientRect();
                 const [px, py] = fern.screenAt(x, y); return [px + box.left, py + box.top]; }""",
            [x, y],
        )
        return px, py

    def spot(self, x: float, y: float) -> dict[str, Any]:
        return dict(self.server.get(f"/api/tracts/{self.tract}/spot?x={x}&y={y}"))

    def under_cursor(self, x: float, y: float) -> dict[str, Any]:
        """The facts that the page shows for a spot, after moving the pointer there: those that the server has now."""
        self.page.mouse.move(*self.at(x, y))
        near = "([x, y]) => fern.facts.spot && Math.hypot(fern.facts.spot.x - x, fern.facts.spot.y - y) < 3"
        until(self.page, near, arg=[x, y])
        end = time.monotonic() + PATIENCE
        while True:
            # The page may still tell of where the pointer was a moment ago: whatever it tells has to be true.
            told = dict(self.page.evaluate("fern.facts.spot"))
            if abs(told["elevation_m"] - self.spot(told["x"], told["y"])["elevation_m"]) < 1e-3:
                return told
            assert time.monotonic() < end, f"the page tells {told}"
            until(self.page, "old => JSON.stringify(fern.facts.spot) !== JSON.stringify(old)", arg=told)

    def drag(self, start: tuple[float, float], end: tuple[float, float], button: Any = "left", steps: int = 20) -> None:
        """A stroke of the pointer between two spots; waits until it is acknowledged."""
        (x0, y0), (x1, y1) = self.at(*start), self.at(*end)
        before = self.revision()
        self.page.mouse.move(x0, y0)
        self.page.mouse.down(button=button)
        for i in range(1, steps + 1):
            self.page.mouse.move(x0 + (x1 - x0) * i / steps, y0 + (y1 - y0) * i / steps)
            frames(self.page)
        self.page.mouse.up(button=button)
        self.kept(before)

    def revision(self) -> int:
        return int(self.server.get(f"/api/worlds/{self.world}")["revision"])

    def kept(self, before: int) -> None:
        until(self.page, "before => fern.state.world.revision > before", arg=before)
        expect(self.page.locator("#kept")).to_have_text(re.compile(r"r\d+ kept"), timeout=WAIT)

    def stage(self, name: str) -> None:
        self.page.locator(f"[data-stage={name}]").click()
        expect(self.page.locator(f"[data-stage={name}]")).to_have_attribute("aria-current", "step")
        expect(self.page.locator("#bench")).to_have_attribute("data-shows", name)

    def colour(
        self, x: float, y: float, sees: Callable[[Picture], bool] = lambda colour: True, *, aside: bool = True
    ) -> Picture:
        """The mean colour of the plan's canvas around a spot, as soon as it is one that `sees` accepts; the pointer
        goes out of the way first, unless it has something in hand. Tiles that were on their way are there."""
        if aside:
            self.page.mouse.move(150, 740)
        frames(self.page, 2)
        until(self.page, "fern.counts.loading === 0")
        px, py = self.at(x, y)
        clip = {"x": px - 2, "y": py - 2, "width": 5, "height": 5}
        return self._seen(clip, lambda shot: shot.reshape(-1, 3).mean(axis=0), sees)

    def relief(self, sees: Callable[[Picture], bool] = lambda grey: True) -> Picture:
        """The middle of the map in grey, as soon as it is one that `sees` accepts."""
        return self.strip({"x": 320, "y": 120, "width": 840, "height": 500}, sees)

    def strip(self, clip: Any, sees: Callable[[Picture], bool]) -> Picture:
        """A part of the screen in grey, as soon as it is one that `sees` accepts."""
        return self._seen(clip, lambda shot: shot.mean(axis=2), sees)

    def _seen(self, clip: Any, read: Callable[[Picture], Picture], sees: Callable[[Picture], bool]) -> Picture:
        end = time.monotonic() + WAIT / 1000
        while True:
            shot = Image.open(io.BytesIO(self.page.screenshot(clip=clip))).convert("RGB")
            found = read(np.asarray(shot).astype(float))
            if sees(found):
                return found
            assert time.monotonic() < end, f"never seen; at last {found}"
            frames(self.page, 4)
