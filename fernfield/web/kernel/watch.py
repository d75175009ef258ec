"""What those who run a server are told: counts and times in the open text format; a line for each request and job."""

from __future__ import annotations

import logging
import resource
from pathlib import Path
from typing import Any

from prometheus_client import CollectorRegistry, Counter, Gauge, Histogram, generate_latest
from starlette.types import Scope

from fernfield.work.kernel.jobs import Job
from fernfield.work.studio import Studio

log = logging.getLogger("fernfield.served")

SECONDS = (0.005, 0.02, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30, 60)


class Watch:
    """Counts of one server."""

    def __init__(self, studio: Studio) -> None:
        self._registry = registry = CollectorRegistry()
        self._asked = Counter(
            "fernfield_requests", "Requests answered.", ("method", "path", "status"), registry=registry
        )
        self._took = Histogram(
            "fernfield_request_seconds", "How long answers took.", ("path",), registry=registry, buckets=SECONDS
        )
        self._jobs = Counter("fernfield_jobs", "Jobs ended.", ("kind", "state"), registry=registry)
        self.pages = Gauge("fernfield_pages", "Pages that have a world open.", registry=registry)
        for name, words, count in (
            ("fernfield_worlds_open", "Worlds in memory.", studio.count_open),
            ("fernfield_jobs_running", "Jobs that are being worked on.", studio.jobs.count_running),
            ("fernfield_free_bytes", "Room on the disk of the data folder.", studio.room),
            ("fernfield_database_bytes", "Size of the database.", studio.size),
            ("fernfield_resident_bytes", "Memory of this process.", resident),
        ):
            Gauge(name, words, registry=registry).set_function(count)
        studio.jobs.on_end(self.ended)

    def asked(self, scope: Scope, status: int, seconds: float) -> None:
        """A request was answered."""
        # Its pattern, not the path itself: there are as many of these as worlds and tiles.
        path = _pattern(scope)
        self._asked.labels(scope["method"], path, str(status)).inc()
        self._took.labels(path).observe(seconds)
        state: dict[str, Any] = scope.get("state", {})
        said = {
            "number": state.get("number"), "who": getattr(state.get("guest"), "name", ""), "method": scope["method"],
            "path": scope["path"], "status": status, "ms": round(1000 * seconds, 1),
        }  # fmt: skip
        log.info("request", extra=said)

    def ended(self, job: Job) -> None:
        """A job ended."""
        self._jobs.labels(job.kind.name, job.state).inc()
        said = {"number": job.id, "kind": job.kind.name, "world": job.world_id, "state": job.state, "said": job.message}
        log.info("job", extra=said)

    def text(self) -> bytes:
        return generate_latest(self._registry)


def resident() -> int:
    """Memory of this process. [bytes]"""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * resource.getpagesize()


def _pattern(scope: Scope) -> str:
    """The path of a request with names in the place of ids."""
    path: str = scope["path"]
    if path.startswith(("/static/", "/rooms/", "/at/")):
        return "/static"
    if "endpoint" not in scope:
        return "other"
    named = {str(value): f"{{{name}}}" for name, value in scope.get("path_params", {}).items()}
    return "/".join(named.get(part, part) for part in path.split("/"))
