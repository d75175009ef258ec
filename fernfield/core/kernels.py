"""The one place that says how loops are compiled.

Kernels release the interpreter lock, so that threads can share the work, and are cached
on disk. `fastmath` stays off: it trades away the same result on every machine.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ParamSpec, TypeVar, cast

import numba

P = ParamSpec("P")
R = TypeVar("R")


def kernel(function: Callable[P, R]) -> Callable[P, R]:
    """Compile `function` with Numba (nogil, cached), keeping its type for the checker."""
    return cast(Callable[P, R], numba.njit(nogil=True, cache=True, error_model="numpy")(function))


@kernel
def _itself(value: float) -> float:
    return value


def compiled_before() -> bool:
    """Whether the kernels of this version have been compiled on this machine; asks by compiling the smallest one."""
    _itself(0.0)
    return not cast(Any, _itself).stats.cache_misses
