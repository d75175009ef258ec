"""A heap of posts by their height, for kernels, and heights as whole numbers in the same order."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

Bits = NDArray[np.int32]


def as_bits(heights: FloatArray) -> Bits:
    """Heights as whole numbers that are ordered as they are; the same again gives them back (`as_heights`)."""
    # Adding nothing makes one zero of the two that there are.
    bits = (np.ascontiguousarray(heights, np.float32) + np.float32(0)).view(np.int32)
    return np.asarray(bits ^ ((bits >> 31) & np.int32(0x7FFFFFFF)), np.int32)


def as_heights(bits: Bits) -> FloatArray:
    return np.asarray((bits ^ ((bits >> 31) & np.int32(0x7FFFFFFF))), np.int32).view(np.float32)


@kernel
def push(heap: NDArray[np.int64], size: int, height: int, item: int) -> int:
    """Put an item in, its height above its number (below 2**31): the lowest comes first, of equal ones the smallest
    number. The new size; the heap must have room."""
    key = (np.int64(height) << 32) | np.int64(item)
    at = size
    while at > 0:
        up = (at - 1) >> 2
        if heap[up] < key:
            break
        heap[at] = heap[up]
        at = up
    heap[at] = key
    return size + 1


@kernel
def drop_first(heap: NDArray[np.int64], size: int) -> int:
    """Take the first one out (heap[0]: height << 32 | item); the new size."""
    size -= 1
    key = heap[size]
    at = 0
    while True:
        down = 4 * at + 1
        if down >= size:
            break
        least = heap[down]
        for other in range(down + 1, min(down + 4, size)):
            if heap[other] < least:
                least, down = heap[other], other
        if key < least:
            break
        heap[at] = least
        at = down
    heap[at] = key
    return size


@kernel
def more(values: NDArray[np.int64], room: int) -> NDArray[np.int64]:
    """The same with more room."""
    out = np.empty(room, np.int64)
    out[: values.shape[0]] = values
    return out
