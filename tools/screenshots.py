"""Takes the pictures in docs/screenshots/ from a fresh demo world, at 1280 x 800."""

from __future__ import annotations

import io
import shutil
import tempfile
from pathlib import Path

import numpy as np
from PIL import Image
from playwright.sync_api import Page, sync_playwright

from fernfield.bench.browser import ARGUMENTS, AT_HOME, debians_chromium, server
from fernfield.core.drawing.overlays import tint_at
from fernfield.core.drawing.plan import PlanLook, draw_plan
from fernfield.core.landforms import LANDFORMS
from fernfield.core.landforms.landform import Ground
from fernfield.core.landforms.patches import Landscape, land
from fernfield.core.light.daylight import Daylight, daylight

TO = Path(__file__).parent.parent / "docs" / "screenshots"


def shoot(page: Page, name: str, wait: int = 900) -> None:
    page.wait_for_timeout(wait)
    shot = Image.open(io.BytesIO(page.screenshot())).convert("RGB")
    # A picture in a repository is kept for good. 256 colours are enough for the eye, where the few of the marks stay.
    shot.quantize(256, method=Image.Quantize.FASTOCTREE, dither=Image.Dither.NONE).save(
        TO / f"{name}.png", optimize=True
    )


def stroke(page: Page) -> None:
    """A rise beside the creek, the button still down when the picture is taken."""
    page.mouse.move(760, 330)
    page.mouse.down()
    for step in range(50):
        page.mouse.move(760 + step, 330 + step / 2)
        page.wait_for_timeout(14)


def help_beside(page: Page) -> None:
    """The help sheet of a tool, and the first of the first steps."""
    page.locator("#world-menu > button").click()
    page.locator("[data-first-walk]").click()
    page.locator("[data-tool=grade]").focus()
    page.keyboard.press("F1")
    page.locator("#help-text img").first.wait_for()
    shoot(page, "help", 1500)
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Leave the first steps").click()


def lit_by(page: Page, mood: str | None) -> None:
    """The world's own light: of a mood, or the sheet's."""
    page.evaluate(
        """(said) => fetch(`/api/worlds/${fern.state.world.id}/light`, { method: "PATCH", body: JSON.stringify(said),
             headers: { "content-type": "application/json" } })""",
        {"mood": mood, "sun_from": "mood" if mood else "hand"},
    )
    page.wait_for_timeout(1500)


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
    help_beside(page)
    seed(page)
    for stage in ("cover", "growth", "water", "light"):
        page.locator(f"[data-stage={stage}]").click()
        page.mouse.move(640, 420)
        if stage == "water":
            # The clay pit: what it holds, and where it would run over.
            page.locator("#water-pools").click()
            page.locator("[data-pool=clay-pit]").click()
            page.locator("#hollow-figures").wait_for()
        if stage == "light":
            # Night beside a low evening.
            page.get_by_role("tab", name="Moods").click()
            page.locator("[data-mood=night]").click()
            page.locator("#mood-beside").select_option("evening")
            page.wait_for_timeout(4000)
        shoot(page, stage)
    page.locator("[data-stage=sites]").click()
    # The farmyard in the hand, and the words of what is under it.
    page.locator("[data-place='+farmyard']").click()
    page.mouse.move(620, 470, steps=3)
    shoot(page, "sites", 2500)
    page.keyboard.press("Escape")
    page.locator("[data-stage=handover]").click()
    page.get_by_role("button", name="Hand over").click()
    page.get_by_text("as it is now").wait_for()
    # What a delivery would hold, one that is made, and what is kept.
    page.get_by_role("tab", name="Deliveries").click()
    page.locator("[data-delivery-key=survey]").click()
    page.locator("[data-delivery=make]").click()
    page.get_by_text("What is on the map").wait_for()
    page.locator("[data-delivery-key=engine]").click()
    page.locator("#delivery-files").get_by_text("steps of").wait_for()
    shoot(page, "handover")
    page.locator("[data-stage=ground]").click()
    page.locator("button[data-view=overlook]").click()
    page.mouse.move(700, 420)
    shoot(page, "overlook", 20_000)
    page.locator("button[data-view=plan]").click()
    lit_by(page, "dawn")
    page.locator("[data-stage=trial]").click()
    page.locator("[data-walk]").click()
    page.wait_for_timeout(4000)
    page.keyboard.down("w")
    shoot(page, "trial", 5000)
    page.keyboard.up("w")
    page.keyboard.press("Escape")
    lit_by(page, None)
    page.locator("[data-stage=ground]").click()
    page.locator("#logbook").click()
    page.wait_for_timeout(1500)
    page.locator("[data-look]").last.click()
    shoot(page, "past", 2500)
    page.locator("[data-past=leave]").click()
    page.evaluate("Object.assign(document.documentElement.dataset, { theme: 'dusk', bsTheme: 'dark' })")
    page.locator("[data-stage=ground]").click()
    page.mouse.move(640, 420)
    shoot(page, "dusk-logbook", 1500)
    setting_up(page, url.split("/worlds")[0])


