"""Every field of every form says what it is and may be; no button loses the focus; what is typed is not lost."""

from __future__ import annotations

import itertools
import re
from typing import Any

import pytest
from playwright.sync_api import Page, Route, expect

from tests.browser.driving import Server, until
from tests.browser.small import SmallTable, unfold
from tests.browser.table import Table

STAGES = ("ground", "cover", "growth", "water", "light", "sites", "trial", "handover")

UNTIED = """
() => {
  const found = [];
  for (const field of document.querySelectorAll("form input:not([type=hidden]), form select, form textarea")) {
    const name = `${field.form.id || field.form.getAttribute("hx-post") || ""} ${field.name || field.id}`;
    const label = field.labels?.[0]?.textContent.trim() || field.getAttribute("aria-label") || "";
    if (!label) found.push(`${name}: no label`);
    if (field.placeholder && field.placeholder === label) found.push(`${name}: its placeholder is its only label`);
    const told = (field.getAttribute("aria-describedby") || "").split(" ").filter(Boolean)
      .map((id) => document.getElementById(id)?.textContent ?? `no element ${id}`).join(" ");
    if (told.includes("no element")) found.push(`${name}: ${told}`);
    const unit = field.closest(".input-group")?.querySelector(".input-group-text")?.textContent.trim();
    const digits = (text) => text.replace(/[,\\u2212]/g, (c) => (c === "," ? "" : "-"));
    if (field.type === "number") {
      for (const end of [field.min, field.max])
        if (end && !digits(told).includes(String(Number(end)))) found.push(`${name}: ${end} is not in “${told}”`);
      if (unit && !told.includes(unit)) found.push(`${name}: its unit ${unit} is not told`);
      if (!field.required && !/left out/.test(told)) found.push(`${name}: that it may be left out is not told`);
    }
    if (field.type === "text" && !field.required && "optional" in field.dataset && field.id.includes("-") &&
        !/left out/.test(told)) found.push(`${name}: that it may be left out is not told`);
  }
  return found;
}
"""


SEND = """
(form, wrong) => {
  const fields = [...form.querySelectorAll("input[type=number]")];
  const was = fields.map((one) => one.value);
  // What the browser would hold back is sent all the same.
  form.noValidate = wrong;
  if (wrong) for (const one of fields) one.value = "-987654321";
  form.requestSubmit();
  fields.forEach((one, at) => { one.value = was[at]; });
}
"""
UNWORTHY = r"""
() => [...document.querySelectorAll(".answer, .form-error, .invalid-feedback, .toast-body, .job, #told, .alert")]
  .map((one) => one.textContent)
  .filter((words) => /[{}]|[a-z_]+\.\d+\.|[a-z]\.[a-z_]+[: ]|Input should|undefined|NaN|\[object/.test(words))
"""


@pytest.fixture
def table(page: Page, server: Server) -> Table:
    return Table(page, server)


def test_label_limits_unit_and_need_of_every_field(page: Page, small: SmallTable, server: Server) -> None:
    found: dict[str, list[str]] = {}
    for path in ("/make", f"/worlds/{small.world}/setup", f"/worlds/{small.world}/layout", "/help"):
        page.goto(server.url + path)
        page.wait_for_load_state("networkidle")
        found[path] = page.evaluate(UNTIED)
    small.open("ground")
    for stage in STAGES:
        if stage != "ground":
            small.stage(stage)
        unfold(page)
        found[stage] = page.evaluate(UNTIED)
    assert {where: what for where, what in found.items() if what} == {}


def test_a_refusal_is_tied_to_its_field_in_the_form_s_own_words(page: Page, server: Server) -> None:
    page.goto(f"{server.url}/make")
    page.get_by_label("Name", exact=True).fill("Refused")
    width = page.get_by_label("Width, west to east")
    width.fill("100.5")
    page.get_by_role("button", name="Make it").click()
    expect(width).to_have_attribute("aria-invalid", "true")
    expect(width).to_be_focused()
    error = page.locator("#" + (width.get_attribute("aria-describedby") or "").split()[0])
    expect(error).to_contain_text("whole number of spacings")
    expect(error).to_contain_text("Width, west to east")
    assert "width_m" not in error.inner_text()
    # What it may be is still read out with it, also under its tooltip; once it is right again the error is gone.
    expect(page.locator(".tooltip")).to_be_visible()
    assert len((width.get_attribute("aria-describedby") or "").split()) == 2
    width.fill("100")
    width.press("Tab")
    expect(width).not_to_have_attribute("aria-invalid", "true")
    expect(page.locator(".invalid-feedback")).to_have_count(0)


