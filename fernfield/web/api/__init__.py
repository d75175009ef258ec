"""The API: one router for each sort of thing, all in this list."""

from fernfield.web.api import ground, jobs, land, logbook, pictures, rows, sheets, sites, tracts, worlds

ROUTERS = (
    worlds.router,
    logbook.router,
    sheets.router,
    pictures.router,
    tracts.router,
    ground.router,
    ground.tools,
    land.router,
    sites.router,
    jobs.router,
    rows.router,
)