def setting_up(page: Page, url: str) -> None:
    """Making a world, a file that is placed, setting up, and the layout with a second tract, undone afterwards."""
    page.goto(f"{url}/make")
    page.get_by_role("button", name="From a seed").click()
    page.get_by_label("Name", exact=True).fill("Sallow Head")
    page.get_by_label("Cells a side").select_option("2048")
    for scape in ("shore", "fells"):
        page.locator(f"[data-scape={scape}]").click()
    page.get_by_role("button", name="Patches").click()
    page.locator("#make-patch_m").fill("900")
    shoot(page, "make", 4000)
    world = page.request.get(f"{url}/api/worlds").json()[0]
    tract = world["tracts"][0]["id"]
    page.get_by_role("button", name="From a file").click()
    land_file = {
        "name": "sallow-reach.asc",
        "mimeType": "text/plain",
        "buffer": page.request.get(f"{url}/api/tracts/{tract}/heights.asc").body(),
    }
    page.get_by_label("Elevation file").set_input_files(land_file)
    page.get_by_role("button", name="Read it").click()
    form = page.locator("form[data-place]")
    form.get_by_label("Name").fill("Reach, turned")
    form.get_by_label("Turn clockwise").select_option("90")
    shoot(page, "file", 3000)
    page.goto(f"{url}/worlds/{world['id']}/setup")
    page.get_by_label("East edge").fill("1280")
    page.get_by_label("A post every").fill("4")
    page.get_by_role("button", name="Show what is lost").click()
    page.locator("figure.loss:not([hidden])").wait_for()
    shoot(page, "setup", 2500)
    page.goto(f"{url}/worlds/{world['id']}/layout")
    page.get_by_text("joined, blended over").wait_for()
    shoot(page, "layout", 3000)


def gallery() -> None:
    """Every landform, and four of them in patches, under a sun of 24°: 2,040 m at 6 m each."""
    side, spacing = 340, 6.0
    line = np.arange(side) * spacing
    x, y = np.meshgrid(line, line[::-1])
    middle = line[-1] / 2
    lands = [f.make(Ground(x, y, (middle, middle), middle, 7), f.first) for f in LANDFORMS.values()]
    four = [Landscape(name, 1, 600, LANDFORMS[name].first) for name in ("fen", "fells", "downs", "crags")]
    lands.append(land(Ground(x, y, (middle, middle), middle, 3), four, 120))
    look, day = PlanLook(0.0, 0.0), Daylight(315, 24)
    lit = np.full((side, side), 255, np.uint8)
    tiles = []
    for heights in lands:
        tint = tint_at(heights, float(heights.min()), float(heights.max()))
        colours = np.ascontiguousarray(np.moveaxis(tint, 2, 0))
        wide = np.pad(heights, 1, mode="edge")
        tiles.append(draw_plan(wide, spacing, colours, daylight(wide, spacing, lit, day), look)[..., :3])
    rows = [np.concatenate(tiles[first : first + 4], axis=1) for first in range(0, 12, 4)]
    picture = Image.fromarray(np.ascontiguousarray(np.concatenate(rows)))
    small = picture.resize((1280, 960), Image.Resampling.LANCZOS)
    small.quantize(256).save(TO / "landforms.png", optimize=True)


def seed(page: Page) -> None:
    """The recipe of a plot's land, with its preview."""
    page.locator("[data-fold=seed] .fold-button").click()
    for scape in ("fells", "crags"):
        page.locator(f"[data-scape={scape}]").click()
    page.locator("#form-fells").fill("2")
    page.locator("[data-preview-land]").click()
    page.locator("[data-preview]").wait_for()
    shoot(page, "seed", 800)
    page.locator("[data-fold=seed] .fold-button").click()


def main() -> None:
    TO.mkdir(parents=True, exist_ok=True)
    gallery()
    with tempfile.TemporaryDirectory() as folder, server("demo", Path(folder)) as url, sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=shutil.which("chromium") or debians_chromium(), args=ARGUMENTS
        )
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.set_default_timeout(180_000)
        page.add_init_script(AT_HOME)
        take(page, url)
        browser.close()


if __name__ == "__main__":
    main()
