"""The Trial stage in the browser: who gets where, and walks that are noted, kept and walked again."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.driving import until
from tests.browser.small import SmallTable


def test_a_trial_tells_who_gets_where_and_how_soon(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("trial")
    table.tab("Reach")
    page.locator("[data-gets-act=way]").click()
    page.mouse.click(*table.at(20, 20))
    page.mouse.click(*table.at(180, 25))
    expect(page.locator("#way-figures")).to_contain_text("0 min 5")
    asked = "() => performance.getEntriesByType('resource').some((one) => one.name.includes('overlays=cut_off'))"
    page.locator("[data-gets=cut_off]").click()
    until(page, asked)
    # Who gets where is another everywhere when something changes anywhere: all of it is asked for again.
    count = "() => performance.getEntriesByType('resource').filter((one) => one.name.includes('cut_off')).length"
    table.settled()
    before = page.evaluate(count)
    table.server.send(f"/api/worlds/{table.world}/notes", {"text": "Here", "x": 5, "y": 5})
    until(page, f"(before) => ({count})() > before", arg=before)
    table.server.send(f"/api/worlds/{table.world}/undo")
    page.locator("#gets-walker").select_option("cart")
    until(page, asked.replace("cut_off')", "cut_off') && one.name.includes('walker=cart')"))
    page.locator("[data-gets=cut_off]").click()
    page.locator("#gets-walker").select_option("person")


def test_a_walk_is_seen_noted_kept_and_walked_again(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("trial")
    page.mouse.click(*table.at(20, 20))
    until(page, "fern.state.walking && fern.walker")
    expect(page.locator("[data-hud=who]")).to_have_text("A person")
    expect(page.locator("#round-told")).to_contain_text("Round 0:")
    page.keyboard.down("c")
    expect(page.locator("[data-hud=who]")).to_have_text("A person, crouching")
    page.keyboard.up("c")
    page.keyboard.down("Space")
    until(page, "fern.walker.air")
    page.keyboard.up("Space")
    page.keyboard.press("v")
    until(page, "fern.state.walkers.length === 1")
    page.keyboard.down("w")
    until(page, "fern.walker.far > 3")
    page.keyboard.up("w")
    page.keyboard.press("n")
    until(page, "fern.rows('notes').some((one) => one.text.startsWith('Seen on a walk') && one.facing !== null)")
    page.keyboard.press("r")
    until(page, "fern.walker.far < 1 && Math.hypot(fern.walker.x - 20, fern.walker.y - 20) < 1")
    page.keyboard.press("Escape")
    until(page, "!fern.state.walking && fern.state.walkers.length === 0")
    page.locator("[data-walk-act=keep]").click()
    page.locator("[data-walk-act=again]").click()
    expect(page.locator("#walk-again-words")).to_have_text("It goes the same way as before, to the step.")
    page.locator("[data-play=map]").click()
    until(page, "fern.state.walkers.length > 0")
    page.locator("[data-walk-act=remove]").click()
    expect(page.locator("[data-walk-key]")).to_have_count(0)
    table.tab("Who")
    page.locator("[data-walker-act=add]").click()
    page.get_by_label("Walks at").fill("5")
    page.get_by_role("button", name="Set the walker").click()
    until(page, "fern.rows('walkers').some((one) => one.walk_ms === 5)")


def test_what_is_fair_is_told_seen_and_tried_out(small: SmallTable) -> None:
    table, page = small, small.page
    base = f"/api/worlds/{table.world}"
    for name, x in (("Here", 15), ("There", 185)):
        table.server.send(f"{base}/things", {"sort": "start", "name": name, "x": x, "y": 50, "team": 1 + (x > 100)})
    table.server.send(f"{base}/resources", {"name": "Peat", "of": "peat", "x": 30, "y": 50})
    table.open("trial")
    table.tab("Fair")
    page.locator("[data-fair=first]").click()
    expect(page.locator("#fair-why")).to_contain_text("There comes to")
    score = page.locator("#fair-starts td").first
    expect(score).to_have_text(re.compile(r"^\d+$"))
    page.locator("#fair-try").select_option(label="Peat")
    page.mouse.click(*table.at(100, 50))
    expect(score).to_have_text(re.compile("→"))
    page.locator("[data-fair=put]").click()
    until(page, "Math.abs(fern.rows('resources')[0].x - 100) < 2")


def test_what_is_seen_is_told_and_follows_its_settings(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("trial")
    table.tab("Seen")
    page.locator("[data-sight=choose]").click()
    page.mouse.click(*table.at(60, 50))
    words = page.locator("#sight-words")
    expect(words).to_contain_text("of the ground within 400 m is seen")
    before = words.inner_text()
    page.get_by_label("The eye is over the ground").fill("60")
    page.keyboard.press("Enter")
    expect(words).not_to_have_text(before)
    expect(words).to_contain_text("of the ground within 400 m is seen")


def test_bots_play_and_are_seen_on_the_map(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("trial")
    table.tab("Bots")
    # As many sorts of them as there are teams with a start; more when they are wanted.
    sorts, starts = page.locator("#bots-form fieldset"), table.server.get(f"/api/worlds/{table.world}/things")
    teams = len({one["team"] or 1 for one in starts if one["sort"] == "start"})
    expect(sorts).to_have_count(teams)
    page.locator("[data-bots=more]").click()
    expect(sorts).to_have_count(teams + 1)
    page.locator("#bots-rounds").fill("1")
    page.locator("#bots-minutes").fill("0.2")
    page.locator("#bots-aim-1").select_option("meet")
    page.get_by_role("button", name="Let them go").click()
    # What was just played is looked at.
    expect(page.locator("[data-run-key]")).to_have_attribute("aria-pressed", "true")
    figures = page.locator("#run-figures")
    expect(figures).to_contain_text("0:12 (0:12 to 0:12)")
    page.locator("#bots-heat").select_option("stood")
    until(page, "performance.getEntriesByType('resource').some((one) => one.name.includes('heat?what=stood'))")
    with page.expect_download() as report:
        page.locator("[data-run-report]").click()
    assert report.value.suggested_filename.startswith("run-")
    page.locator("[data-run-act=remove]").click()
    expect(page.locator("[data-run-key]")).to_have_count(0)
    expect(figures).to_be_hidden()
