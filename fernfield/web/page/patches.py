"""What a page is sent of the land: pictures and heights of what has changed, and later what that shades further off."""

from __future__ import annotations

import json
import math
import struct
from functools import partial
from typing import Any

from fernfield.core.grid import NOWHERE, ByteArray, Window
from fernfield.web.kernel.pictures import level_window
from fernfield.web.page.messages import View
from fernfield.web.page.shade import BLOCK_PIXELS, Shade, less
from fernfield.work.cover.shares import moved_by
from fernfield.work.growth.standing import widest_crown
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.plan import Unlit, plan_pixels, relit, shadow_window, unlit
from fernfield.work.water.standing import standing_mark

LIGHTS = ("sun", "mood", "beside", "divide_m")
"""What of a view changes its light alone."""
MOST_PATCH_PIXELS = 2_400 * 1_600
MOST_PATCH_POSTS = 200 * 200
"""Heights of larger windows are sent of every second post, or fourth, …"""


def pack(head: dict[str, Any], body: bytes) -> bytes:
    """A binary message: the length of the head, the head as JSON padded to 4 bytes, the body."""
    text = json.dumps(head).encode()
    text += b" " * (-len(text) % 4)
    return struct.pack("<I", len(text)) + text + body


class Patches:
    """The messages that bring a page up to date; what is changed further off is kept for when there is time."""

    def __init__(self, world: OpenWorld) -> None:
        self._world, self._shade = world, Shade()
        self._further = {"shade"}
        """What of the picture changes further off."""
        self._stands: object = None
        self._base: tuple[object, Unlit] | None = None

    @property
    def more(self) -> bool:
        """Whether something further off is still to be drawn."""
        return bool(self._shade)

    def flooded(self, land: Land) -> bool:
        """Whether water stands elsewhere than when this was asked before."""
        with self._world.lock:
            mark = land.id, standing_mark(self._world, land)
        moved, self._stands = self._stands is not None and self._stands != mark, mark
        return moved

    def of(
        self, land: Land, dirty: dict[str, Window], view: View | None, drawn_to: float | None, was: float | None
    ) -> list[str | bytes]:
        """The messages that bring a page up to date: what is stale, its picture, and heights. What is shaded further
        off is kept for later."""
        window = NOWHERE
        for layer, part in dirty.items():
            # One post more: slopes, and so shading and cover rules, reach that far.
            part = land.clip(part.pad(2))
            if layer in ("growth", HEIGHT):
                # A crown and its shade are wider than its foot.
                part = land.clip(part.pad(math.ceil(2 * widest_crown(self._world) / land.grid.spacing)))
            window = window.join(part)
        ground = land.grid.clip(dirty.get(HEIGHT, NOWHERE))
        sent = view is not None and view.heights and not ground.empty
        out = [self._patch(land, window, view, {"layers": sorted(dirty), "drawn_to": drawn_to, "heights": sent})]
        if sent:
            step = 1
            while (ground.rows // step) * (ground.cols // step) > MOST_PATCH_POSTS:
                step *= 2
            ground = Window(ground.row0 // step * step, ground.col0 // step * step, ground.row1, ground.col1)
            with self._world.lock:
                values = land.read(HEIGHT, ground, step)
            told = {"is": "heights", "window": ground.as_list(), "step": step}
            out.append(pack(told, values.astype("<f4").tobytes()))
        moved = NOWHERE
        for layer in {HEIGHT, "cover"} & dirty.keys():
            moved = moved.join(dirty[layer])
        if not moved.empty:
            near = land.clip(moved.pad(2))
            far = moved_by(self._world, land, near)
            if any(True for _ in less(far, near)):
                # Covers that ask what lies further off.
                self._further.add("cover")
            if HEIGHT in dirty and (view is None or view.shadows):
                far = far.join(shadow_window(self._world, land, near, was))
            self._add_shade(near, far, window, view)
        return out

    def _add_shade(self, near: Window, shaded: Window, drawn: Window, view: View | None) -> None:
        if view is None:
            self._shade.add(shaded, near, max(shaded.shape))
        elif any(True for _ in less(shaded, drawn)):
            self._shade.add(shaded, near, math.ceil(BLOCK_PIXELS * max(1.0, 2.0**view.level)))

    def shaded(self, land: Land, view: View | None) -> list[str | bytes]:
        """A piece of what was shaded, drawn again as far as it is looked at; of the rest, that it is out of date."""
        if not self._shade:
            return []
        facts: dict[str, Any] = {"layers": sorted(self._further), "drawn_to": None, "heights": False}
        messages = [self._patch(land, self._shade.take(), view, facts)]
        if not self._shade:
            self._further = {"shade"}
        return messages

    def _turned(self, land: Land, level: int, part: Window, view: View) -> ByteArray:
        """The picture in a light that is being turned: what does not change with it is drawn once."""
        of = land.id, level, part, self._world.revision, view.model_copy(update={**dict.fromkeys(LIGHTS), "shown": 0})
        if self._base is None or self._base[0] != of:
            self._base = of, unlit(self._world, land, level, part, view)
        return relit(self._world, land, self._base[1], view)

    def _patch(self, land: Land, window: Window, view: View | None, facts: dict[str, Any]) -> str | bytes:
        """What is stale in a window of posts, with its picture where it is looked at."""
        head: dict[str, Any] = {"is": "stale", "window": window.as_list(), **facts}
        # A picture without light is the same in any.
        if view is None or (view.plain and set(facts["layers"]) == {"shade"}):
            return json.dumps(head)
        scale = 2.0**view.level
        pixels = Window(
            math.floor(window.row0 / scale),
            math.floor(window.col0 / scale),
            math.ceil(window.row1 / scale) + 1,
            math.ceil(window.col1 / scale) + 1,
        )
        seen = Window(view.row0, view.col0, view.row1, view.col1).meet(level_window(land, view.level))
        pixels = pixels.meet(seen)
        if pixels.empty or pixels.rows * pixels.cols > MOST_PATCH_PIXELS:
            return json.dumps(head)
        turned = any(getattr(view, one) is not None for one in LIGHTS) and set(facts["layers"]) == {"shade"}
        if not turned:
            self._base = None
        draw = self._turned if turned else partial(plan_pixels, self._world)
        picture = draw(land, view.level, pixels, view).tobytes()
        head |= {
            "is": "patch",
            "level": view.level,
            "pixels": pixels.as_list(),
            "shown": view.shown,
            "plain": view.plain,
        }
        return pack(head, picture)
