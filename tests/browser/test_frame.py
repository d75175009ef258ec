"""The frame around the stages: keys, names for screen readers, the two themes and their contrast."""

import pytest
from playwright.sync_api import Page, expect

from tests.browser.driving import Server
from tests.browser.small import SmallTable


def test_keys_names_and_dusk(small: SmallTable) -> None:
    small.open("ground")
    page = small.page
    page.keyboard.press("?")
    expect(page.locator("#keys")).to_be_visible()
    page.keyboard.press("Escape")
    for number, stage in enumerate(("ground", "cover", "growth", "water", "light", "sites", "trial", "handover"), 1):
        page.keyboard.press(str(number))
        expect(page.locator(f"[data-stage={stage}]")).to_have_attribute("aria-current", "step")
        expect(page.locator("#bench")).to_have_attribute("data-shows", stage)
        nameless = page.evaluate(
            """[...document.querySelectorAll("button, input, select, a")].filter((e) => e.offsetParent &&
                 !e.textContent.trim() && !e.getAttribute("aria-label") && !e.labels?.length).map((e) => e.outerHTML)"""
        )
        assert nameless == []
    page.locator("#world-menu > button").click()
    page.locator("#world-menu [data-theme-switch]").click()
    assert page.evaluate("document.documentElement.dataset.theme") == "dusk"
    page.reload()
    assert page.evaluate("document.documentElement.dataset.theme") == "dusk"


LIGHTNESS = """
(theme) => { document.documentElement.dataset.theme = theme; const css = getComputedStyle(document.documentElement);
  return Object.fromEntries(["leaf", "field", "ink", "ink-soft", "fern", "on-fern", "fern-wash", "rust", "rust-wash",
    "water", "slab", "on-slab", "on-slab-soft", "ochre"].map((n) => [n, css.getPropertyValue("--" + n).trim()])); }
"""


def contrast(a: str, b: str) -> float:
    """Contrast ratio of two #rrggbb colours, WCAG 2.2 (relative luminance of sRGB)."""

    def luminance(text: str) -> float:
        parts = [int(text[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    light, dark = sorted((luminance(a), luminance(b)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


@pytest.mark.parametrize("theme", ["day", "dusk"])
def test_the_colours_of_the_frame_meet_aa(page: Page, server: Server, theme: str) -> None:
    page.goto(server.url)
    c = page.evaluate(LIGHTNESS, theme)
    pairs = [
        ("ink", "leaf"),
        ("ink-soft", "leaf"),
        ("fern", "leaf"),
        ("on-fern", "fern"),
        ("rust", "leaf"),
        ("ink", "rust-wash"),
    ]
    pairs += [
        ("ink", "fern-wash"),
        ("ink-soft", "field"),
        ("on-slab", "slab"),
        ("on-slab-soft", "slab"),
        ("ochre", "leaf"),
    ]
    for text, ground in pairs:
        assert contrast(c[text], c[ground]) >= 4.5, (text, ground)


def test_what_others_name_is_deleted_only_when_it_is_said_what_becomes_of_them(small: SmallTable) -> None:
    base = f"/api/worlds/{small.world}"
    yard = small.server.get(f"{base}/plots")[0]["key"]
    rule = {"cover": "rock", "conditions": [{"what": "plot", "plot": yard}]}
    small.server.send(f"{base}/cover-rules", {"rules": [rule]}, "PUT")
    small.open("ground", folds={"plots": True})
    page, at = small.page, small.revision()
    page.locator("[data-fold=plots] .line", has_text="Yard").get_by_role("button", name="Delete").click()
    asked = page.locator(".toast")
    expect(asked).to_contain_text("The plot Yard is named by the rules for covers.")
    expect(asked.get_by_role("button").first).to_be_focused()
    page.complaints.clear()  # type: ignore[attr-defined] # the refusal, on purpose
    asked.get_by_role("button", name="they do without").click()
    small.kept(at)
    expect(asked).to_have_count(0)
    assert [plot["name"] for plot in small.server.get(f"{base}/plots")] == []
    assert small.server.get(f"{base}/cover-rules")["rules"] == []


def test_a_panel_that_is_late_says_that_it_comes(small: SmallTable) -> None:
    small.open("ground")
    page, held = small.page, []
    page.route("**/bench/water?*", lambda route: held.append(route))
    page.locator("[data-stage=water]").click()
    expect(page.locator("#bench")).to_have_text("Water is coming …")
    held[0].continue_()
    expect(page.locator("#bench")).to_have_attribute("data-shows", "water")
    page.unroute("**/bench/water?*")


def test_a_tooltip_stands_clear_of_the_button_beside_it(small: SmallTable) -> None:
    """Below its own stage, where its mark-up says; and it is no wall for the pointer."""
    small.open("ground")
    page = small.page
    page.locator("[data-stage=cover]").hover()
    tip = page.locator(".tooltip")
    expect(tip).to_have_attribute("data-popper-placement", "bottom")
    assert tip.evaluate("one => getComputedStyle(one).pointerEvents") == "none"
