"""Any size of screen, any setting of the system: nothing is cut off or out of reach, and what is chosen is seen."""

from __future__ import annotations

import json
import zipfile
from io import BytesIO
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.browser.driving import Server, until
from tests.browser.small import SmallTable
from tests.browser.table import WAIT, Table

OUT_OF_REACH = """
(within) => {
  const found = [];
  if (document.documentElement.scrollWidth > innerWidth + 1)
    found.push(`the page is ${document.documentElement.scrollWidth} wide`);
  const root = within ? document.querySelector(within) : document;
  const all = root.querySelectorAll("button, a[href], input:not([type=hidden]), select, textarea, [tabindex='0']");
  for (const one of all) {
    if (!one.checkVisibility({ visibilityProperty: true }) || one.closest(".visually-hidden, .skip")) continue;
    one.scrollIntoView({ block: "nearest", inline: "nearest", behavior: "instant" });
    const box = one.getBoundingClientRect();
    const name = one.id || one.getAttribute("aria-label") || one.textContent.trim().slice(0, 30) || one.outerHTML;
    if (box.left < -1 || box.right > innerWidth + 1) { found.push(`${name}: ${box.left} to ${box.right}`); continue; }
    const [x, y] = [box.left + box.width / 2, box.top + Math.min(box.height, innerHeight) / 2];
    const on = document.elementFromPoint(x, Math.min(Math.max(y, 0), innerHeight - 1));
    // A label's own field, and what lies over a pane (its buttons), count as the same.
    const same = on && (one.contains(on) || on.contains(one) || [...(one.labels || [])].some((l) => l.contains(on)));
    // Marks of the altitude bar lie over one another where their elevations do.
    if (!same && !one.matches(".pane, g")) found.push(`${name} is under ${on?.outerHTML.slice(0, 60)}`);
  }
  return found;
}
"""


@pytest.mark.parametrize("size", [(320, 256), (320, 568), (640, 400), (1024, 600), (3840, 2160)])
def test_nothing_is_out_of_reach(page: Page, small: SmallTable, server: Server, size: tuple[int, int]) -> None:
    """320 by 256 pixels are what is left of 1,280 by 1,024 at 400 % (WCAG 2.2, 1.4.10)."""
    page.set_viewport_size({"width": size[0], "height": size[1]})
    found: dict[str, Any] = {}
    table = small
    for path in ("/", "/make", f"/worlds/{table.world}/setup", f"/worlds/{table.world}/layout", "/help?q=grade"):
        page.goto(server.url + path)
        page.wait_for_load_state("networkidle")
        found[path] = page.evaluate(OUT_OF_REACH)
    table.open("ground")
    for stage in ("ground", "sites", "handover"):
        if stage != "ground":
            table.stage(stage)
        found[stage] = page.evaluate(OUT_OF_REACH)
        if size[0] < 992:
            for drawer in ("#bench-side", "#alt"):
                page.locator(f".drawers [data-bs-target='{drawer}']").click()
                expect(page.locator(f"{drawer}.show:not(.showing)")).to_be_visible()
                page.mouse.move(1, size[1] - 1)
                expect(page.locator(".tooltip")).to_have_count(0)
                found[f"{stage} {drawer}"] = page.evaluate(OUT_OF_REACH, drawer)
                page.keyboard.press("Escape")
                expect(page.locator(f"{drawer}.show")).to_have_count(0)
                expect(page.locator(f"{drawer}.hiding")).to_have_count(0)
    assert {where: what for where, what in found.items() if what} == {}
    map_box = page.locator("#panes").bounding_box()
    assert map_box is not None
    assert map_box["height"] >= 130
    assert map_box["width"] * map_box["height"] >= 0.4 * size[0] * min(size[1], map_box["height"] + 130)


FIELDS = """() => Object.fromEntries([...document.querySelectorAll("#bench form")].map((form) => {
  const all = [...form.querySelectorAll("input:not([type=hidden], [data-plot]), select, textarea")];
  return [form.outerHTML.slice(0, 90), all.filter((field) => field.checkVisibility()).length];
}).filter(([, count]) => count > 9))"""
WORKED_WITH = """() => [...document.querySelectorAll("#bench :is([data-tool], .gives-way, [data-place], #strength)")]
  .map((one) => one.closest(".kit-list") ?? one)
  .filter((one) => one.checkVisibility() && one.getBoundingClientRect().bottom > innerHeight)
  .map((one) => one.outerHTML.slice(0, 90))"""


