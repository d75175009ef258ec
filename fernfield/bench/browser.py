"""From pointer to drawn pixels, in Debian's Chromium on the demo world."""

from __future__ import annotations

import itertools
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import typer

from fernfield.bench import Plan, Row, sites

ARGUMENTS = [
    "--no-sandbox",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--use-angle=swiftshader-webgl",
]


def debians_chromium() -> str | None:
    """Where Debian's headless Chromium lies: the shell alone, which draws no window about the page, or all of it."""
    return shutil.which("chromium-headless-shell") or shutil.which("chromium")


STROKES = 12
AT_HOME = "try { localStorage.getItem('fern.first') ?? localStorage.setItem('fern.first', 'left'); } catch {}"
"""Run before each page: whoever measures or tests knows the first steps already."""

ASK = """
async () => {
  // Its own line to the server: a question about a spot, its answer, and the next frame.
  const line = new WebSocket(`ws://${location.host}/live/${fern.state.world.id}`);
  await new Promise((done) => { line.onopen = done; });
  const times = [];
  for (let i = 0; i < 60; i += 1) {
    const begin = performance.now();
    const answered = new Promise((done) => {
      line.onmessage = (event) => typeof event.data === "string" && JSON.parse(event.data).is === "spot" && done();
    });
    line.send(JSON.stringify({ is: "spot", x: 500 + i, y: 500, section: false }));
    await answered;
    await new Promise(requestAnimationFrame);
    times.push((performance.now() - begin) / 1000);
    await new Promise((done) => setTimeout(done, (i * 7) % 16));
  }
  line.close();
  return times.sort((a, b) => a - b);
}
"""

FRAMES = """
async () => {
  // The overlook by itself: frame after frame with nothing new in it.
  const { renderer, scene, lens } = fern.overlook.parts;
  const times = [];
  let last = 0;
  for (let i = 0; i < 60; i += 1) {
    renderer.render(scene, lens);
    const now = await new Promise(requestAnimationFrame);
    if (last) times.push((now - last) / 1000);
    last = now;
  }
  return times.sort((a, b) => a - b);
}
"""

DRAWN = "[fern.overlook.parts.growth.shown, fern.overlook.parts.renderer.info.render.calls]"
ROUND = """
async () => {
  // Half a circle about what is looked at, a frame for each step.
  const { drawn, orbit, parts } = fern.overlook;
  const times = [];
  for (let i = 0; i < 18; i += 1) {
    const [begin, frame] = [performance.now(), drawn.frames];
    orbit.bearing = (orbit.bearing + 10) % 360;
    parts.land.request();
    while (drawn.frames === frame) await new Promise(requestAnimationFrame);
    times.push((performance.now() - begin) / 1000);
  }
  return times.sort((a, b) => a - b)[9];
}
"""
TURNED = """
async () => {
  // The sun turned step by step on the plan, as by the dial: until new pixels have been put on it.
  const times = [];
  for (let i = 0; i < 60; i += 1) {
    const [begin, had] = [performance.now(), fern.counts.patches];
    fern.state.sun = { sun_bearing_deg: (200 + 3 * i) % 360, sun_height_deg: 25 };
    while (fern.counts.patches === had) await new Promise((done) => setTimeout(done));
    await new Promise(requestAnimationFrame);
    times.push((performance.now() - begin) / 1000);
  }
  fern.state.sun = null;
  return times.sort((a, b) => a - b);
}
"""
LIT = """
async (turns) => {
  // Frame after frame of the overlook, with the sun turned in each or with nothing new.
  const { drawn, parts } = fern.overlook;
  const times = [];
  for (let i = 0; i < 20; i += 1) {
    const [begin, frame] = [performance.now(), drawn.frames];
    if (turns) fern.state.sun = { sun_bearing_deg: (200 + 3 * i) % 360, sun_height_deg: 25 };
    parts.land.request();
    while (drawn.frames === frame) await new Promise(requestAnimationFrame);
    times.push((performance.now() - begin) / 1000);
  }
  fern.state.sun = null;
  return times.sort((a, b) => a - b);
}
"""
WORD = """
() => {
  // A word in the foot of the page becomes another: until its styles and its place are known again.
  const foot = document.querySelector("#spot") ?? document.body;
  const word = foot.appendChild(document.createElement("span"));
  const times = [];
  for (let i = 0; i < 200; i += 1) {
    const begin = performance.now();
    for (let k = 0; k < 10; k += 1) {
      word.textContent = `${i} ${k}`;
      void word.offsetWidth;
    }
    times.push((performance.now() - begin) / 10_000);
  }
  word.remove();
  return times.sort((a, b) => a - b)[100];
}
"""
PLANTS = (5_000, 50_000, 250_000)

