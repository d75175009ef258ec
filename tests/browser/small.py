"""A small world with one thing of each sort on it, for what does not need the demo's land: it opens quickly."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from tests.browser.driving import Server, until
from tests.browser.table import Table

ROWS = (
    ("plots", {"name": "Yard", "points": [[20, 20], [60, 20], [60, 50]]}),
    ("levels", {"name": "West yard", "elevation_m": 12.5}),
    ("sheets", {"name": "Grain"}),
    ("notes", {"text": "Look at this", "x": 40, "y": 80}),
    ("things", {"sort": "start", "x": 150, "y": 60}),
    ("things", {"sort": "piece", "kit": "stone_barn", "x": 100, "y": 40}),
)


class SmallTable(Table):
    """The small world open in a page; stages are gone to by their buttons."""

    def __init__(self, page: Page, server: Server, world: str, tract: str) -> None:
        self.page, self.server, self.world, self.tract = page, server, world, tract

    def ready(self) -> None:
        until(self.page, "window.fern && fern.counts.tiles > 0 && fern.rows('things').length > 0")
        until(self.page, "document.getElementById('bench').dataset.shows === fern.state.stage")

    def settled(self) -> None:
        """What was asked for has come and has been put where it belongs, and what it changed is known to the page."""
        idle = "!document.querySelector('.htmx-request, .htmx-swapping, .htmx-settling') && !fern.asked.open"
        until(self.page, idle)
        until(self.page, "revision => fern.state.world.revision >= revision", arg=self.revision())


@pytest.fixture(scope="module")
def small_world(server: Server) -> Iterator[tuple[str, str]]:
    def send(path: str, body: object, method: str = "POST") -> dict[str, object]:
        return dict(server.send(path, body, method) or {})

    spec = {"name": "Small", "width_m": 200, "depth_m": 100, "spacing_m": 1, "elevation_m": 10, "sea_level_m": 0}
    made = send("/api/worlds", spec)
    world, tract = str(made["id"]), str(made["tracts"][0]["id"])  # type: ignore[index]
    for name, row in ROWS:
        send(f"/api/worlds/{world}/{name}", row)
    stroke = {"tool": "raise", "radius_m": 30, "softness": 0.7, "strength": 6, "path": [[60, 50, 0], [140, 50, 1]]}
    send(f"/api/tracts/{tract}/strokes", stroke)
    yield world, tract
    # The tests of other files find the table as it was.
    send(f"/api/worlds/{world}", None, "DELETE")
    send(f"/api/bin/{world}", None, "DELETE")


@pytest.fixture
def small(page: Page, server: Server, small_world: tuple[str, str]) -> SmallTable:
    return SmallTable(page, server, *small_world)


def unfold(page: Page) -> None:
    """Show all that the folds of the bench hold, whichever there are, with their tabs and what is under "more"."""
    page.evaluate(
        """() => { for (const fold of document.querySelectorAll("#bench [data-fold]")) {
             fold.classList.remove("open");
             fern.state.folds = { ...fern.state.folds, [fold.dataset.fold]: true };
             for (const part of fold.querySelectorAll(".collapse")) part.classList.add("show");
             for (const part of fold.querySelectorAll(".tab-pane")) part.classList.add("active", "show"); } }"""
    )


def press_escape(page: Page, shown: str) -> None:
    """Escape, until what was shown is gone."""
    page.keyboard.press("Escape")
    expect(page.locator(shown)).to_be_hidden()
