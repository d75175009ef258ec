"""A real server on the demo world and a real browser: Debian's Chromium, driven by Playwright."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Error, Page, Playwright, Request, expect, sync_playwright

from fernfield.bench.browser import ARGUMENTS, AT_HOME, debians_chromium

PATIENCE = float(os.environ.get("FERN_PATIENCE", "120"))
"""Longest wait for anything: a machine that is busy with other work may need long; a test that hangs still ends. [s]"""

expect.set_options(timeout=PATIENCE * 1000)

GRAPHICS_NOISE = ("GPU stall", "GL Driver Message", "status of 422", "status of 409", "Status Error Code 422")
"""What the browser says of its own; a refusal with words for the person is no fault of the page."""
GIVEN_UP = "htmx:afterRequest", "htmx:sendAbort"
"""The two words that htmx says, one after the other, when a panel gives way that still waits for an answer."""


class Server:
    """The application as `fernfield demo` starts it, in a process of its own that can be stopped and started."""

    def __init__(self, data: Path) -> None:
        self._data = data
        self.url = ""
        self.start()

    def start(self) -> None:
        port = self.url.rsplit(":", 1)[-1] if self.url else "0"
        self._process = subprocess.Popen(
            [sys.executable, "-m", "fernfield.cli", "demo", "--port", port, "--data", str(self._data)],
            stdout=subprocess.PIPE,
            text=True,
            env={**os.environ, "PYTHONUNBUFFERED": "1"},
        )
        assert self._process.stdout is not None
        for line in self._process.stdout:
            if found := re.search(r"(http://127\.0\.0\.1:\d+)/", line):
                self.url = found[1]
                return
        raise AssertionError("the server did not say its address")

    def stop(self, how: signal.Signals = signal.SIGTERM) -> None:
        self._process.send_signal(how)
        self._process.wait(120)
        assert self._process.stdout is not None
        self._process.stdout.close()

    def get(self, path: str) -> Any:
        with urllib.request.urlopen(self.url + path, timeout=120) as answer:
            return json.load(answer)

    def send(self, path: str, body: Any = None, method: str = "POST") -> Any:
        """Ask for a change, as a script would; the answer."""
        data = None if body is None else json.dumps(body).encode()
        head = {"content-type": "application/json", "origin": self.url}
        request = urllib.request.Request(self.url + path, data, head, method=method)
        with urllib.request.urlopen(request, timeout=120) as answer:
            text = answer.read()
        return json.loads(text) if text else None

    def take_back(self) -> None:
        """Undo all that was done to each world since it was made."""
        for world in self.get("/api/worlds"):
            while world["can_undo"]:
                self.send(f"/api/worlds/{world['id']}/undo")
                world = self.get(f"/api/worlds/{world['id']}")

    def bytes_of(self, path: str) -> bytes:
        with urllib.request.urlopen(self.url + path, timeout=120) as answer:
            return bytes(answer.read())


ASKS = """
async (arg) => {
  for (let turn = 0; turn < 20; turn += 1) {
    const found = (%s);
    const told = typeof found === "function" ? await found(arg) : await found;
    if (told) return told;
    await new Promise((done) => setTimeout(done, 30));
  }
}
"""
"""Asks for half a second at a time, so that what the page complains of is heard meanwhile."""


def _asked(page: Page, script: str, arg: Any) -> Any:
    try:
        return page.evaluate(script, arg)
    except Error as error:
        # Another page comes: it is asked next.
        if "context was destroyed" in str(error):
            return None
        raise


def until(page: Page, script: str, arg: Any = None, seconds: float = PATIENCE) -> Any:
    """Ask in the page, again and again, until `script` is true. Playwright's own waiting needs unsafe-eval."""
    end = time.monotonic() + seconds
    while not (found := _asked(page, ASKS % script, arg)):
        complaints, waits = getattr(page, "complaints", []), getattr(page, "unanswered", {})
        if time.monotonic() > end or any(one.startswith("pageerror") for one in complaints):
            state = page.evaluate(STATE)
            raise AssertionError(
                f"never true: {script} with {arg}; {state}; complaints {complaints}; unanswered {list(waits.values())}"
            )
    return found


