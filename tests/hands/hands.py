"""Hands other than the mouse: a keyboard, and fingers; each does what a person does, and waits for what comes of it."""

from __future__ import annotations

import math
import re
from typing import Any

from playwright.sync_api import Page, expect

from tests.browser.driving import until


class Keys:
    """The keyboard alone: nothing here moves a pointer."""

    def __init__(self, page: Page) -> None:
        self.page = page

    def press(self, key: str, times: int = 1) -> None:
        for _ in range(times):
            self.page.keyboard.press(key)

    def tab_to(self, selector: str, most: int = 160, back: bool = False) -> None:
        """Tab until what matches has the focus; fails when it is never reached."""
        seen = []
        for _ in range(most):
            if self.page.evaluate("s => document.activeElement.matches(s)", selector):
                return
            self.page.keyboard.press("Shift+Tab" if back else "Tab")
            seen.append(self.page.evaluate("document.activeElement.outerHTML.slice(0, 60)"))
        raise AssertionError(f"{selector} was never reached: {seen[-12:]}")

    def fill(self, selector: str, value: str) -> None:
        """Come to a field by Tab, and type."""
        self.tab_to(selector)
        self.page.keyboard.press("Control+a")
        self.page.keyboard.type(value)

    def map(self, pane: str = "flat") -> None:
        """The focus comes to the map by the skip link, as the first Tab of the page finds it."""
        self.page.evaluate("document.activeElement.blur()")
        self.tab_to(f"#{pane}")

    def jump(self, x: float, y: float) -> None:
        """The crosshair goes to typed figures; the focus has to be on the map."""
        self.page.keyboard.press("j")
        expect(self.page.locator("#jump-x")).to_be_focused()
        self.page.keyboard.type(str(x))
        self.page.keyboard.press("Tab")
        self.page.keyboard.press("Control+a")
        self.page.keyboard.type(str(y))
        self.page.keyboard.press("Enter")
        expect(self.page.locator("#jump")).to_be_hidden()
        there = "([x, y]) => { const c = fern.state.cursor; return c && Math.hypot(c.x - x, c.y - y) < 1; }"
        until(self.page, there, arg=[x, y])
        expect(self.page.locator("#flat, #look").and_(self.page.locator(":focus"))).to_have_count(1)

    def stroke(self, way: str, times: int, key: str = " ") -> None:
        """Space is held while an arrow is pressed, each time one frame of the page later."""
        self.page.keyboard.down(key)
        for _ in range(times):
            self.page.keyboard.press(way)
            self.page.evaluate("() => new Promise(requestAnimationFrame)")
        self.page.keyboard.up(key)

    def told(self, words: str) -> None:
        """What a screen reader would say holds these words."""
        expect(self.page.locator("#told")).to_contain_text(re.compile(words))


class Fingers:
    """Fingers on the screen, as the browser gets them from the system."""

    def __init__(self, page: Page) -> None:
        self.page = page
        self._line = page.context.new_cdp_session(page)

    def _send(self, what: str, *points: tuple[float, float]) -> None:
        fingers: list[dict[str, Any]] = [{"x": x, "y": y, "id": number} for number, (x, y) in enumerate(points)]
        self._line.send("Input.dispatchTouchEvent", {"type": what, "touchPoints": fingers})

    def _frame(self) -> None:
        self.page.evaluate("() => new Promise(requestAnimationFrame)")

    def tap(self, x: float, y: float) -> None:
        self._send("touchStart", (x, y))
        self._frame()
        self._send("touchEnd")

    def drag(self, start: tuple[float, float], end: tuple[float, float], steps: int = 20) -> None:
        """A finger sets off briskly: one that hardly moves for half a second presses long."""
        self._send("touchStart", start)
        off = min(12 / max(math.dist(start, end), 1), 1)
        for k in range(steps + 1):
            part = off + (1 - off) * k / steps
            self._send("touchMove", (start[0] + (end[0] - start[0]) * part, start[1] + (end[1] - start[1]) * part))
            self._frame()
        self._send("touchEnd")

    def hold(self, x: float, y: float) -> None:
        """Pressed in one place until the map's menu is there."""
        self._send("touchStart", (x, y))
        expect(self.page.locator("#menu")).to_be_visible()
        self._send("touchEnd")

    def pinch(self, middle: tuple[float, float], first: float, last: float, by: tuple[float, float] = (0, 0)) -> None:
        """Two fingers, one after the other; their distance goes from `first` to `last`, their middle moves `by`."""
        x, y = middle
        self._send("touchStart", (x - first / 2, y))
        self._frame()
        self._send("touchStart", (x - first / 2, y), (x + first / 2, y))
        for k in range(1, 13):
            half = (first + (last - first) * k / 12) / 2
            at = (x + by[0] * k / 12, y + by[1] * k / 12)
            self._send("touchMove", (at[0] - half, at[1]), (at[0] + half, at[1]))
            self._frame()
        self._send("touchEnd")
