"""From pointer to drawn pixels, in Debian's Chromium on the demo world."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager

import typer

from fernfield.bench import Plan, Row

ARGUMENTS = [
    "--no-sandbox",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--use-angle=swiftshader-webgl",
]
STROKES = 12

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


def rows(plan: Plan) -> Iterator[Row]:
    path = shutil.which("chromium")
    try:
        from playwright.sync_api import sync_playwright
    except ImportError:
        path = None
    if path is None:
        typer.echo("(pointer to pixels was not measured: it needs chromium and playwright; make test installs them)")
        return
    with demo_server() as url, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=path, args=ARGUMENTS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(url)
        page.wait_for_timeout(4000)
        for number in range(STROKES):
            x, y = 500 + 40 * number, 300 + 20 * (number % 5)
            page.mouse.move(x, y)
            page.mouse.down()
            for step in range(40):
                page.mouse.move(x + step, y + step / 2)
                page.wait_for_timeout(14)
            page.mouse.up()
            page.wait_for_timeout(250)
        asked = page.evaluate(ASK)
        lags = sorted(lag / 1000 for lag in page.evaluate("fern.counts.lags"))
        browser.close()
    words = f"pointer to drawn pixels, radius 40 m, {len(lags)} patches"
    against = "a question, its answer and the next frame"
    for part, name, aim in ((0.5, "p50", "–"), (0.95, "p95", "50 ms")):
        ours, theirs = (times[int(part * len(times))] for times in (lags, asked))
        yield Row(f"{words}, {name}", f"{against}, {name}", ours, theirs, ours / theirs, aim)


@contextmanager
def demo_server() -> Iterator[str]:
    """The application on a fresh demo world, in a process of its own; gives the address of the world's page."""
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, "-u", "-m", "fernfield.cli", "demo", "--port", "0", "--data", folder]
        server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        try:
            assert server.stdout is not None
            yield next(found[0] for line in server.stdout if (found := re.search(r"http://\S+/worlds/\w+", line)))
        finally:
            server.terminate()
            server.wait(20)
