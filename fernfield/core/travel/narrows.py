"""The narrowest place between two others: the fewest posts that have to be closed so that nobody gets through.

By Menger's theorem [1]_ they are as many as there are ways that share no post, which are found one by one, each
leading those before it elsewhere where it has to [2]_: a post bears one way, those near both ends any number.

.. [1] K. Menger (1927), doi:10.4064/fm-10-1-96-115
.. [2] L. R. Ford, D. R. Fulkerson (1956), doi:10.4153/CJM-1956-045-5
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import GridError
from fernfield.core.grid import ByteArray
from fernfield.core.kernels import kernel
from fernfield.core.travel.passable import down_by, right_by

Bool = NDArray[np.bool_]
Small = NDArray[np.int8]
NONE = -1


def narrowest(leave: ByteArray, begins: Bool, ends: Bool) -> NDArray[np.int64]:
    """The fewest posts through which every way leads: shape (n, 2) rows and columns; of several such, those nearest to
    where the ways begin.

    leave : what each post costs to leave in each of eight directions (`passable.passable`), 0 where nobody goes
    begins, ends : the posts where ways begin and end, which are never closed; shape (rows, cols)

    Raises
    ------
    GridError
        If they differ in shape, or a way leads from the one to the other with no post between them.
    """
    _, rows, cols = leave.shape
    if begins.shape != (rows, cols) or ends.shape != (rows, cols):
        raise GridError(f"begins and ends must be of shape {rows, cols}, not {begins.shape} and {ends.shape}")
    role = np.where(begins, 1, np.where(ends, 2, 0)).astype(np.int8).ravel()
    flat = np.ascontiguousarray(leave).reshape(8, -1)
    if _touch(flat, rows, cols, role):
        raise GridError("the two places touch: nothing lies between them")
    came, goes = np.full(rows * cols, NONE, np.int8), np.full(rows * cols, NONE, np.int8)
    far = _steps_to(flat, rows, cols, role)
    seen = np.zeros(2 * rows * cols, np.int32)
    after, before = np.empty(2 * rows * cols, np.int32), np.empty(2 * rows * cols, np.int32)
    heads = np.empty(int(far.max(initial=0)) + 1, np.int32)
    count = 1
    while _one_more(flat, rows, cols, role, came, goes, far, seen, count, after, before, heads):
        count += 1
    cut = np.flatnonzero((seen[0::2] == count) & (seen[1::2] != count) & (role == 0))
    return np.column_stack([cut // cols, cut % cols])


@kernel
def _touch(leave: ByteArray, rows: int, cols: int, role: Small) -> bool:
    for at in range(rows * cols):
        if role[at] != 1:
            continue
        for d in range(8):
            r, c = at // cols + down_by(d), at % cols + right_by(d)
            if leave[d, at] > 0 and 0 <= r < rows and 0 <= c < cols and role[r * cols + c] == 2:
                return True
    return False


@kernel
def _steps_to(leave: ByteArray, rows: int, cols: int, role: Small) -> NDArray[np.int32]:
    """How many steps it is from each post to an end; -1 where none is reached."""
    far = np.full(rows * cols, -1, np.int32)
    queue = np.empty(rows * cols, np.int32)
    head = tail = 0
    for at in range(rows * cols):
        if role[at] == 2:
            far[at] = 0
            queue[tail] = at
            tail += 1
    while head < tail:
        there = queue[head]
        head += 1
        for k in range(8):
            r, c = there // cols - down_by(k), there % cols - right_by(k)
            if r < 0 or r >= rows or c < 0 or c >= cols:
                continue
            at = r * cols + c
            if far[at] < 0 and leave[k, at] > 0:
                far[at] = far[there] + 1
                queue[tail] = at
                tail += 1
    return far


@kernel
def _one_more(
    leave: ByteArray, rows: int, cols: int, role: Small, came: Small, goes: Small, far: NDArray[np.int32],
    seen: NDArray[np.int32], count: int, after: NDArray[np.int32], before: NDArray[np.int32], heads: NDArray[np.int32],
) -> bool:  # fmt: skip
    """Lead one way more from the beginning to an end, if there is one: what is nearest to an end is tried first.

    A post is two states: 2 at comes to it, 2 at + 1 leaves it. seen : the number of the search that came to a state
    after, heads : states by how far their post is from an end, the last found first; before : whence one was come to
    """
    heads[:] = -1
    low = len(heads)
    for at in range(rows * cols):
        if role[at] == 1 and far[at] >= 0:
            state = 2 * at + 1
            seen[state] = count
            before[state] = -1
            after[state] = heads[far[at]]
            heads[far[at]] = state
            low = min(low, far[at])
    while low < len(heads):
        state = heads[low]
        if state < 0:
            low += 1
            continue
        at = state // 2
        heads[low] = after[state]
        if state % 2 == 0 and role[at] == 2:
            _take(cols, role, came, goes, before, state)
            return True
        for k in range(9 if state % 2 else 1):
            to = -1
            if state % 2 == 0:
                # What bears a way already is gone back along, to whence that came.
                d = came[at]
                to = state + 1 if goes[at] == NONE else 2 * (at - down_by(d) * cols - right_by(d)) + 1
            elif k == 8:
                # A way that led on is led elsewhere: then it need not come here.
                if goes[at] != NONE and role[at] == 0:
                    to = state - 1
            elif leave[k, at] > 0:
                r, c = at // cols + down_by(k), at % cols + right_by(k)
                if 0 <= r < rows and 0 <= c < cols and role[r * cols + c] != 1:
                    to = 2 * (r * cols + c)
            if to < 0 or seen[to] == count or far[to // 2] < 0:
                continue
            seen[to] = count
            before[to] = state
            after[to] = heads[far[to // 2]]
            heads[far[to // 2]] = to
            low = min(low, far[to // 2])
    return False


@kernel
def _take(cols: int, role: Small, came: Small, goes: Small, before: NDArray[np.int32], end: int) -> None:
    """Lead a way along the states before an end, and those whose place it takes elsewhere. No state is on it twice."""
    state = end
    while before[state] >= 0:
        one = before[state]
        at, there = one // 2, state // 2
        if one % 2 == 1 and state % 2 == 0:
            if at == there:
                # Nothing leads through this post any more.
                goes[at] = NONE
                came[at] = NONE
            for k in range(8):
                if there // cols - at // cols == down_by(k) and there % cols - at % cols == right_by(k):
                    if role[at] == 0:
                        goes[at] = k
                    if role[there] == 0:
                        came[there] = k
        state = one