@pytest.mark.parametrize("stage", ["ground", "cover", "growth", "water", "light", "sites", "trial", "handover"])
def test_the_work_stays_in_sight(page: Page, server: Server, stage: str) -> None:
    """At 1280 by 800 tools, what they lay and the brush are in sight; a fold has their place, and its heading leads
    back; no form shows more than nine fields at once, whichever tab or "more" of it is open."""
    page.set_viewport_size({"width": 1280, "height": 800})
    table = Table(page, server)
    table.open(stage)
    assert page.evaluate(WORKED_WITH) == []
    for name in page.evaluate("[...document.querySelectorAll('#bench [data-fold]')].map((one) => one.dataset.fold)"):
        button = page.locator(f"[data-fold={name}] .fold-button")
        if not button.is_visible():
            continue
        table.fold(name)
        assert page.evaluate("document.querySelectorAll('#bench .fold.open').length") == 1
        expect(page.locator("#bench [data-tool]:visible")).to_have_count(0)
        many = {name: page.evaluate(FIELDS)}
        for part in page.locator(f"[data-fold={name}] :is([role=tab], .more-button)").all():
            if part.is_visible():
                part.click()
                many[part.inner_text()] = page.evaluate(FIELDS)
                if part.get_attribute("role") != "tab":
                    part.click()
        assert {where: forms for where, forms in many.items() if forms} == {}
        button.click()
        assert page.evaluate("document.querySelectorAll('#bench .fold.open').length") == 0


def test_text_may_be_spaced_out(page: Page, small: SmallTable) -> None:
    """WCAG 2.2, 1.4.12: line height 1.5, letters 0.12, words 0.16 of the size, and nothing is lost."""
    page.set_viewport_size({"width": 1024, "height": 768})
    page.add_init_script(
        """{ const sheet = new CSSStyleSheet();
             sheet.replaceSync(`* { line-height: 1.5 !important; letter-spacing: 0.12em !important;
               word-spacing: 0.16em !important }`);
             document.adoptedStyleSheets = [sheet]; }"""
    )
    small.open("ground")
    assert page.evaluate(OUT_OF_REACH) == []
    cut = page.evaluate(
        """[...document.querySelectorAll("button, label, h2")].filter((e) => e.getClientRects().length &&
             !e.closest(".visually-hidden") && !e.matches(".visually-hidden, .world-name") &&
             e.scrollWidth > e.clientWidth + 2 && getComputedStyle(e).overflow !== "visible")
             .map((e) => e.textContent)"""
    )
    assert cut == []


def test_what_is_chosen_is_seen_under_forced_colours(page: Page, small: SmallTable) -> None:
    page.emulate_media(forced_colors="active")
    small.open("ground")
    colour = "e => getComputedStyle(e).backgroundColor"
    pressed = page.locator("[data-tool=raise]").evaluate(colour)
    assert pressed != page.locator("[data-tool=lower]").evaluate(colour)
    assert page.locator("[data-stage=ground]").evaluate(colour) != page.locator("[data-stage=cover]").evaluate(colour)
    assert page.locator(".views [data-view=plan]").evaluate(colour) != page.locator(".views [data-view=both]").evaluate(
        colour
    )


def test_the_system_s_theme_is_taken_until_another_is_chosen(page: Page, server: Server) -> None:
    page.emulate_media(color_scheme="dark")
    page.goto(server.url)
    seen = "[document.documentElement.dataset.theme, getComputedStyle(document.documentElement).colorScheme]"
    assert page.evaluate(seen) == ["dusk", "dark"]
    page.emulate_media(color_scheme="light")
    until(page, "document.documentElement.dataset.theme === 'day'")
    page.locator("[data-theme-switch]").click()
    page.reload()
    assert page.evaluate("document.documentElement.dataset.theme") == "dusk"


