"""Waiting for what a test looks at; nothing here waits for a time."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any, TypeVar

from fastapi.testclient import TestClient

Found = TypeVar("Found")

LONGEST_S = 120.0


def until_true(asks: Callable[[], Found], seconds: float = LONGEST_S) -> Found:
    """What a question answers, as soon as that is true. Fails after `seconds`."""
    end = time.monotonic() + seconds
    while not (found := asks()):
        assert time.monotonic() < end, "it never came true"
        time.sleep(0.004)
    return found


def done(client: TestClient, answer: Any, state: str = "done") -> dict[str, Any]:
    """The job that an answer tells of, once it has ended so."""
    assert answer.is_success, answer.text
    at = f"/api/jobs/{answer.json()['job']}"

    def ended() -> dict[str, Any] | None:
        job = client.get(at).json()
        return job if job["state"] in ("done", "failed", "cancelled") else None

    job = dict(until_true(ended) or {})
    assert job["state"] == state, job
    return job
