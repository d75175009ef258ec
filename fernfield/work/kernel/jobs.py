"""Long work: it runs beside the rest, says how far it is, and stops when asked."""

from __future__ import annotations

import secrets
import threading
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Concatenate, Generic, ParamSpec, Protocol

from fernfield.core.errors import Cancelled, FernError, NotFound
from fernfield.work.kernel.crew import HERE, Crew

REMEMBERED = 500
"""Ended jobs are forgotten, oldest first, past this number."""


P = ParamSpec("P")


class Kind(Protocol):
    """What a job says of its kind."""

    @property
    def name(self) -> str: ...

    @property
    def card(self) -> str: ...


@dataclass
class Job:
    """One piece of long work. States: queued, running, done, failed, cancelled."""

    id: str
    kind: Kind
    world_id: str | None = None
    crew: Crew = HERE
    state: str = "queued"
    progress: float = 0.0
    message: str = ""
    result: dict[str, Any] | None = None
    _stop: threading.Event = field(default_factory=threading.Event)
    _changed: threading.Condition = field(default_factory=threading.Condition)
    version: int = 0

    def step(self, progress: float, message: str) -> None:
        """Say how far the work is (0 to 1) and what it does. Raises Cancelled when asked to stop."""
        if self._stop.is_set():
            raise Cancelled("the job was cancelled")
        self._set(progress=min(max(progress, 0.0), 1.0), message=message)

    def _set(self, **values: Any) -> None:
        with self._changed:
            for name, value in values.items():
                setattr(self, name, value)
            self.version += 1
            self._changed.notify_all()

    def wait(self, version: int, timeout: float) -> int:
        """Wait until the job differs from `version`, or the time is up; returns its version."""
        with self._changed:
            self._changed.wait_for(lambda: self.version != version, timeout)
            return self.version

    @property
    def ended(self) -> bool:
        return self.state in ("done", "failed", "cancelled")

    def public(self) -> dict[str, Any]:
        return {
            "id": self.id,
            "kind": self.kind.name,
            "world": self.world_id,
            "state": self.state,
            "progress": round(self.progress, 4),
            "message": self.message,
            "result": self.result,
        }


@dataclass(frozen=True)
class JobKind(Generic[P]):
    """A sort of long work.

    name : as the API has it; words : what it is called while it goes on
    run : does it, and returns the job's result; it must leave nothing half done when it raises
    card : the template that shows its result, where it has one of its own
    """

    name: str
    words: str
    run: Callable[Concatenate[Job, P], dict[str, Any]]
    card: str = "job_outcome.html"


class Jobs:
    """The jobs of one application. They live in memory: after a restart their names are unknown."""

    def __init__(self, on_error: Callable[[Job, BaseException], None] | None = None, crew: Crew = HERE) -> None:
        self._crew = crew
        self._pool = ThreadPoolExecutor(max_workers=2, thread_name_prefix="job")
        self._jobs: OrderedDict[str, Job] = OrderedDict()
        self._lock = threading.Lock()
        self._on_error = on_error

    def start(self, kind: JobKind[P], world_id: str | None, *args: P.args, **more: P.kwargs) -> Job:
        """Queue a piece of work of some kind, with what its `run` asks for."""
        job = Job(secrets.token_urlsafe(9), kind, world_id, self._crew)
        with self._lock:
            self._jobs[job.id] = job
            for old in [j.id for j in self._jobs.values() if j.ended][: max(0, len(self._jobs) - REMEMBERED)]:
                del self._jobs[old]
        self._pool.submit(self._run, job, partial(kind.run, job, *args, **more))
        return job

    def _run(self, job: Job, work: Callable[[], dict[str, Any]]) -> None:
        try:
            job.step(0.0, "Starting")
            job._set(state="running")
            result = work()
            job._set(state="done", progress=1.0, message="Done", result=result)
        except Cancelled:
            job._set(state="cancelled", message="Cancelled; nothing was changed")
        except FernError as error:
            job._set(state="failed", message=str(error))
        except MemoryError:
            job._set(state="failed", message="There was not enough memory; nothing was changed")
        except Exception as error:
            job._set(state="failed", message="Something went wrong on our side; nothing was changed")
            if self._on_error:
                self._on_error(job, error)

    def get(self, job_id: str) -> Job:
        with self._lock:
            found = self._jobs.get(job_id)
        if found is None:
            raise NotFound(f"there is no job {job_id!r}")
        return found

    def cancel(self, job_id: str) -> Job:
        """Ask a job to stop; it does so at its next step. An ended job stays as it is."""
        job = self.get(job_id)
        job._stop.set()
        if job.state == "queued":
            job._set(message="Cancelling")
        return job

    def close(self) -> None:
        with self._lock:
            for job in self._jobs.values():
                job._stop.set()
        self._pool.shutdown(wait=True, cancel_futures=True)
        self._crew.close()