def test_what_may_not_be_is_said_where_it_is_typed(table: Table) -> None:
    table.open("water")
    page = table.page
    field = page.locator("#sea-sea_level_m")
    revision = table.revision()
    field.fill("99999")
    field.press("Tab")
    expect(page.locator("#sea-sea_level_m-error")).to_contain_text(re.compile(r"12,000 m.*not 99999"))
    expect(field).to_have_attribute("aria-invalid", "true")
    assert table.revision() == revision


def test_a_kind_is_refused_by_its_name_and_what_was_typed_stays(table: Table) -> None:
    table.open("growth", folds={"growth-part": True})
    page = table.page
    table.tab("Size")
    smallest = page.locator("#part-size_min")
    expect(smallest).to_have_value("0.7")
    smallest.fill("9")
    # Where it is wrong comes into sight, also from under another tab.
    table.tab("How much")
    page.get_by_role("button", name="Set how it stands").click()
    refusal = page.locator("[data-part-form] .invalid-feedback, [data-part-form] .form-error").first
    expect(refusal).to_contain_text(re.compile("mallest.* not be above the largest, not 9 and 1.4"))
    expect(refusal).to_be_visible()
    assert "size_min" not in refusal.inner_text()
    expect(smallest).to_have_value("9")
    assert table.server.get(f"/api/worlds/{table.world}")["mixes"][0]["kinds"][0]["size_min"] == 0.7


# Focus

PRESSABLE = "#bench button:not([data-bs-toggle=tab]):not(:disabled), #alt [data-level]"


HOLD = """
([list, first, pressed]) => {
  const every = [...document.querySelectorAll(list)];
  // Of those that are alike but for what they name, two are pressed.
  const fields = (one) => (one.type === "submit" ? [...one.form.elements].map((field) => field.name) : []);
  const alike = (one) => [one.className, one.parentElement.className, one.getAttributeNames(), fields(one)].join();
  for (let number = first; number < every.length; number += 1) {
    const button = every[number];
    if (!button.checkVisibility() || pressed.filter((one) => one === alike(button)).length > 1) continue;
    const name = button.outerHTML.slice(0, 120);
    if (name.includes("data-walk") || (name.includes("hx-post") && name.includes("handover"))) continue;
    button.focus();
    return [number, name, alike(button)];
  }
  return null;
}
"""
"""Takes hold of the next button in one go: what was pressed before may still take some away."""


@pytest.mark.parametrize("bench", [*STAGES, "water pools", "water streams", "water floods"])
def test_no_button_of_a_panel_loses_the_focus(small: SmallTable, bench: str) -> None:
    """Each is pressed by Enter; the focus is then on something that can be used, and never on the page as such."""
    stage, _, tab = bench.partition(" ")
    left: dict[str, Any] = {"tabs": {stage: tab} if tab else {}}
    page = small.page

    def open_it() -> None:
        small.open(stage, **left)
        unfold(page)

    open_it()
    count = page.locator(PRESSABLE).count()
    number, pressed = 0, list[str]()
    while number < count:
        if page.locator("#bench").get_attribute("data-shows") != stage:
            open_it()
        # Another button may have shut what this one lies in.
        unfold(page)
        held = page.evaluate(HOLD, [PRESSABLE, number, pressed])
        # What presses have added is not pressed too.
        if held is None or held[0] >= count:
            break
        number, name = held[0] + 1, held[1]
        page.keyboard.press("Enter")
        pressed.append(held[2])
        # What it began (a file that is read, a panel that is fetched) has been put there.
        small.settled()
        until(page, "document.activeElement && document.activeElement !== document.body", seconds=20)
        assert page.evaluate(UNWORTHY) == [], name
        page.keyboard.press("Escape")
    assert pressed


@pytest.mark.parametrize("bench", [*STAGES, "water pools", "water streams", "water floods"])
def test_what_every_form_answers_is_words(small: SmallTable, bench: str) -> None:
    """Each is sent with figures that are refused, then as it stands: no braces, no path and no English of a library."""
    stage, _, tab = bench.partition(" ")
    small.open(stage, tabs={stage: tab} if tab else {})
    page = small.page
    unfold(page)
    forms = page.locator("#bench form:is([hx-post], [hx-put], [hx-patch]):not([hx-encoding])")
    for number in range(forms.count()):
        for wrong in (True, False):
            form = forms.nth(number)
            if not form.is_visible():
                continue
            form.evaluate(SEND, wrong)
            small.settled()
            assert page.evaluate(UNWORTHY) == [], form.evaluate("f => f.outerHTML.slice(0, 200)")