SIDE = 2_048
TOP_M = 550.0
RADII = {40: "50 ms", 120: "–", 300: "100 ms"}
"""Radii of brushes on high land [m], and what the 95th of 100 patches may take."""


def rows(plan: Plan) -> Iterator[Row]:
    path = debians_chromium()
    try:
        from playwright.sync_api import sync_playwright
    except ImportError:
        path = None
    if path is None:
        typer.echo("(pointer to pixels was not measured: make test installs the browser that it needs)")
        return
    with sync_playwright() as playwright, tempfile.TemporaryDirectory() as folder:
        browser = playwright.chromium.launch(executable_path=path, args=ARGUMENTS)
        with server("demo", Path(folder) / "demo") as url:
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.add_init_script(AT_HOME)
            page.goto(url)
            page.wait_for_timeout(4000)
            yield from _pointer(page, 40, "", "50 ms")
            page.keyboard.press("3")
            page.wait_for_selector("#bench[data-shows=growth]")
            page.evaluate("fern.state.brushes[fern.state.tool].radius = 32; fern.counts.lags.length = 0")
            yield from _pointer(page, 32, ", sowing", "80 ms")
            yield from _sun(page)
            ours = page.evaluate(WORD)
            page.close()
            empty = browser.new_page(viewport={"width": 1280, "height": 800})
            empty.set_content("<p>Nothing else.</p>")
            theirs = empty.evaluate(WORD)
            yield Row(
                "a word of a world's page, styles and place", "in an empty page", ours, theirs, ours / theirs, "4"
            )
            empty.close()
        yield from _woods(browser, Path(folder) / "woods")
        yield from sites.in_browser(browser, Path(folder) / "crowd")
        island = high_island(Path(folder) / "high")
        with server("serve", Path(folder) / "high") as url:
            for view, strokes in (("plan", STROKES), ("overlook", STROKES // 3)):
                for radius, aim in RADII.items():
                    page = browser.new_page(viewport={"width": 1280, "height": 800})
                    page.add_init_script(AT_HOME)
                    page.goto(f"{url}/worlds/{island}")
                    page.wait_for_selector("#bench[data-shows]")
                    # Without a graphics processor a frame of the overlook takes long: at its lowest detail.
                    page.evaluate(
                        f"fern.state.show.detail = 'low'; fern.state.view = '{view}';"
                        f"fern.state.brushes[fern.state.tool].radius = {radius}"
                    )
                    settled(page)
                    yield from _pointer(page, radius, f", on an island {TOP_M:g} m high, {view}", aim, strokes, view)
                    page.close()
        browser.close()


def _woods(browser: Any, data: Path) -> Iterator[Row]:
    """A frame of the overlook with so many plants in the land, beside the same without any; the eye goes round."""
    from fernfield.bench.growth import wooded
    from fernfield.work.studio import Studio

    studio = Studio(data)
    worlds = {count: wooded(studio, SIDE, count / (SIDE * SIDE / 10_000)).id for count in PLANTS}
    studio.close()
    with server("serve", data) as url:
        for count, detail in itertools.product(PLANTS, ("middle", "high")):
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.add_init_script(AT_HOME)
            page.goto(f"{url}/worlds/{worlds[count]}")
            page.wait_for_selector("#bench[data-shows]")
            page.evaluate(f"fern.state.show.detail = '{detail}'; fern.state.view = 'overlook'")
            settled(page)
            page.wait_for_timeout(6000)
            shown, calls = page.evaluate(DRAWN)
            ours = page.evaluate(ROUND)
            page.evaluate("fern.state.show.growth = false")
            theirs = page.evaluate(ROUND)
            words = f"a frame of the overlook over {count:,} plants, detail {detail}: {shown:,} drawn in {calls} calls"
            yield Row(f"{words}, software rendering", "the same without growth", ours, theirs, ours / theirs, "–")
            page.close()


def _sun(page: Any) -> Iterator[Row]:
    """The sun turned over the demo world, in the plan and in the overlook at its lowest detail."""
    page.evaluate("fern.state.view = 'plan'")
    page.evaluate(TURNED)
    ours, asked = page.evaluate(TURNED), page.evaluate(ASK)
    for part, name, aim in ((0.5, "p50", "–"), (0.95, "p95", "60 ms")):
        one, other = (times[int(part * len(times))] for times in (ours, asked))
        words = f"the sun turned over the plan of the demo, to drawn pixels, {name}"
        yield Row(words, f"a question, its answer and the next frame, {name}", one, other, one / other, aim)
    page.evaluate("fern.state.show.detail = 'low'; fern.state.view = 'overlook'")
    settled(page)
    page.evaluate(LIT, True)
    still, turned = (page.evaluate(LIT, turns)[10] for turns in (False, True))
    words = "a frame of the overlook with the sun turned, software rendering, p50"
    yield Row(words, "the same with nothing new", turned, still, turned / still, "1.2")


def settled(page: Any) -> None:
    """Wait until all of the land is there, on the plan or in the overlook."""
    there = "fern.state.view === 'plan' || !!fern.overlook?.parts.land.chunks.every((chunk) => chunk.heights)"
    for _ in range(300):
        page.wait_for_timeout(200)
        if page.evaluate(there):
            break
    page.wait_for_timeout(4000)


def _pointer(page: Any, radius: int, where: str, aim: str, strokes: int = STROKES, view: str = "plan") -> Iterator[Row]:
    """Strokes over the middle of the page: how old each was by the time that it was seen."""
    # In the overlook there is sky above the mountain.
    top = 300 if view == "plan" else 430
    for number in range(strokes):
        x, y = 500 + 30 * number, top + 20 * (number % 5)
        page.mouse.move(x, y)
        page.mouse.down()
        for step in range(40):
            page.mouse.move(x + step, y + step / 2)
            page.wait_for_timeout(14)
        page.mouse.up()
        page.wait_for_timeout(250)
    asked = page.evaluate(ASK if view == "plan" else FRAMES)
    lags = sorted(lag / 1000 for lag in page.evaluate("fern.counts.lags"))
    if not lags:
        typer.echo(f"(nothing was drawn in time with a brush of {radius} m{where})")
        return
    words = f"pointer to drawn pixels, radius {radius} m{where}, {len(lags)} patches"
    against = "a question, its answer and the next frame" if view == "plan" else "a frame with nothing new in it"
    for part, name, goal in ((0.5, "p50", "–"), (0.95, "p95", aim)):
        ours, theirs = (times[int(part * len(times))] for times in (lags, asked))
        yield Row(f"{words}, {name}", f"{against}, {name}", ours, theirs, ours / theirs, goal)


def high_island(data: Path) -> str:
    """A data folder with one world: an island with a mountain in its middle; the world's id."""
    from fernfield.bench.core import land
    from fernfield.work.studio import Studio
    from fernfield.work.worlds.beginnings import WorldSpec

    side = np.linspace(-1, 1, SIDE + 1, dtype=np.float32)
    cone = np.clip(1 - np.hypot(side[:, None], side[None, :]) / 0.95, -0.1, 1)
    rough = land(SIDE + 1)
    heights = (cone * TOP_M + np.clip(cone, 0, 0.2) * rough).astype(np.float32)
    studio = Studio(data)
    spec = WorldSpec(name="High island", width_m=SIDE, depth_m=SIDE, spacing_m=1)
    world = studio.create(spec, heights=lambda window: heights[window.inside(spec.grid.window)])
    studio.close()
    return world


@contextmanager
def server(how: str, data: Path) -> Iterator[str]:
    """The application in a process of its own: gives the address that it says first."""
    command = [sys.executable, "-u", "-m", "fernfield.cli", how, "--port", "0", "--data", str(data)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None
        said = r"http://\S+/worlds/\w+" if how == "demo" else r"http://[\w.]+:\d+"
        yield next(found[0] for line in process.stdout if (found := re.search(said, line)))
    finally:
        process.terminate()
        process.wait(60)
