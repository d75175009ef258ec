"""The one list of what the rooms bring to the web: their routes, and the panels of the stages in their order."""

from __future__ import annotations

from fernfield.web.rooms.cover.routes import PANEL as COVER
from fernfield.web.rooms.ground import land, pictures, sheets
from fernfield.web.rooms.ground import routes as ground
from fernfield.web.rooms.growth import routes as growth
from fernfield.web.rooms.handover import routes as handover
from fernfield.web.rooms.light.routes import PANEL as LIGHT
from fernfield.web.rooms.sites import routes as sites
from fernfield.web.rooms.trial.routes import PANEL as TRIAL
from fernfield.web.rooms.water.routes import PANEL as WATER
from fernfield.web.rooms.worlds import files, layout, routes
from fernfield.web.rooms.worlds import pages as worlds

PANELS = (ground.PANEL, COVER, growth.PANEL, WATER, LIGHT, sites.PANEL, TRIAL, handover.PANEL)

ROUTERS = (
    routes.router, files.router, layout.router, worlds.router, sheets.router, pictures.router, ground.router,
    land.router, growth.router, sites.router, handover.router,
)  # fmt: skip
