"""Shapes that people bring for their kinds: read, checked, and kept with the world as they came."""

from __future__ import annotations

import secrets
import threading
from collections import OrderedDict
from functools import partial

from fernfield.core.errors import Conflict, NotFound
from fernfield.core.growth.shapes.brought import Brought
from fernfield.formats.model import read_model
from fernfield.store.worlds import ModelRow
from fernfield.work.kernel.apart import apart
from fernfield.work.kernel.windows import Told
from fernfield.work.kernel.world import OpenWorld

MOST_MODELS = 64
MEMORY = 512 << 20
"""What the reading of one may take. [bytes]"""
PATIENCE_S = 20.0
"""Whoever brought it waits for the answer."""

_KNOWN: OrderedDict[tuple[str, str], Brought] = OrderedDict()
_LOCK = threading.Lock()


def _read(body: bytes, _say: Told) -> Brought:
    return read_model(body)


def add_model(world: OpenWorld, name: str, body: bytes) -> ModelRow:
    """Keep a shape with a world. Raises FormatError for a file that is none, Conflict when there are too many."""
    if len(world.store.models(world.id)) >= MOST_MODELS:
        raise Conflict(f"a world keeps at most {MOST_MODELS} shapes")
    shape = apart(partial(_read, body), MEMORY, silent_s=PATIENCE_S)
    row = ModelRow("m" + secrets.token_hex(4), name, shape.triangles, round(shape.tall, 3), round(shape.wide, 3))
    world.store.put_model(world.id, row, body)
    return row


def model_of(world: OpenWorld, key: str) -> Brought:
    """A shape of a world, by its key. Raises NotFound."""
    at = world.id, key
    with _LOCK:
        if at in _KNOWN:
            _KNOWN.move_to_end(at)
            return _KNOWN[at]
    # It was read apart when it came in; it is the same.
    body = world.store.model(world.id, key)
    if body is None:
        known = ", ".join(row.key for row in world.store.models(world.id)) or "none"
        raise NotFound(f"there is no shape {key!r}; there is {known}")
    shape = read_model(body)
    with _LOCK:
        _KNOWN[at] = shape
        while len(_KNOWN) > MOST_MODELS:
            _KNOWN.popitem(last=False)
    return shape
