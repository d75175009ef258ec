"""Shapes that people bring for their kinds: read, checked, and kept with the world as they came."""

from __future__ import annotations

import secrets
import threading
from collections import OrderedDict

from fernfield.core.errors import Conflict, NotFound
from fernfield.core.growth.shapes.brought import Brought
from fernfield.formats.model import read_model
from fernfield.store.worlds import ModelRow
from fernfield.work.kernel.world import OpenWorld

MOST_MODELS = 64

_KNOWN: OrderedDict[tuple[str, str], Brought] = OrderedDict()
_LOCK = threading.Lock()


def add_model(world: OpenWorld, name: str, body: bytes) -> ModelRow:
    """Keep a shape with a world. Raises FormatError for a file that is none, Conflict when there are too many."""
    if len(world.store.models(world.id)) >= MOST_MODELS:
        raise Conflict(f"a world keeps at most {MOST_MODELS} shapes")
    shape = read_model(body)
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
