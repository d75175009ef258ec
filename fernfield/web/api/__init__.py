"""The API: one router for each sort of thing, all in this list."""

from fernfield.web.api import jobs, sites, tracts, worlds

ROUTERS = (worlds.router, tracts.router, sites.router, jobs.router)
