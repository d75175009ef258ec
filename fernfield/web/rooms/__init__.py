"""The one list of what the rooms bring to the web: their routes, and the panels of the stages in their order."""

from __future__ import annotations

from fernfield.web.rooms.cover import routes as cover
from fernfield.web.rooms.files import pages as files_pages
from fernfield.web.rooms.files import routes as files
from fernfield.web.rooms.ground import land, pictures, sheets
from fernfield.web.rooms.ground import routes as ground
from fernfield.web.rooms.growth import routes as growth
from fernfield.web.rooms.handover import following, onefile, pieces, script, sheet
from fernfield.web.rooms.handover import pages as findings
from fernfield.web.rooms.handover import routes as handover
from fernfield.web.rooms.layout import pages as layout_pages
from fernfield.web.rooms.layout import routes as layout
from fernfield.web.rooms.light import routes as light
from fernfield.web.rooms.making import pages as making
from fernfield.web.rooms.sites import parts
from fernfield.web.rooms.sites import routes as sites
from fernfield.web.rooms.trial import routes as trial
from fernfield.web.rooms.trial import runs
from fernfield.web.rooms.water import routes as water
from fernfield.web.rooms.worlds import bin, pages, routes

PANELS = (ground.PANEL, cover.PANEL, growth.PANEL, water.PANEL, light.PANEL, sites.PANEL, trial.PANEL, handover.PANEL)

ROUTERS = (
    files.imports, onefile.router, routes.router, files.router, layout.router, bin.router, pages.router, making.router,
    files_pages.router, layout_pages.router, sheets.router, pictures.router, ground.router,
    land.router, cover.router, growth.router, water.router, light.router, sites.router, parts.every, parts.router,
    trial.router, trial.every, runs.router, handover.router, following.router, script.router, pieces.router,
    sheet.router,
    findings.router,
)  # fmt: skip
