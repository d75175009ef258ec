"""The API: one router for each sort of thing, all in this list."""

from fernfield.web.api import files, ground, jobs, land, layout, logbook, pictures, rows, sheets, sites, tracts, worlds

ROUTERS = (
    worlds.router,
    files.router,
    layout.router,
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