def test_the_focus_is_seen_on_pressed_tools_and_on_the_map(page: Page, small: SmallTable) -> None:
    """Beside its own ground, 3 to 1 at least (WCAG 2.2, 2.4.13 and 1.4.11)."""
    from tests.browser.test_frame import contrast

    def hexed(css: str) -> str:
        parts = [int(float(part)) for part in css[css.index("(") + 1 : -1].split(",")[:3]]
        return "#" + "".join(f"{part:02x}" for part in parts)

    for scheme in ("light", "dark"):
        page.emulate_media(color_scheme=scheme)  # type: ignore[arg-type]
        small.open("ground")
        page.keyboard.press("Tab")
        for selector in ("[data-tool=raise]", ".views [data-view=plan]", "[data-tool=lower]"):
            page.locator(selector).focus()
            style = page.locator(selector).evaluate(
                """e => { const s = getComputedStyle(e); let at = e; let ground = s.backgroundColor;
                     while (/, 0\\)$|transparent/.test(ground)) { at = at.parentElement;
                       ground = getComputedStyle(at).backgroundColor; }
                     return [s.outlineStyle, s.outlineColor, ground, s.outlineWidth]; }"""
            )
            assert style[0] == "solid", selector
            assert contrast(hexed(style[1]), hexed(style[2])) >= 3, (scheme, selector, style)
        page.locator("#flat").focus()
        line = page.locator("#flat").evaluate("e => getComputedStyle(e, '::after').borderTopWidth")
        assert line == "3px"


def test_the_thread_at_640_by_400(page: Page, server: Server) -> None:
    """With the mouse, through the drawers: what each step did is checked by figures."""
    page.set_viewport_size({"width": 640, "height": 400})
    page.goto(f"{server.url}/make")
    page.get_by_label("Name", exact=True).fill("Small")
    page.get_by_label("Width, west to east").fill("200")
    page.get_by_label("Depth, south to north").fill("160")
    page.get_by_role("button", name="Make it").click()
    page.wait_for_url("**/worlds/w*", timeout=WAIT)
    until(page, "window.fern && document.getElementById('bench').dataset.shows === 'ground' && fern.counts.tiles > 0")
    table = Table(page, server)
    table.world = page.url.rsplit("/", 1)[1].split("?")[0]
    table.tract = server.get(f"/api/worlds/{table.world}")["tracts"][0]["id"]

    def bench(*selectors: str) -> None:
        page.locator(".drawers [data-bs-target='#bench-side']").click()
        expect(page.locator("#bench-side.show")).to_be_visible()
        for selector in selectors:
            page.locator(selector).click()
        # What is put on the map closes the drawer by itself.
        if page.evaluate("fern.state.place") is None:
            page.locator("#bench-side .btn-close").click()
        expect(page.locator("#bench-side")).to_be_hidden()

    table.drag((90, 80), (110, 80))
    assert table.spot(100, 80)["elevation_m"] > 10.2
    table.stage("cover")
    bench("#bench [data-cover]:nth-of-type(1)")
    table.drag((90, 60), (120, 60))
    assert len(table.spot(105, 60)["covers"]) >= 1
    table.stage("growth")
    table.drag((90, 60), (120, 60))
    assert table.spot(105, 60)["growth_within_10_m"] > 0
    table.stage("sites")
    bench("[data-place=start]")
    at = table.revision()
    page.mouse.click(*table.at(130, 60))
    table.kept(at)
    thing = server.get(f"/api/worlds/{table.world}/things")[0]
    assert (thing["x"], thing["y"]) == pytest.approx((130, 60), abs=2)
    table.stage("light")
    page.locator(".drawers [data-bs-target='#bench-side']").click()
    page.locator("#sun-sun_height_deg").fill("50")
    page.locator("#sun-sun_height_deg").press("Enter")
    until(page, "fern.state.world.sun_height_deg === 50")
    page.keyboard.press("Escape")
    expect(page.locator("#bench-side")).to_be_hidden()
    table.stage("trial")
    page.locator(".drawers [data-bs-target='#bench-side']").click()
    page.locator("[data-walk]").click()
    until(page, "fern.state.walking && fern.walker")
    page.keyboard.down("w")
    until(page, "([x, y]) => Math.hypot(fern.walker.x - x, fern.walker.y - y) > 10", arg=[thing["x"], thing["y"]])
    page.keyboard.up("w")
    page.locator("[data-leave]").click()
    until(page, "!fern.state.walking")
    table.stage("handover")
    page.locator(".drawers [data-bs-target='#bench-side']").click()
    page.locator("[hx-post$='/handover']").click()
    expect(page.locator("a[href$='handover.zip']")).to_be_visible(timeout=WAIT)
    package = zipfile.ZipFile(BytesIO(server.bytes_of(f"/api/worlds/{table.world}/handover.zip")))
    assert json.loads(package.read("manifest.json"))["revision"] == table.revision()
    page.request.delete(f"{server.url}/api/worlds/{table.world}")
    page.request.delete(f"{server.url}/api/bin/{table.world}")
