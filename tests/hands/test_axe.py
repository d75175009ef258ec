"""axe-core (WCAG 2.2 A and AA, and its best practices) over every page, stage, view, menu, dialog and form with errors.

Source: axe-core, from its npm package (MPL 2.0), run in the page itself. It sees what a machine can see;
what it cannot is in the other tests of this folder.
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.browser.driving import Server, until
from tests.browser.small import SmallTable, press_escape, unfold

AXE = Path(sys.prefix) / "js" / "node_modules" / "axe-core" / "axe.min.js"
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
ASK = """
([rules, part]) => axe.run(part, { resultTypes: ["violations"], runOnly: rules }).then((found) =>
  found.violations.flatMap((v) => v.nodes.map((n) => `${v.id}: ${n.target.join(" ")} ${n.html.slice(0, 120)}`)))
"""
STAGES = ("ground", "cover", "growth", "water", "light", "sites", "trial", "handover")


def wrong(page: Page, part: str = "html") -> list[str]:
    """What axe finds on the page as it is, or on a part of it where the rest was looked at before."""
    if not page.evaluate("Boolean(window.axe)"):
        # Evaluated by the debugger, which the page's own policy does not stop.
        page.evaluate(f"{AXE.read_text()}; 0")
    return list(page.evaluate(ASK, [RULES, part]))


@pytest.fixture(params=["light", "dark"])
def themed(request: pytest.FixtureRequest, page: Page) -> Page:
    """A page of somebody whose system is set so; nothing was chosen in the application."""
    page.emulate_media(color_scheme=request.param)
    return page


def test_every_page_by_itself(themed: Page, server: Server, small: SmallTable) -> None:
    world = small.world
    found: dict[str, list[str]] = {}
    for path in ("/", "/make", f"/worlds/{world}/setup", f"/worlds/{world}/layout", "/help", "/help?q=nothing+at+all"):
        themed.goto(server.url + path)
        themed.wait_for_load_state("networkidle")
        found[path] = wrong(themed)
    themed.goto(f"{server.url}/make")
    for ground in ("sea_floor", "rim", "seed", "file", "copy"):
        themed.locator(f"[data-ground={ground}]").click()
        themed.wait_for_load_state("networkidle")
        found[ground] = wrong(themed)
    assert {where: what for where, what in found.items() if what} == {}


def test_every_stage_and_view(themed: Page, small: SmallTable) -> None:
    found: dict[str, list[str]] = {}
    small.open("ground")
    for stage in STAGES:
        if stage != "ground":
            small.stage(stage)
        unfold(themed)
        found[stage] = wrong(themed)
        for tab in themed.locator("#bench [data-tab]:not(.fold *):not(.tab-pane *)").all()[1:]:
            tab.click()
            expect(tab).to_have_attribute("aria-selected", "true")
            found[f"{stage}: {tab.inner_text()}"] = wrong(themed, "#bench")
    themed.locator(".views [data-view=both]").click()
    until(themed, "fern.overlook && fern.overlook.drawn.frames > 0")
    found["both"] = wrong(themed)
    assert {where: what for where, what in found.items() if what} == {}


KEYED = {"#keys": ("?",), "#jump": ("j",), "#menu": ("ArrowUp", "Shift+F10"), "#help-text [data-help-shown]": ("F1",)}
"""What keys open on the map, by what is there then."""

CLICKED = {
    "#steps .steps li >> nth=0": "#logbook", "#places [data-place-of] >> nth=0": "[data-bs-target='#places']",
    "#show .dropdown-menu": "#show > button", "#world-menu .dropdown-menu": "#world-menu > button",
}  # fmt: skip
"""What a button opens."""


def test_whatever_can_be_opened(themed: Page, small: SmallTable) -> None:
    found: dict[str, Any] = {}
    small.open("ground")
    for shown, keys in KEYED.items():
        themed.locator("#flat").focus()
        for key in keys:
            themed.keyboard.press(key)
        expect(themed.locator(shown)).to_be_visible()
        found[shown] = wrong(themed)
        press_escape(themed, shown)
    # A menu may lie over a part of a button of the bench.
    themed.evaluate("document.querySelector('.bench-side').style.visibility = 'hidden'")
    for shown, button in CLICKED.items():
        themed.locator(button).click()
        expect(themed.locator(shown)).to_be_visible()
        found[shown] = wrong(themed)
        press_escape(themed, shown)
    themed.evaluate("document.querySelector('.bench-side').style.visibility = ''")
    themed.locator("[data-tool=grade]").hover()
    expect(themed.locator(".tooltip")).to_contain_text("F1 tells more")
    found["tooltip"] = wrong(themed)
    # A form with an error, and the first steps, stay.
    small.fold("levels")
    themed.locator("[data-fold=levels] form input[type=number]").fill("99999")
    themed.locator("[data-fold=levels] form input[type=number]").blur()
    expect(themed.locator("[data-fold=levels] .invalid-feedback")).to_be_visible()
    found["wrong form"] = wrong(themed)
    themed.locator("#world-menu > button").click()
    themed.locator("[data-first-walk]").click()
    expect(themed.locator("#first")).to_be_visible()
    found["first steps"] = wrong(themed)
    assert {where: what for where, what in found.items() if what} == {}


def test_a_walk_and_a_narrow_screen(themed: Page, small: SmallTable) -> None:
    small.open("trial")
    themed.locator("[data-walk]").click()
    expect(themed.locator("#hud")).to_be_visible()
    found = {"walk": wrong(themed)}
    press_escape(themed, "#hud")
    themed.set_viewport_size({"width": 360, "height": 640})
    found["narrow"] = wrong(themed)
    for drawer in ("#bench-side", "#alt"):
        themed.locator(f".drawers [data-bs-target='{drawer}']").click()
        expect(themed.locator(drawer)).to_be_visible()
        found[drawer] = wrong(themed)
        themed.keyboard.press("Escape")
        expect(themed.locator(f"{drawer}.show")).to_have_count(0)
    assert {where: what for where, what in found.items() if what} == {}
