"""The bench of deliveries: what each would hold, one of one's own, made, and what has changed since."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.small import SmallTable


def test_a_delivery_is_looked_at_changed_made_and_grows_stale(small: SmallTable) -> None:
    page = small.page
    small.open("handover")
    small.tab("Deliveries")
    page.locator("[data-delivery-key=engine]").click()
    files = page.locator("#delivery-files")
    expect(files).to_contain_text(re.compile("raw 16-bit numbers.*steps of"))
    page.locator("[data-delivery=add]").click()
    expect(page.locator("#delivery-name")).to_have_value("Square chunks for an engine 2")
    page.locator("[data-format=land_glb]").uncheck()
    expect(files).not_to_contain_text("glTF")
    page.locator("#delivery-lowest_m").fill("0")
    page.get_by_role("button", name="Set the delivery").click()
    expect(page.locator("#own-delivery .form-error, #own-delivery .invalid-feedback").first).to_contain_text("lowest")
    page.locator("#delivery-highest_m").fill("655.35")
    page.get_by_role("button", name="Set the delivery").click()
    expect(files).to_contain_text("steps of 10 mm")
    page.locator("[data-delivery=make]").click()
    packages = page.locator("#packages")
    expect(packages).to_contain_text("What is on the map")
    # What is done to the ground is seen, and what was handed over is no longer what is there.
    stroke = {"tool": "raise", "radius_m": 9, "softness": 0.5, "strength": 3, "path": [[30, 80, 0], [40, 80, 1]]}
    small.server.send(f"/api/tracts/{small.tract}/strokes", stroke)
    page.locator("[data-since]").click()
    expect(page.locator("#since-words")).to_contain_text(re.compile(r"Since r\d+: height"))
    with page.expect_download() as got:
        packages.locator("a").first.click()
    assert got.value.suggested_filename.endswith(".zip")
