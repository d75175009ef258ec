"""Long work: it runs beside the rest, says how far it is, and stops when asked."""

from __future__ import annotations

import secrets
import threading
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextvars import copy_context
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Concatenate, Generic, ParamSpec, Protocol

from typing_extensions import TypedDict

from fernfield.core.errors import Cancelled, NotFound
from fernfield.work.kernel.crew import HERE, Crew, give_way
from fernfield.work.kernel.faults import meaning, noted
from fernfield.work.kernel.memory import give_back

REMEMBERED = 500
"""Ended jobs are forgotten, oldest first, past this number."""


CANCELLED = "Cancelled; nothing was changed"

P = ParamSpec("P")


class Kind(Protocol):
    """What a job says of its kind."""

    @property
    def name(self) -> str: ...

    @property
    def card(self) -> str: ...


class JobTold(TypedDict):
    """A job as the API tells it. `progress` goes from 0 to 1; `result` is there when it is done."""

    id: str
    kind: str
    world: str | None
    state: str
    progress: float
    message: str
    result: dict[str, Any] | None


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
    _changed: threading.Condition = field(default_factory=lambda: threading.Condition(threading.RLock()))
    _hearers: list[Callable[[], None]] = field(default_factory=list)
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
            hearers = list(self._hearers)
        for hear in hearers:
            hear()

    def listen(self, hear: Callable[[], None]) -> Callable[[], None]:
        """`hear` is called whenever the job differs, by its worker: be quick. Call what is returned to stop."""
        with self._changed:
            self._hearers.append(hear)
        return lambda: self._hearers.remove(hear)

    def wait(self, version: int, timeout: float) -> int:
        """Wait until the job differs from `version`, or the time is up; returns its version."""
        with self._changed:
            self._changed.wait_for(lambda: self.version != version, timeout)
            return self.version

    @property
    def ended(self) -> bool:
        return self.state in ("done", "failed", "cancelled")

    def public(self) -> JobTold:
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

    def __init__(self, crew: Crew = HERE) -> None:
        self._crew = crew
        self._pool = ThreadPoolExecutor(max_workers=2, thread_name_prefix="job", initializer=give_way)
        self._jobs: OrderedDict[str, Job] = OrderedDict()
        self._lock = threading.Lock()
        self._enders: list[Callable[[Job], None]] = []

    def on_end(self, hear: Callable[[Job], None]) -> None:
        """`hear` is called with every job that ends."""
        self._enders.append(hear)

    def start(self, kind: JobKind[P], world_id: str | None, *args: P.args, **more: P.kwargs) -> Job:
        """Queue a piece of work of some kind, with what its `run` asks for."""
        job = Job(secrets.token_urlsafe(9), kind, world_id, self._crew)
        with self._lock:
            self._jobs[job.id] = job
            for old in [j.id for j in self._jobs.values() if j.ended][: max(0, len(self._jobs) - REMEMBERED)]:
                del self._jobs[old]
        # Who asked for it goes along.
        try:
            self._pool.submit(copy_context().run, self._run, job, partial(kind.run, job, *args, **more))
        except RuntimeError:
            # Asked for while the server ends, by a job that takes back what it did.
            job._set(state="cancelled", message=CANCELLED)
        return job

    def _run(self, job: Job, work: Callable[[], dict[str, Any]]) -> None:
        try:
            with job._changed:
                job.step(0.0, "Starting")
                job._set(state="running")
            result = work()
            job._set(state="done", progress=1.0, message="Done", result=result)
        except Cancelled:
            job._set(state="cancelled", message=CANCELLED)
        except Exception as error:
            meant = meaning(error)
            words = noted(error, f"job {job.id} ({job.kind.name})") if meant is None else str(meant)
            job._set(state="failed", message=words[:1].upper() + words[1:])
        finally:
            for hear in self._enders:
                hear(job)
            give_back()

    def count_running(self) -> int:
        with self._lock:
            return sum(job.state == "running" for job in self._jobs.values())

    def get(self, job_id: str) -> Job:
        with self._lock:
            found = self._jobs.get(job_id)
        if found is None:
            raise NotFound(f"there is no job {job_id!r}")
        return found

    def cancel(self, job_id: str) -> Job:
        """Ask a job to stop: at once when it has not begun, else at its next step. An ended job stays as it is."""
        job = self.get(job_id)
        job._stop.set()
        with job._changed:
            if job.state == "queued":
                job._set(state="cancelled", message=CANCELLED)
        return job

    def close(self) -> None:
        with self._lock:
            for job in self._jobs.values():
                job._stop.set()
        self._pool.shutdown(wait=True, cancel_futures=True)
        self._crew.close()