STATE = """
() => {
  const { asked, counts, state } = window.fern || {};
  const told = [...document.querySelectorAll(".toast-body")].map((one) => one.textContent);
  const rows = Object.fromEntries(Object.keys(state?.at ?? {}).map((name) => [name, fern.rows(name).length]));
  const page = { line: state?.line, view: state?.view, missing: state?.missing, tiles: counts?.tiles, asked, rows };
  return JSON.stringify({ hidden: document.hidden, ready: document.readyState, told, ...page });
}
"""
"""What a page that does not come to what is waited for says of itself."""


def frames(page: Page, count: int = 1) -> None:
    """So many frames of the page pass: what the pointer does meanwhile is seen by it."""
    for _ in range(count):
        page.evaluate("() => new Promise(requestAnimationFrame)")


@pytest.fixture(scope="session")
def server(tmp_path_factory: pytest.TempPathFactory, demo_data: Path) -> Iterator[Server]:
    running = Server(Path(shutil.copytree(demo_data, tmp_path_factory.mktemp("browser") / "data")))
    yield running
    running.stop()


class Chromium:
    """Debian's Chromium; started anew when a test has failed: what it left behind is handed to no other."""

    def __init__(self, playwright: Playwright, path: str) -> None:
        self._playwright, self._path = playwright, path
        self.start()

    def start(self) -> None:
        self.now = self._playwright.chromium.launch(executable_path=self._path, args=ARGUMENTS)


@pytest.fixture(scope="session")
def browser() -> Iterator[Chromium]:
    path = debians_chromium()
    if path is None:
        pytest.skip("Debian's chromium-headless-shell is not installed: make test installs it")
    with sync_playwright() as playwright:
        started = Chromium(playwright, path)
        yield started
        started.now.close()


class Desk:
    """Where the pages of a file are opened: what one has loaded of the application the next one has at hand."""

    def __init__(self, browser: Chromium) -> None:
        self._browser = browser
        self.lay()

    def lay(self) -> None:
        # Nothing sways and nothing slides: without a graphics processor each frame is paid for.
        size: Any = {"width": 1280, "height": 800}
        self.context = self._browser.now.new_context(viewport=size, accept_downloads=True, reduced_motion="reduce")
        self.context.set_default_timeout(PATIENCE * 1000)
        self.context.add_init_script(AT_HOME)

    def lay_anew(self) -> None:
        with suppress(Error):
            self._browser.now.close()
        self._browser.start()
        self.lay()


@pytest.fixture(scope="module")
def desk(browser: Chromium, server: Server) -> Iterator[Desk]:
    """The next file finds the worlds as this one did: which of them comes first is nobody's choice."""
    own = Desk(browser)
    yield own
    own.context.close()
    server.take_back()


@pytest.fixture
def page(desk: Desk, request: pytest.FixtureRequest) -> Iterator[Page]:
    """A page of 1280 x 800 with low detail in the overlook, as in a browser that was never here; anything that the
    browser complains of fails the test."""
    opened = desk.context.new_page()
    complaints: list[str] = []

    def heard(kind: str, text: str) -> None:
        if kind in ("error", "warning", "pageerror") and not any(noise in text for noise in GRAPHICS_NOISE):
            complaints.append(f"{kind}: {text}")
            if all(word in one for word, one in zip(GIVEN_UP, complaints[-2:], strict=False)) and len(complaints) > 1:
                del complaints[-2:]

    opened.on("console", lambda message: heard(message.type, f"{message.text} {message.location['url']}"))
    opened.on("pageerror", lambda error: heard("pageerror", str(error)))
    unanswered: dict[Request, str] = {}
    opened.on("request", lambda one: unanswered.__setitem__(one, one.url))
    for over in ("requestfinished", "requestfailed"):
        opened.on(over, lambda one: unanswered.pop(one, None))  # type: ignore[call-overload]
    # What a test does on purpose: all up to there is cleared, or whatever has these words is forgiven.
    opened.complaints, opened.forgiven, opened.unanswered = complaints, [], unanswered  # type: ignore[attr-defined]
    yield opened
    if getattr(request.node, "failed", False):
        desk.lay_anew()
        return
    for other in desk.context.pages:
        if other is not opened:
            other.close()
    # A page that shows no site has nothing to forget.
    with suppress(Error):
        opened.evaluate("localStorage.clear()")
    forgiven = opened.forgiven  # type: ignore[attr-defined]
    # What is cut off by the closing of the page is no complaint.
    left = [one for one in complaints if not any(words in one for words in forgiven)]
    opened.close()
    desk.context.clear_cookies()
    assert not left, left
