"""The API: one router for each sort of thing, all in this list."""

from fernfield.web.api import ground, jobs, logbook, pictures, rows, sheets, sites, tracts, worlds

ROUTERS = (
    worlds.router,
    logbook.router,
    sheets.router,
    pictures.router,
    tracts.router,
    ground.router,
    ground.tools,
    sites.router,
    jobs.router,
    rows.router,
)
