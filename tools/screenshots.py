"""Takes the pictures in docs/screenshots/ from a fresh demo world, at 1280 x 800."""

from __future__ import annotations

import shutil
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from fernfield.bench.browser import ARGUMENTS, demo_server

TO = Path(__file__).parent.parent / "docs" / "screenshots"


def shoot(page: Page, name: str, wait: int = 900) -> None:
    page.wait_for_timeout(wait)
    page.screenshot(path=TO / f"{name}.png")


def stroke(page: Page) -> None:
    """A rise beside the creek, the button still down when the picture is taken."""
    page.mouse.move(760, 330)
    page.mouse.down()
    for step in range(50):
        page.mouse.move(760 + step, 330 + step / 2)
        page.wait_for_timeout(14)


def at(page: Page, x: float, y: float) -> tuple[float, float]:
    """Where a spot of the land is on the screen."""
    px, py = page.evaluate(
        """([x, y]) => { const box = document.getElementById("flat").getBoundingClientRect();
             const [px, py] = fern.screenAt(x, y); return [px + box.left, py + box.top]; }""",
        [x, y],
    )
    return px, py


def grade(page: Page) -> None:
    """A way up to the scar, the button still down, over the slope classes."""
    page.locator("#show summary").click()
    page.locator("[data-overlay=slopes]").check()
    page.locator("#show summary").click()
    page.keyboard.press("g")
    page.mouse.move(*at(page, 560, 440))
    page.mouse.down()
    for step in range(30):
        page.mouse.move(*at(page, 560 + 6 * step, 440 + 5 * step))
        page.wait_for_timeout(25)
    shoot(page, "grade", 1500)
    page.mouse.up()
    page.wait_for_timeout(800)
    page.keyboard.press("Control+z")
    page.wait_for_timeout(800)
    page.locator("#show summary").click()
    page.locator("[data-overlay=slopes]").uncheck()
    page.locator("#show summary").click()


def keep_to(page: Page) -> None:
    """Roughening a plot and nothing else."""
    page.keyboard.press("n")
    page.locator("details[data-fold=keep] > summary").click()
    page.locator("[data-keep]").get_by_label("North fen").check()
    page.wait_for_timeout(800)
    page.mouse.move(*at(page, 450, 600))
    page.mouse.down()
    for step in range(60):
        page.mouse.move(*at(page, 450 + 2 * step, 590 + 60 * (step % 20) / 20))
        page.wait_for_timeout(25)
    shoot(page, "keep-to", 500)
    page.mouse.up()
    page.wait_for_timeout(800)
    page.get_by_role("button", name="Keep to nothing").click()
    page.locator("details[data-fold=keep] > summary").click()
    page.keyboard.press("Control+z")
    page.keyboard.press("r")
    page.wait_for_timeout(800)


def take(page: Page, url: str) -> None:
    page.goto(url.split("/worlds")[0])
    shoot(page, "worlds")
    page.goto(url)
    page.wait_for_timeout(3000)
    stroke(page)
    shoot(page, "ground", 300)
    page.mouse.up()
    page.wait_for_timeout(800)
    page.keyboard.press("Control+z")
    grade(page)
    keep_to(page)
    for stage in ("cover", "growth", "water", "light"):
        page.locator(f"[data-stage={stage}]").click()
        page.mouse.move(640, 420)
        shoot(page, stage)
    page.locator("[data-stage=sites]").click()
    page.locator("[data-thing=start-west]").click()
    shoot(page, "sites")
    page.locator("[data-stage=handover]").click()
    page.get_by_role("button", name="Hand over").click()
    page.get_by_text("as it is now").wait_for()
    shoot(page, "handover")
    page.locator("[data-stage=ground]").click()
    page.locator("button[data-view=overlook]").click()
    page.mouse.move(700, 420)
    shoot(page, "overlook", 7000)
    page.locator("button[data-view=both]").click()
    shoot(page, "both", 5000)
    page.locator("button[data-view=plan]").click()
    page.locator("[data-stage=trial]").click()
    page.locator("[data-walk]").click()
    page.wait_for_timeout(4000)
    page.keyboard.down("w")
    shoot(page, "trial", 5000)
    page.keyboard.up("w")
    page.keyboard.press("Escape")
    page.locator("[data-stage=ground]").click()
    page.locator("#logbook").click()
    page.wait_for_timeout(1500)
    page.locator("[data-look]").nth(6).click()
    shoot(page, "past", 2500)
    page.locator("[data-past=leave]").click()
    page.evaluate("document.documentElement.dataset.theme = 'dusk'")
    page.locator("[data-stage=ground]").click()
    page.mouse.move(640, 420)
    shoot(page, "dusk-logbook", 1500)


def main() -> None:
    TO.mkdir(parents=True, exist_ok=True)
    with demo_server() as url, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=ARGUMENTS)
        take(browser.new_page(viewport={"width": 1280, "height": 800}), url)
        browser.close()


if __name__ == "__main__":
    main()