def test_only_what_a_form_changed_can_be_taken_back_beside_it(small: SmallTable) -> None:
    """A form that changed nothing must not offer to take back what somebody did before."""
    small.open("ground")
    unfold(small.page)
    form = small.page.locator("form[data-row=limits]")
    form.locator("input[type=number]").first.fill("-321")
    revisions = [small.revision()]
    for words, undoes in (("Ground kept from", 1), ("Nothing changed", 0)):
        form.get_by_role("button", name="Set the limits").click()
        expect(form.locator(".answer")).to_contain_text(words)
        small.settled()
        expect(form.locator("[data-undoes]")).to_have_count(undoes)
        revisions.append(small.revision())
    assert [after - before for before, after in itertools.pairwise(revisions)] == [1, 0]


def test_the_focus_after_deleting_and_adding(table: Table) -> None:
    table.open("ground", folds={"levels": True})
    page = table.page
    form = page.locator("[data-fold=levels] form")
    for name in ("One", "Two"):
        revision = table.revision()
        form.get_by_label("Name", exact=True).fill(name)
        form.get_by_label("Elevation").fill("12")
        form.get_by_label("Elevation").press("Enter")
        table.kept(revision)
        assert page.evaluate("document.activeElement.closest('[data-fold=levels]') !== null")
    lines = page.locator("[data-fold=levels] .line")
    before = lines.count()
    for _ in range(2):
        revision = table.revision()
        lines.filter(has_text=re.compile("One|Two")).first.get_by_role("button", name="Delete").focus()
        page.keyboard.press("Enter")
        table.kept(revision)
        until(page, "document.activeElement !== document.body")
        assert page.evaluate("document.activeElement.closest('[data-fold=levels]') !== null")
    assert lines.count() == before - 2


# What is typed


def test_what_is_typed_survives_escape_and_another_stage(table: Table) -> None:
    table.open("ground", folds={"plots": True, "growth-mix": True})
    page = table.page
    page.locator("form[data-draw=plot] [name=name]").fill("Half done")
    page.get_by_role("button", name="Draw its corners").click()
    page.mouse.click(*table.at(300, 300))
    page.keyboard.press("Escape")
    expect(page.locator("#asks")).to_be_hidden()
    expect(page.locator("form[data-draw=plot] [name=name]")).to_have_value("Half done")
    table.stage("growth")
    page.locator("#mix-density_per_ha").fill("123")
    table.stage("sites")
    table.stage("growth")
    expect(page.locator("#mix-density_per_ha")).to_have_value("123")
    table.stage("ground")
    expect(page.locator("form[data-draw=plot] [name=name]")).to_have_value("Half done")


def test_an_error_stays_until_it_has_been_read(table: Table) -> None:
    table.open("ground")
    page = table.page
    page.evaluate("import('/static/js/kernel/say.js').then((m) => m.say('It did not work.'))")
    note = page.locator(".toast.wrong")
    expect(note).to_be_visible()
    assert (
        page.evaluate("bootstrap.Toast.getInstance(document.querySelector('.toast.wrong'))._config.autohide") is False
    )
    note.get_by_role("button", name="Close").click()
    expect(note).to_have_count(0)


def test_a_picture_that_cannot_be_drawn_says_so_once_and_is_asked_for_again_when_somebody_says(
    page: Page, small: SmallTable
) -> None:
    broken = ["on"]
    asked: list[str] = []

    def answer(route: Route) -> None:
        asked.append(route.request.url)
        if broken:
            route.fulfill(status=500, json={"detail": "something went wrong on our side"})
        else:
            route.continue_()

    page.forgiven += ["status of 500"]  # type: ignore[attr-defined]
    small.open("ground")
    page.route(re.compile(r"/plan/.*overlays=slopes"), answer)
    page.evaluate("Object.assign(fern.state.show, { overlays: ['slopes'] }); fern.state.shown += 1")
    note = page.locator(".asks.missing")
    expect(note).to_contain_text("could not be drawn")
    expect(note).not_to_contain_text("by themselves")
    # However often the map is drawn, it is not asked for again by itself.
    page.evaluate(
        """new Promise((done) => { let left = 40;
             const next = () => { left -= 1; fern.actions.fit(); requestAnimationFrame(left ? next : done); };
             next(); })"""
    )
    assert len(asked) == len(set(asked))
    broken.clear()
    note.get_by_role("button", name="Try again").click()
    expect(note).to_be_hidden()
    assert len(asked) > len(set(asked))
